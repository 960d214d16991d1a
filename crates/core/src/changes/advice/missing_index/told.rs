//! What advice on a missing index tells of itself.

use std::collections::HashSet;

use super::{HelpedFamily, IndexMethod, KeyColumn, MissingIndex};
use crate::changes::advice::{Advice, Evidence, FamilyCost, Prediction, Tells};
use crate::readings::catalog::{Catalog, Index, IndexKey};
use crate::readings::counters::IndexCounters;
use crate::readings::difference::Snapshot;
use crate::readings::statement::has_word;
use crate::time::Window;
use crate::workload::index_form::bare;

/// Advice that is not given anew lapses after so many buckets, a day, where its statements run, and else after so many.
const SILENT_WHILE_RUN: f64 = 144.0;
const SILENT_BUCKETS: f64 = 1200.0;
/// What grew by this factor is another case.
const ANOTHER_CASE: f64 = 2.0;

/// The index of the catalog that does what was advised: usable, beginning with the same keys in the same order, with all
/// that the one advised carries, and holding every row or the same ones.
pub(super) fn fulfilled_by<'a>(advice: &MissingIndex, catalog: &'a Catalog) -> Option<&'a Index> {
    let table = catalog.tables.iter().find(|table| table.schema == advice.schema && table.name == advice.table)?;
    let method = match advice.method {
        IndexMethod::Btree => "btree",
        IndexMethod::Gin => "gin",
    };
    let is_same = |advised: &KeyColumn, key: &IndexKey| match key {
        IndexKey::Column(name) => !advised.is_expression && advised.name == *name,
        IndexKey::Expression(text) => advised.is_expression && bare(text) == bare(&advised.name),
    };
    let condition = advice.holds.as_ref().map(|holds| bare(&holds.condition()));
    table.indexes.iter().find(|index| {
        let has =
            |column: &String| index.carried.contains(column) || index.keys.contains(&IndexKey::Column(column.clone()));
        index.valid
            && index.method == method
            && index.condition.as_deref().map(bare).is_none_or(|held| Some(held) == condition)
            && index.keys.len() >= advice.columns.len()
            && advice.columns.iter().zip(&index.keys).all(|(advised, key)| is_same(advised, key))
            && advice.carried.iter().all(has)
    })
}

impl Tells for MissingIndex {
    fn database(&self) -> &str {
        &self.database
    }

    fn table(&self) -> (&str, &str) {
        (&self.schema, &self.table)
    }

    fn subject(&self) -> String {
        let columns: Vec<&str> = self.columns.iter().map(|key| key.name.as_str()).collect();
        let method = if self.method == IndexMethod::Gin { "gin " } else { "" };
        let mut subject = format!("{}.{} {method}({})", self.schema, self.table, columns.join(", "));
        if !self.carried.is_empty() {
            subject.push_str(&format!(" include ({})", self.carried.join(", ")));
        }
        if let Some(holds) = &self.holds {
            subject.push_str(&format!(" where {}", holds.condition()));
        }
        subject
    }

    fn prediction(&self) -> Prediction {
        Prediction { saved_seconds_per_day: self.saved_seconds_per_day, ..Prediction::default() }
    }

    fn families(&self) -> Vec<i64> {
        self.families.iter().map(|helped| helped.family).collect()
    }

    fn is_carried_out(&self, catalog: &Catalog) -> bool {
        fulfilled_by(self, catalog).is_some()
    }

    /// What ran in one hour says nothing of another: it lapses when its statements ran and were not worth it for a whole
    /// day, or did not run for more than a week.
    fn lapses(&self, evidence: &Evidence, silent_buckets: f64) -> bool {
        let runs = |family: &FamilyCost| self.families.iter().any(|helped| helped.family == family.family);
        let is_run = evidence.families.iter().any(runs);
        silent_buckets >= if is_run { SILENT_WHILE_RUN } else { SILENT_BUCKETS }
    }

    /// An index of the same table that is given now for all of its statements takes its place.
    fn is_taken_over_by(&self, given: &[&Advice]) -> bool {
        let others = given.iter().filter_map(|advice| match advice {
            Advice::MissingIndex(other) if other.table() == self.table() && other.database == self.database => {
                Some(other)
            }
            _ => None,
        });
        let helped: HashSet<i64> = others.flat_map(Tells::families).collect();
        !self.families.is_empty() && self.families.iter().all(|family| helped.contains(&family.family))
    }

    /// It is where most is to be gained on statements that it was not for then, or that take twice as long a call by now,
    /// or where the table is twice as large. That they are called more often changes nothing for a call.
    fn is_another_case(&self, earlier: &Advice) -> bool {
        let Advice::MissingIndex(earlier) = earlier else { return true };
        let is_known = |helped: &&HelpedFamily| {
            let before = earlier.families.iter().find(|before| before.family == helped.family);
            before.is_some_and(|before| helped.now_ms < ANOTHER_CASE * before.now_ms)
        };
        let known: f64 = self.families.iter().filter(is_known).map(|helped| helped.saved_seconds_per_day).sum();
        known < self.saved_seconds_per_day / 2.0 || self.table_rows >= ANOTHER_CASE * earlier.table_rows
    }

