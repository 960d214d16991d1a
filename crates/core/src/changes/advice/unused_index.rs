//! Advice to drop an index that nobody reads: which those are, `findings::index_review` says.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::{Evidence, IndexUseSeen, Prediction, Rule, Tells};
use crate::findings::effect::{BeforeAfter, Effect, LEAST_BUCKETS, Verdict, effect};
use crate::findings::index_review::{Counted, IndexEvidence, Unread, unread};
use crate::readings::catalog::Catalog;
use crate::readings::statement::has_word;

/// An index of no use.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct UnusedIndex {
    /// Database that it is in.
    pub database: String,
    /// Schema of its table, and of itself.
    pub schema: String,
    /// Its table.
    pub table: String,
    /// The index.
    pub index: String,
    /// Access method, such as `btree`.
    pub method: String,
    /// Its keys in order, as the server writes them.
    pub keys: Vec<String>,
    /// Condition that rows must meet to be in it.
    pub condition: Option<String>,
    /// Its size.
    pub size_bytes: i64,
    /// Seconds for which nobody has read it, on any server that has it.
    pub unread_seconds: f64,
    /// Servers that have it, all of them watched.
    pub servers: usize,
    /// Whether one of its keys is an expression: then the planner may use what is known of that expression's values,
    /// even where it never reads the index.
    pub has_expression: bool,
}

/// What advice on an index is about, in words.
pub fn subject(schema: &str, index: &str, table: &str) -> String {
    format!("{schema}.{index} on {table}")
}

/// Indexes that nobody has read: for a whole cycle, or never so far.
pub fn not_read<'a>(catalog: &'a Catalog, seen: &IndexUseSeen<'a>) -> Vec<Unread<'a>> {
    let reads: HashMap<u32, i64> = seen.reads.rows.iter().map(|(oid, counters)| (*oid, counters.reads)).collect();
    let counted = Counted {
        seconds: 0.0,
        tables: &HashMap::new(),
        index_reads: &HashMap::new(),
        watched: seen.watched,
        is_replica: seen.is_replica,
    };
    // Read once, and then not for a whole cycle, is unread too; never read, and not watched for long, is worth telling.
    unread(&IndexEvidence::new(catalog, seen.at, Some(counted)))
        .into_iter()
        .filter(|unread| unread.is_for_a_cycle || reads.get(&unread.index.oid) == Some(&0))
        .collect()
}

impl Rule for UnusedIndex {
    fn judge(evidence: &Evidence) -> Vec<Self> {
        let Some(seen) = evidence.index_use.filter(|seen| seen.watched.unwatched == 0 && !seen.is_replica) else {
            return Vec::new();
        };
        let mut unused: Vec<UnusedIndex> = not_read(evidence.catalog, &seen)
            .into_iter()
            .filter(|unread| unread.is_for_a_cycle)
            .map(|unread| UnusedIndex {
                database: evidence.catalog.database.clone(),
                schema: unread.table.schema.clone(),
                table: unread.table.name.clone(),
                index: unread.index.name.clone(),
                method: unread.index.method.clone(),
                keys: unread.index.keys.iter().map(|key| key.text().to_owned()).collect(),
                condition: unread.index.condition.clone(),
                size_bytes: unread.index.size_bytes,
                unread_seconds: unread.seconds,
                servers: 1 + seen.watched.elsewhere.len(),
                has_expression: unread.index.leading_columns().count() < unread.index.keys.len(),
            })
            .collect();
        unused.sort_by_key(|unused| std::cmp::Reverse(unused.size_bytes));
        unused
    }
}

impl Tells for UnusedIndex {
    fn database(&self) -> &str {
        &self.database
    }

    fn table(&self) -> (&str, &str) {
        (&self.schema, &self.table)
    }

    fn subject(&self) -> String {
        subject(&self.schema, &self.index, &self.table)
    }

    fn prediction(&self) -> Prediction {
        Prediction { freed_bytes: self.size_bytes as f64, ..Prediction::default() }
    }

    fn families(&self) -> Vec<i64> {
        Vec::new()
    }

    fn is_carried_out(&self, catalog: &Catalog) -> bool {
        let mut tables = catalog.tables.iter().filter(|table| table.schema == self.schema);
        !tables.any(|table| table.indexes.iter().any(|index| index.name == self.index))
    }

