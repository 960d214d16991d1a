//! What would keep a hold-up from coming back, by the pattern that was seen. Ending the holder helps now and not for good.

use strum::{EnumString, IntoStaticStr, VariantArray};

use super::{Episode, Wait};
use crate::findings::unindexed_reference::unindexed_references;
use crate::readings::activity::PREPARED;
use crate::readings::catalog::Catalog;
use crate::wording::{counted, number, percent, seconds};

/// A holder that was idle for at least this share of the time holds its locks for no reason.
const MOSTLY: f64 = 0.5;
/// A transaction that was open for so long before anybody waited, and works, does too much at once, in seconds.
const LONG_SECONDS: f64 = 30.0;
/// The mode that suffers no other.
const EXCLUSIVE: &str = "AccessExclusiveLock";

/// Why sessions held each other up.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Pattern {
    /// Sessions locked the same things in different orders.
    LockOrder,
    /// A prepared transaction holds locks, and no session does.
    PreparedTransaction,
    /// The holder was idle in its transaction.
    IdleInTransaction,
    /// The holder locked a whole table by name.
    ExplicitTableLock,
    /// The holder changed the definition of a table, or built something on it.
    DefinitionChange,
    /// A change of a definition waited, and others stood behind it that the holder would have let through.
    DdlQueue,
    /// A lock that programs agree on, of which the server knows no table.
    AdvisoryLock,
    /// The holder deletes rows that tables refer to by columns without an index.
    UnindexedReference,
    /// The holder wrote much in one transaction.
    LongWrite,
}

/// What the holder was known to do, and on what.
#[derive(Debug, Clone, Copy, Default)]
pub struct HolderWork<'a> {
    /// Its statement, or the last one.
    pub statement: &'a str,
    /// Tables of its database.
    pub catalog: Option<&'a Catalog>,
}

/// What would keep a hold-up from coming back.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Repair {
    /// The pattern.
    pub pattern: Pattern,
    /// What shows it.
    pub evidence: String,
    /// What to change.
    pub step: &'static str,
}

/// What would keep a hold-up from coming back, the likeliest first; nothing where no pattern is seen. Linear in the waits
/// and in the tables.
pub fn repairs(episode: &Episode, work: HolderWork) -> Vec<Repair> {
    let tests: [fn(&Episode, HolderWork) -> Option<Repair>; 9] = [
        lock_order,
        prepared,
        idle,
        explicit_lock,
        definition_change,
        ddl_queue,
        advisory,
        unindexed_reference,
        long_write,
    ];
    tests.iter().filter_map(|test| test(episode, work)).collect()
}

/// The table whose rows a statement deletes, or the first of several that were sent together.
pub fn deletes_from(statement: &str) -> Option<String> {
    sent_together(statement).find_map(deletes_alone)
}

fn deletes_alone(statement: &str) -> Option<String> {
    let mut words = statement.split_whitespace();
    let is = |word: Option<&str>, wanted: &str| word.is_some_and(|word| word.eq_ignore_ascii_case(wanted));
    if !(is(words.next(), "delete") && is(words.next(), "from")) {
        return None;
    }
    let table = words.find(|word| !word.eq_ignore_ascii_case("only"))?;
    // Only a quoted name keeps its capitals.
    let name = |part: &str| if part.starts_with('"') { part.replace('"', "") } else { part.to_ascii_lowercase() };
    Some(table.split('.').map(name).collect::<Vec<_>>().join("."))
}

fn lock_order(episode: &Episode, _: HolderWork) -> Option<Repair> {
    episode.is_circle.then(|| Repair {
        pattern: Pattern::LockOrder,
        evidence: format!("{} waited for each other.", counted(episode.most_waiting, "session")),
        step: "Have every program lock tables and rows in one order, such as by key, and repeat a transaction that the server ended for a deadlock.",
    })
}

fn prepared(episode: &Episode, _: HolderWork) -> Option<Repair> {
    (episode.holder.process == PREPARED).then(|| Repair {
        pattern: Pattern::PreparedTransaction,
        evidence: format!("No session holds the locks: the {} does.", episode.who.program),
        step: "Ask its owner whether to run COMMIT PREPARED or ROLLBACK PREPARED, and have whatever coordinates such transactions look for those that it left behind. Set max_prepared_transactions to 0 where nobody needs them.",
    })
}

fn idle(episode: &Episode, _: HolderWork) -> Option<Repair> {
    let share = episode.idle_share();
    (share >= MOSTLY && episode.holder.process != PREPARED).then(|| Repair {
        pattern: Pattern::IdleInTransaction,
        evidence: format!(
            "The holder was idle in its transaction for {} of the {} in which others waited.",
            percent(share),
            seconds(episode.seconds)
        ),
        step: "Have its program end the transaction before it waits for a person or for another service. idle_in_transaction_session_timeout, set for its account, ends the session otherwise.",
    })
}

fn explicit_lock(_: &Episode, HolderWork { statement, .. }: HolderWork) -> Option<Repair> {
    begins(statement, &["lock "]).then(|| Repair {
        pattern: Pattern::ExplicitTableLock,
        evidence: "The holder's statement locks a table by name.".into(),
        step: "Lock the rows that are meant, with SELECT … FOR UPDATE, or take the weakest mode that does; take it last, just before the transaction ends.",
    })
}