    /// Known only where the counts go on since before it was made.
    fn is_unread(&self, made: Window, catalog: &Catalog, reads: &Snapshot<u32, IndexCounters>) -> bool {
        let is_counted = reads.at > made.to && reads.counted_since().is_none_or(|since| since <= made.from);
        let of = fulfilled_by(self, catalog).and_then(|index| reads.rows.iter().find(|(oid, _)| *oid == index.oid));
        is_counted && of.is_some_and(|(_, counters)| counters.reads == 0)
    }

    fn may_touch(&self, statement: &str) -> bool {
        has_word(statement, &self.table)
    }

    fn is_measured_on(&self, family: i64, _: &str) -> bool {
        self.families.iter().any(|helped| helped.family == family)
    }
}

#[cfg(test)]
mod tests {
    use super::super::missing_indexes;
    use super::super::tests::{GATE_LIST, family, leg_catalog, test_index};
    use super::*;
    use crate::readings::catalog::test_catalog::index;
    use crate::time::Timestamp;

    #[test]
    fn open_advice_lapses_when_its_statements_run_without_being_worth_it_or_run_no_more() {
        let catalog = leg_catalog(vec![]);
        let families = [family(1, GATE_LIST, 240.0, 6000, 25)];
        let advice = missing_indexes(&families, &catalog, 20_000.0).remove(0);
        let lapses = |families: &[FamilyCost], silent: f64| {
            let evidence = Evidence {
                catalog: &catalog,
                families,
                instance_seconds_per_day: 1.0,
                cost_factor: None,
                index_use: None,
            };
            advice.lapses(&evidence, silent)
        };
        assert!(!lapses(&families, 100.0) && lapses(&families, 150.0));
        assert!(!lapses(&[], 1000.0) && lapses(&[], 1300.0));
    }

    #[test]
    fn what_another_index_of_the_table_promises_is_not_promised_twice() {
        let of = |table: &str, families: &[(i64, f64, f64)]| test_index(table, families);
        let narrow = of("passage_leg", &[(1, 240.0, 20.0)]);
        let is_taken_over = |table: &str, family: i64| {
            let wide = Advice::MissingIndex(of(table, &[(family, 240.0, 2.0), (3, 9.0, 1.0)]));
            narrow.is_taken_over_by(&[&wide])
        };
        assert!(is_taken_over("passage_leg", 1));
        assert!(!is_taken_over("passage_leg", 2), "its own statement is not helped");
        assert!(!is_taken_over("crossing", 1), "another table's index stands beside it");
        assert!(!narrow.is_taken_over_by(&[]));
    }

    #[test]
    fn what_was_useless_is_another_case_with_other_statements_or_slower_ones_and_not_with_more_calls() {
        let catalog = leg_catalog(vec![]);
        let advised = |families: &[FamilyCost]| missing_indexes(families, &catalog, 20_000.0).remove(0);
        let earlier = Advice::MissingIndex(advised(&[family(1, GATE_LIST, 240.0, 6000, 25)]));
        let often = FamilyCost { calls_per_day: 600_000.0, ..family(1, GATE_LIST, 240.0, 6000, 25) };
        assert!(!advised(&[often]).is_another_case(&earlier));
        assert!(advised(&[family(1, GATE_LIST, 600.0, 6000, 25)]).is_another_case(&earlier));
        assert!(advised(&[family(2, GATE_LIST, 240.0, 6000, 25)]).is_another_case(&earlier));
        let mut grown = advised(&[family(1, GATE_LIST, 240.0, 6000, 25)]);
        grown.table_rows *= 2.0;
        assert!(grown.is_another_case(&earlier));
    }

    #[test]
    fn unread_is_what_was_counted_since_before_it_was_made_and_never_read() {
        let advice =
            missing_indexes(&[family(1, GATE_LIST, 240.0, 6000, 25)], &leg_catalog(vec![]), 20_000.0).remove(0);
        let made = leg_catalog(vec![index("leg_crossing_state", &["crossing_id", "state"], true)]);
        let oid = made.tables[0].indexes[0].oid;
        let at = |seconds: f64| Timestamp(0).plus_seconds(seconds);
        let window = Window { from: at(100.0), to: at(110.0) };
        let read = |read_at: f64, reset_at: Option<f64>, reads: i64| {
            let counters = IndexCounters { reads, ..IndexCounters::default() };
            let snapshot = Snapshot::new(at(read_at), at(0.0), vec![(oid, counters)]);
            advice.is_unread(window, &made, &Snapshot { reset_at: reset_at.map(at), ..snapshot })
        };
        assert!(read(200.0, None, 0) && read(200.0, Some(50.0), 0));
        assert!(!read(200.0, None, 1) && !read(200.0, Some(150.0), 0) && !read(105.0, None, 0));
    }
}