    /// One read is enough to keep it. It must be there on every server, as last read of each: between two readings it may have been dropped, and a
    /// replica may tell so before the primary does.
    fn lapses(&self, evidence: &Evidence, _: f64) -> bool {
        let Some(seen) = evidence.index_use else { return false };
        let there = evidence.catalog.indexes().find(|(table, index)| {
            (&table.schema, &table.name, &index.name) == (&self.schema, &self.table, &self.index)
        });
        there.is_some_and(|(_, index)| {
            seen.watched.is_known_everywhere(index.oid) && seen.reads.rows.iter().any(|(oid, _)| *oid == index.oid)
        })
    }

    fn may_touch(&self, statement: &str) -> bool {
        has_word(statement, &self.table)
    }

    fn is_measured_on(&self, _: i64, statement: &str) -> bool {
        has_word(statement, &self.table)
    }

    /// Its space is free once it is gone; what is left to see is whether any statement on its table got slower. Those
    /// are looked at that ran often enough on both sides.
    fn measured(&self, touched: Vec<BeforeAfter>, controls: &[BeforeAfter], seed: u64) -> Effect {
        let ran_before: Vec<BeforeAfter> =
            touched.into_iter().filter(|sides| sides.with_calls().0 >= LEAST_BUCKETS).collect();
        let runs_on = ran_before.iter().filter(|sides| sides.with_calls().1 >= LEAST_BUCKETS);
        let runs_on: Vec<BeforeAfter> = runs_on.cloned().collect();
        let is_idle = ran_before.is_empty();
        let measured = effect(if runs_on.is_empty() { &ran_before } else { &runs_on }, controls, seed);
        let verdict = match measured.verdict {
            Verdict::NoEffect => Verdict::Confirmed,
            Verdict::CannotTell if is_idle => Verdict::Confirmed,
            other => other,
        };
        Effect { verdict, ..measured }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::index_watch::{IndexUse, IndexWatch};
    use crate::findings::lasting_change::Bucket;
    use crate::findings::robust::SeededRng;
    use crate::readings::catalog::Index;
    use crate::readings::catalog::test_catalog::{catalog, index, table};
    use crate::readings::counters::IndexCounters;
    use crate::readings::difference::Snapshot;
    use crate::time::{SECONDS_PER_DAY, Timestamp};

    fn at_day(day: f64) -> Timestamp {
        Timestamp(0).plus_seconds(day * SECONDS_PER_DAY)
    }

    /// What is advised on day 100 for an index that was watched and unread since these days, here and elsewhere.
    fn judged(index: &Index, here: (f64, f64), elsewhere: &[(f64, f64)], unwatched: usize, is_replica: bool) -> usize {
        let watch = |(seen, unread): (f64, f64)| {
            [(index.oid, IndexWatch { seen_since: at_day(seen), unread_since: at_day(unread) })].into()
        };
        let catalog = catalog(0, vec![table("passage", 100.0, &[], vec![index.clone()])]);
        let reads = Snapshot::new(at_day(100.0), at_day(-300.0), vec![(index.oid, IndexCounters::default())]);
        let watched = IndexUse {
            here: watch(here),
            elsewhere: elsewhere.iter().map(|day| watch(*day)).collect(),
            unwatched,
            ..IndexUse::default()
        };
        let seen = IndexUseSeen { at: at_day(100.0), reads: &reads, watched: &watched, is_replica };
        let evidence = Evidence {
            catalog: &catalog,
            families: &[],
            instance_seconds_per_day: 0.0,
            cost_factor: None,
            index_use: Some(seen),
        };
        UnusedIndex::judge(&evidence).len()
    }

    #[test]
    fn only_what_nobody_has_read_anywhere_for_a_whole_cycle_is_advised_to_be_dropped() {
        let fare = index("passage_fare", &["fare"], true);
        let advised = |here, elsewhere: &[(f64, f64)], unwatched| judged(&fare, here, elsewhere, unwatched, false);
        assert_eq!(advised((60.0, 60.0), &[], 0), 1);
        assert_eq!(advised((60.0, 60.0), &[(0.0, 60.0)], 0), 1);
        for (why, here, elsewhere, unwatched) in [
            ("watched for too short a time", (70.0, 70.0), None, 0),
            ("read a week ago", (0.0, 93.0), None, 0),
            ("read on the replica", (0.0, 0.0), Some((0.0, 99.0)), 0),
            ("a replica is not watched", (0.0, 0.0), None, 1),
        ] {
            assert_eq!(advised(here, elsewhere.as_slice(), unwatched), 0, "{why}");
        }
        assert_eq!(judged(&fare, (0.0, 0.0), &[], 0, true), 0, "its primary decides");
        let unique = Index { unique: true, ..fare.clone() };
        let constraint = Index { constraint: true, ..fare.clone() };
        let unusable = Index { valid: false, ..fare };
        for kept in [unique, constraint, unusable] {
            assert_eq!(judged(&kept, (0.0, 0.0), &[], 0, false), 0, "{kept:?}");
        }
    }

    fn buckets(places: std::ops::Range<i64>, ms: f64, seed: u64) -> Vec<Bucket> {
        let mut rng = SeededRng::new(seed);
        places
            .map(|i| {
                let exec_us = (ms * (0.9 + rng.below(1000) as f64 / 5000.0) * 10.0 * 1e3) as i64;
                Bucket { at: Timestamp(i * 10_000_000), seconds: 10.0, calls: 10, exec_us, rows: 0, pages: 0 }
            })
            .collect()
    }

    fn family(before_ms: f64, after_ms: f64, seed: u64) -> BeforeAfter {
        BeforeAfter { before: buckets(0..30, before_ms, seed), after: buckets(30..60, after_ms, seed + 1) }
    }

    #[test]
    fn it_is_confirmed_where_nothing_got_slower_and_harmful_where_something_did() {
        let unused = UnusedIndex {
            database: "passage".into(),
            schema: "public".into(),
            table: "passage".into(),
            index: "passage_fare".into(),
            method: "btree".into(),
            keys: vec!["fare".into()],
            condition: None,
            size_bytes: 8192,
            unread_seconds: 4e6,
            servers: 1,
            has_expression: false,
        };
        let verdict = |touched: Vec<BeforeAfter>| unused.measured(touched, &[family(5.0, 5.0, 7)], 1).verdict;
        assert_eq!(verdict(vec![family(10.0, 10.0, 1)]), Verdict::Confirmed);
        assert_eq!(verdict(vec![]), Verdict::Confirmed, "nothing runs on its table");
        assert_eq!(verdict(vec![family(10.0, 40.0, 1)]), Verdict::Harmful);
        let stopped = BeforeAfter { after: Vec::new(), ..family(9.0, 9.0, 3) };
        assert_eq!(verdict(vec![stopped.clone()]), Verdict::TooEarly);
        assert_eq!(verdict(vec![stopped, family(10.0, 10.0, 1)]), Verdict::Confirmed, "one does not run any more");
        let gone = catalog(0, vec![table("passage", 100.0, &[], vec![])]);
        let there = catalog(0, vec![table("passage", 100.0, &[], vec![index("passage_fare", &["fare"], true)])]);
        assert!(unused.is_carried_out(&gone) && !unused.is_carried_out(&there));

        // Dropped a moment ago, the catalog still shows it: nothing speaks against the advice.
        let oid = there.tables[0].indexes[0].oid;
        let reads = |rows| Snapshot::new(at_day(100.0), at_day(0.0), rows);
        let (read, dropped) = (reads(vec![(oid, IndexCounters::default())]), reads(Vec::new()));
        let watch = || HashMap::from([(oid, IndexWatch { seen_since: at_day(0.0), unread_since: at_day(99.0) })]);
        let everywhere = IndexUse { here: watch(), elsewhere: vec![watch()], ..IndexUse::default() };
        let gone_from_replica = IndexUse { elsewhere: vec![HashMap::new()], ..everywhere.clone() };
        let refuted = |reads, watched| {
            let seen = IndexUseSeen { at: at_day(100.0), reads, watched, is_replica: false };
            let index_use = Some(seen);
            unused.lapses(
                &Evidence {
                    catalog: &there,
                    families: &[],
                    instance_seconds_per_day: 0.0,
                    cost_factor: None,
                    index_use,
                },
                1.0,
            )
        };
        assert!(refuted(&read, &everywhere));
        assert!(!refuted(&dropped, &everywhere) && !refuted(&read, &gone_from_replica));
    }
}