fn definition_change(_: &Episode, HolderWork { statement, .. }: HolderWork) -> Option<Repair> {
    let kinds = [
        "alter table",
        "create index",
        "create unique index",
        "reindex",
        "cluster",
        "truncate",
        "vacuum full",
        "drop ",
    ];
    let changes = begins(statement, &kinds) && !statement.to_ascii_lowercase().contains("concurrently");
    changes.then(|| Repair {
        pattern: Pattern::DefinitionChange,
        evidence: "The holder changes a table's definition, or builds something on it.".into(),
        step: "Use CONCURRENTLY for indexes, add constraints as NOT VALID and validate them later, and do the rest in a maintenance window.",
    })
}

fn ddl_queue(episode: &Episode, _: HolderWork) -> Option<Repair> {
    let queued: Vec<&Wait> = episode.waits.iter().filter(|wait| wait.is_queued).collect();
    let wanted = episode.waits.iter().find(|wait| {
        wait.lock.as_ref().is_some_and(|lock| lock.mode == EXCLUSIVE && lock.kind == "relation") && !wait.is_queued
    })?;
    let table = &wanted.lock.as_ref()?.object;
    let alike = queued.iter().filter(|wait| wait.lock.as_ref().is_some_and(|lock| lock.object == *table)).count();
    (alike > 0).then(|| Repair {
        pattern: Pattern::DdlQueue,
        evidence: format!(
            "Process {} wanted {EXCLUSIVE} on {table}, and {} stood behind it that the holder would have let through.",
            wanted.session.process,
            counted(alike, "session")
        ),
        step: "Run such changes with a lock_timeout of a few seconds and repeat them until they get through: while they wait, everybody else waits behind them.",
    })
}

fn advisory(episode: &Episode, _: HolderWork) -> Option<Repair> {
    let of = episode.waits.iter().filter(|wait| wait.lock.as_ref().is_some_and(|lock| lock.kind == "advisory")).count();
    (of * 2 > episode.waits.len()).then(|| Repair {
        pattern: Pattern::AdvisoryLock,
        evidence: format!("{} of {} were for an advisory lock.", of, counted(episode.waits.len(), "wait")),
        step: "Look where the programs take it: hold it for the shortest part of the work, or try it with pg_try_advisory_lock and come back later.",
    })
}

fn unindexed_reference(episode: &Episode, HolderWork { statement, catalog }: HolderWork) -> Option<Repair> {
    let parent = deletes_from(statement)?;
    let found = unindexed_references(catalog?, &parent);
    let (table, reference) = found.first().filter(|_| episode.holder.process != PREPARED)?;
    let others =
        if found.len() > 1 { format!(", and of {}", counted(found.len() - 1, "other table")) } else { String::new() };
    Some(Repair {
        pattern: Pattern::UnindexedReference,
        evidence: format!(
            "The holder deletes from {parent}: for each row the server reads all {} rows of {}, which refers to it by {} without an index{others}.",
            number(table.rows.unwrap_or_default()),
            table.qualified_name(),
            reference.columns.join(", "),
        ),
        step: "Create an index on the columns that refer, with CREATE INDEX CONCURRENTLY: the delete then takes as long as its own rows, and holds its locks no longer.",
    })
}

fn long_write(episode: &Episode, _: HolderWork) -> Option<Repair> {
    let began = episode.transaction_started_at?;
    let before = episode.from.seconds_since(began);
    let of_rows =
        |wait: &Wait| wait.lock.as_ref().is_some_and(|lock| matches!(lock.kind.as_str(), "transactionid" | "tuple"));
    let rows = episode.waits.iter().filter(|wait| of_rows(wait)).count();
    let works = episode.idle_share() < MOSTLY && episode.holder.process != PREPARED && !episode.is_circle;
    (works && before >= LONG_SECONDS && rows * 2 > episode.waits.len()).then(|| Repair {
        pattern: Pattern::LongWrite,
        evidence: format!(
            "The holder worked, and its transaction had been open for {} when the first one waited for its rows.",
            seconds(before)
        ),
        step: "Write in smaller transactions, and change the rows that many want last.",
    })
}

/// Whether a statement, or one of several that were sent together, begins so.
fn begins(statement: &str, words: &[&str]) -> bool {
    let statement = statement.to_ascii_lowercase();
    sent_together(&statement).any(|one| words.iter().any(|word| one.starts_with(word)))
}

/// The statements of a text such as "BEGIN; LOCK TABLE pier": a client may send several at once.
fn sent_together(text: &str) -> impl Iterator<Item = &str> {
    text.split(';').map(str::trim)
}

#[cfg(test)]
mod tests {
    use super::super::{Episodes, Look, Party, SessionKey, Who};
    use super::*;
    use crate::readings::activity::AwaitedLock;
    use crate::readings::catalog::ForeignKey;
    use crate::readings::catalog::test_catalog::{catalog, table};
    use crate::time::Timestamp;

