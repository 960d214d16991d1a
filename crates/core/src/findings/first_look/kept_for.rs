//! What keeps vacuum from removing dead row versions.
//!
//! The server keeps a version as long as the oldest snapshot, running or prepared transaction, slot or replica may
//! still need it, and no longer: a transaction that is open but has neither written nor holds a snapshot keeps none.
//! Each tells how many transactions old what it needs is; the oldest decides.

use super::evidence::{Evidence, LookedAt};
use crate::readings::metric::Metric;
use crate::wording::{number, seconds};

/// A session is named from so many seconds of its transaction on: before, it is daily life.
const LEAST_SECONDS: f64 = 30.0;
/// A slot or a replica lags a little behind in any case; it is named from so many transactions on.
const LEAST_TRANSACTIONS: f64 = 10_000.0;

/// What decides which versions of rows are kept in the watched database, in words; nothing where nothing holds vacuum
/// back for long. What keeps only the catalog of the server counts where no table is asked about.
pub(super) fn rows_are_kept_for(evidence: &Evidence, with_catalog: bool) -> Option<String> {
    let database = evidence.catalog.as_ref().map(|catalog| catalog.database.as_str());
    let concerns = |object: &str| match object.rsplit_once(" in ") {
        Some((_, of)) if !object.starts_with("slot ") && !object.starts_with("replica ") => {
            database.is_none_or(|database| of == database)
        }
        _ => with_catalog || !object.starts_with("catalog of slot "),
    };
    let told = |(object, age): (&str, f64)| {
        let held = format!("{} transactions", number(age));
        if let Some(account) = object.strip_prefix("session of ").map(|rest| rest.split(" in ").next().unwrap_or(rest))
        {
            let (session, open) = oldest_of(evidence, account)?;
            let LookedAt { program, process, .. } = session;
            let text =
                format!("the transaction of {account} ({program}, process {process}), open for {}", seconds(open));
            (open >= LEAST_SECONDS).then(|| format!("{text}, {held} old"))
        } else if object.starts_with("prepared transaction ") {
            let since = evidence.measured(Metric::OldestPrepared).unwrap_or_default();
            (since >= LEAST_SECONDS)
                .then(|| format!("the {object}, prepared {} ago and never finished", seconds(since)))
        } else {
            (age >= LEAST_TRANSACTIONS).then(|| format!("the {object}, which needs what is {held} old"))
        }
    };
    evidence.largest_of(Metric::XminAge).into_iter().filter(|(object, _)| concerns(object)).find_map(told)
}

/// The session of an account whose transaction is open longest, with the seconds.
fn oldest_of<'a>(evidence: &'a Evidence, account: &str) -> Option<(&'a LookedAt, f64)> {
    let sessions = evidence.lately.sessions.iter().filter(|session| session.account == account);
    let open =
        |session: &'a LookedAt| session.transaction_started_at.map(|began| (session, evidence.at.seconds_since(began)));
    sessions.filter_map(open).max_by(|a, b| a.1.total_cmp(&b.1))
}

#[cfg(test)]
mod tests {
    use super::super::evidence::NewestValue;
    use super::*;
    use crate::time::Timestamp;

    fn evidence(ages: &[(&str, f64)]) -> Evidence {
        let measured = |(object, value): &(&str, f64)| NewestValue {
            metric: Metric::XminAge,
            object: (*object).into(),
            value: *value,
        };
        let session = |process: i32, account: &str, seconds: i64| LookedAt {
            process,
            account: account.into(),
            program: "season report".into(),
            transaction_started_at: Some(Timestamp(600_000_000 - seconds * 1_000_000)),
            ..LookedAt::default()
        };
        let mut evidence = Evidence {
            at: Timestamp(600_000_000),
            measures: ages.iter().map(measured).collect(),
            catalog: Some(crate::readings::catalog::test_catalog::catalog(1, vec![])),
            ..Evidence::default()
        };
        evidence.lately.sessions = vec![session(7, "office", 480), session(8, "office", 20), session(9, "gate", 3)];
        evidence
    }

    fn kept_for(ages: &[(&str, f64)]) -> Option<String> {
        rows_are_kept_for(&evidence(ages), false)
    }

    #[test]
    fn the_oldest_that_counts_in_this_database_is_named() {
        let database = evidence(&[]).catalog.unwrap().database;
        let of = |account: &str| format!("session of {account} in {database}");
        let (office, gate) = (of("office"), of("gate"));
        let found = kept_for(&[(&gate, 900.0), (&office, 700.0)]).unwrap();
        assert!(found.contains("office (season report, process 7), open for 8\u{a0}min"), "{found}");
        assert!(found.ends_with("700 transactions old"), "{found}");
        // An open transaction without a snapshot has no age, and keeps nothing.
        assert_eq!(kept_for(&[(&gate, 900.0)]), None);
        assert_eq!(kept_for(&[("session of office in elsewhere", 700.0)]), None);
    }

    #[test]
    fn slots_and_replicas_count_once_they_lag() {
        assert_eq!(kept_for(&[("slot lake", 900.0), ("replica b", 800.0)]), None);
        assert!(kept_for(&[("slot lake", 5e6), ("replica b", 800.0)]).unwrap().starts_with("the slot lake, which"));
        let catalog = [("catalog of slot lake", 5e6)];
        assert_eq!(kept_for(&catalog), None, "it keeps no rows of tables");
        assert!(rows_are_kept_for(&evidence(&catalog), true).unwrap().contains("catalog of slot lake"));
    }
}
