use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use super::kept_for::rows_are_kept_for;
use crate::changes::remedy::Remedy;
use crate::readings::metric::Metric;
use crate::wording::{number, percent};

/// Transactions at which a server stops taking new ones: three million before half of 2³².
const STOPS_AT: f64 = 2_147_483_648.0 - 3_000_000.0;
/// Age from which on somebody should act.
const AGE_TO_ACT: f64 = 1e9;
/// Autovacuum freezes from a set age on; an age so many times that means that it does not get through.
const BEHIND_FACTOR: f64 = 1.25;

/// How far the server is from running out of transaction ids.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let Some((_, oldest)) = evidence.largest_of(Metric::TransactionAge).first().copied() else {
        notes.unknown(
            "Ages were not read yet.",
            Step::new("Wait for the next reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::TransactionIds, "");
    };
    ages(&mut notes, evidence, Metric::TransactionAge, "autovacuum_freeze_max_age", "transaction ids");
    ages(
        &mut notes,
        evidence,
        Metric::MultixactAge,
        "autovacuum_multixact_freeze_max_age",
        "numbers of shared row locks",
    );
    for (metric, what) in [(Metric::TableAge, "Age"), (Metric::TableMultixactAge, "Age of shared row locks")] {
        for (table, age) in evidence.largest_of(metric).into_iter().filter(|(_, age)| *age > 0.0).take(3) {
            notes.fact(format!("{what} of {table}, with its TOAST table"), number(age));
        }
    }
    notes.done(
        Check::TransactionIds,
        format!(
            "The oldest is {} transactions old, {} of the way to the end.",
            number(oldest),
            percent(oldest / STOPS_AT)
        ),
    )
}

fn ages(notes: &mut Notes, evidence: &Evidence, metric: Metric, setting: &str, what: &str) {
    let freezes_at = evidence.setting_number(setting);
    let kept_for = rows_are_kept_for(evidence, true);
    if let Some(freezes_at) = freezes_at {
        notes.fact(setting, number(freezes_at));
    }
    for (database, age) in evidence.largest_of(metric) {
        notes.fact(
            format!("Age of {what} in {database}"),
            format!("{}, {} of the way to the end", number(age), percent(age / STOPS_AT)),
        );
        let text = format!(
            "The {what} of {database} are {} of the way to the end, where the server stops taking transactions.",
            percent(age / STOPS_AT)
        );
        let step = match &kept_for {
            Some(kept_for) => Step::new(format!("First end what keeps vacuum from freezing rows: {kept_for}. Then:")),
            None => Step::new("Find out why vacuum does not get through the oldest tables, then freeze:"),
        };
        let step = step.run(Remedy::FreezeDatabase);
        if age >= AGE_TO_ACT {
            notes.act(text, step);
        } else if freezes_at.is_some_and(|freezes_at| age >= BEHIND_FACTOR * freezes_at) {
            notes.look(text, step);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::evidence::{NewestValue, SettingInForce};
    use super::*;
    use crate::findings::health::Health;

    #[test]
    fn ages_are_judged_by_what_upkeep_should_reach() {
        let verdict = |age: f64| {
            let setting = SettingInForce {
                name: "autovacuum_freeze_max_age".into(),
                value: Some("200000000".into()),
                ..SettingInForce::default()
            };
            let measures = vec![NewestValue { metric: Metric::TransactionAge, object: "settle".into(), value: age }];
            check(&Evidence { measures, settings: vec![setting], ..Evidence::default() }).verdict()
        };
        assert_eq!(
            [199e6, 240e6, 260e6, 1.1e9].map(verdict),
            [Health::Quiet, Health::Quiet, Health::Look, Health::Act]
        );
        assert_eq!(check(&Evidence::default()).verdict(), Health::NoData);
    }
}