    fn party(process: i32, blocked_by: &[i32], lock: Option<(&str, &str)>) -> Party {
        Party {
            session: SessionKey { process, started_at: Timestamp(7) },
            who: Who { program: "gate desk".into(), ..Who::default() },
            is_idle: false,
            transaction_started_at: Some(Timestamp(0)),
            statement_started_at: Some(Timestamp(i64::from(process))),
            family: None,
            blocked_by: blocked_by.to_vec(),
            awaited: lock.map(|(mode, kind)| AwaitedLock {
                mode: mode.into(),
                kind: kind.into(),
                object: "public.pier".into(),
            }),
        }
    }

    const ROW: Option<(&str, &str)> = Some(("ShareLock", "transactionid"));

    fn patterns(parties: Vec<Party>, statement: &str) -> Vec<Pattern> {
        patterns_at(600, parties, statement)
    }

    fn patterns_at(second: i64, parties: Vec<Party>, statement: &str) -> Vec<Pattern> {
        let mut episodes = Episodes::default();
        episodes.go_on(&Look::new(Timestamp(second * 1_000_000), 1.0, parties));
        let open = episodes.into_open();
        repairs(&open[0], HolderWork { statement, catalog: None }).into_iter().map(|repair| repair.pattern).collect()
    }

    #[test]
    fn each_pattern_is_told_by_what_was_seen() {
        let idle = Party { is_idle: true, ..party(1, &[], None) };
        assert_eq!(patterns(vec![idle, party(2, &[1], ROW)], "update berth"), [Pattern::IdleInTransaction]);
        assert_eq!(patterns(vec![party(1, &[], None), party(2, &[1], ROW)], "update berth"), [Pattern::LongWrite]);
        assert_eq!(patterns(vec![party(1, &[2], ROW), party(2, &[1], ROW)], "update berth"), [Pattern::LockOrder]);
        assert_eq!(
            patterns(vec![party(PREPARED, &[], None), party(2, &[PREPARED], ROW)], ""),
            [Pattern::PreparedTransaction]
        );
        let table = Some(("RowExclusiveLock", "relation"));
        let locks = |statement| patterns(vec![party(1, &[], None), party(2, &[1], table)], statement);
        assert_eq!(locks("LOCK TABLE pier IN SHARE MODE"), [Pattern::ExplicitTableLock]);
        assert_eq!(locks("begin; lock table pier in share mode"), [Pattern::ExplicitTableLock]);
        assert_eq!(locks("create index on pier (depth)"), [Pattern::DefinitionChange]);
        let advisory = Some(("ExclusiveLock", "advisory"));
        assert_eq!(patterns(vec![party(1, &[], None), party(2, &[1], advisory)], "select ?"), [Pattern::AdvisoryLock]);
        let queue = vec![
            party(1, &[], None),
            party(2, &[1], Some((EXCLUSIVE, "relation"))),
            party(3, &[2], Some(("AccessShareLock", "relation"))),
        ];
        assert_eq!(patterns(queue, "select count(*) from pier"), [Pattern::DdlQueue]);
    }

    #[test]
    fn a_delete_that_reads_a_whole_child_table_is_told_with_the_columns() {
        let mut leg = table("passage_leg", 2e6, &[("crossing_id", 90.0)], vec![]);
        let reference =
            ForeignKey { name: "leg".into(), columns: vec!["crossing_id".into()], parent: "public.crossing".into() };
        leg.foreign_keys = vec![reference];
        let catalog = catalog(1, vec![leg]);
        let mut episodes = Episodes::default();
        episodes.go_on(&Look::new(Timestamp(2_000_000), 1.0, vec![party(1, &[], None), party(2, &[1], ROW)]));
        let open = episodes.into_open();
        let told = |statement| repairs(&open[0], HolderWork { statement, catalog: Some(&catalog) });
        let [repair] = &told("DELETE FROM ONLY \"crossing\" WHERE crossing_id = $1")[..] else { panic!("one repair") };
        assert_eq!(repair.pattern, Pattern::UnindexedReference);
        assert!(
            repair.evidence.contains("public.passage_leg, which refers to it by crossing_id"),
            "{}",
            repair.evidence
        );
        assert_eq!(told("DELETE FROM vessel WHERE vessel_id = $1"), []);
        assert_eq!(deletes_from("delete from public.deck;"), Some("public.deck".into()));
        assert_eq!(deletes_from("Delete From Public.\"Deck\" WHERE ?"), Some("public.Deck".into()));
        assert_eq!(deletes_from("begin; delete from deck where ?"), Some("deck".into()));
        assert_eq!(deletes_from("select ? from deck"), None);
    }

    #[test]
    fn nothing_is_advised_where_no_pattern_is_seen() {
        assert_eq!(patterns_at(2, vec![party(1, &[], None), party(2, &[1], ROW)], "update berth"), [], "it was short");
        let table = Some(("RowExclusiveLock", "relation"));
        assert_eq!(
            patterns(vec![party(1, &[], None), party(2, &[1], table)], "create index concurrently on pier (depth)"),
            []
        );
    }
}
