//! Which tables the server's own vacuum takes next, by its documented rule: a table is due for vacuum where its dead rows,
//! or rows inserted since, pass a threshold plus a share of its rows; for its age, where that passes
//! autovacuum_freeze_max_age; and for new planner statistics, where the rows changed since pass theirs.
//!
//! Laws, tested below: what is due comes before what is not; a table without own upkeep is due for its age alone.

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::readings::operation::UpkeepTable;

/// Why a table is due.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum DueFor {
    /// Rows that are not frozen yet grow too old.
    Age,
    /// Dead rows.
    DeadRows,
    /// Rows inserted since the last vacuum.
    InsertedRows,
    /// Rows changed since the planner's statistics were collected.
    PlannerStatistics,
}

/// A table in the queue.
#[derive(Debug, Clone, PartialEq)]
pub struct Queued<'a> {
    /// The table.
    pub table: &'a UpkeepTable,
    /// What it is due for, or will be first.
    pub due_for: DueFor,
    /// How far that has come: 1 makes it due.
    pub reached: f64,
    /// What was counted, and what makes it due.
    pub counted: (f64, f64),
}

impl Queued<'_> {
    /// Whether the server takes it as soon as a worker is free.
    pub fn is_due(&self) -> bool {
        self.reached > 1.0
    }
}

/// Tables in the order in which they become due: those due for their age first, then by how far they are over. n log n.
pub fn upkeep_queue(tables: &[UpkeepTable]) -> Vec<Queued<'_>> {
    let mut queue: Vec<Queued> = tables.iter().filter_map(next_of).collect();
    let urgency = |queued: &Queued| (queued.is_due() && queued.due_for == DueFor::Age, queued.reached);
    queue.sort_by(|a, b| {
        let (a, b) = (urgency(a), urgency(b));
        b.0.cmp(&a.0).then(b.1.total_cmp(&a.1))
    });
    queue
}

fn next_of(table: &UpkeepTable) -> Option<Queued<'_>> {
    let own = [
        (DueFor::DeadRows, Some(table.dead_rows)),
        (DueFor::InsertedRows, table.inserted_rows),
        (DueFor::PlannerStatistics, Some(table.changed_rows)),
    ];
    let own = own.into_iter().filter(|_| table.is_automatic);
    let all = std::iter::once((DueFor::Age, Some(table.age))).chain(own);
    let reached = all.filter_map(|(due_for, counted)| {
        let counted = counted?;
        let reached = counted.0 / counted.1;
        reached.is_finite().then_some(Queued { table, due_for, reached, counted })
    });
    reached.max_by(|a, b| a.reached.total_cmp(&b.reached))
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn table(name: &str, dead: f64, age: f64) -> UpkeepTable {
        UpkeepTable {
            table: name.into(),
            is_automatic: true,
            dead_rows: (dead, 100.0),
            inserted_rows: Some((10.0, 1000.0)),
            changed_rows: (1.0, 50.0),
            age: (age, 200e6),
            ..UpkeepTable::default()
        }
    }

    #[test]
    fn what_grows_too_old_goes_before_what_has_dead_rows() {
        let tables = [table("quiet", 10.0, 1e6), table("dead", 250.0, 1e6), table("old", 5.0, 201e6)];
        let queue = upkeep_queue(&tables);
        let told: Vec<_> = queue.iter().map(|one| (one.table.table.as_str(), one.due_for, one.is_due())).collect();
        assert_eq!(
            told,
            [("old", DueFor::Age, true), ("dead", DueFor::DeadRows, true), ("quiet", DueFor::DeadRows, false)]
        );
        assert_eq!(queue[1].counted, (250.0, 100.0));
    }

    #[test]
    fn a_table_that_the_server_leaves_alone_is_due_for_its_age_only() {
        let left = UpkeepTable { is_automatic: false, ..table("left", 9e9, 1e6) };
        let queue = [left];
        let queue = upkeep_queue(&queue);
        assert_eq!((queue[0].due_for, queue[0].is_due()), (DueFor::Age, false));
    }

    proptest! {
        #[test]
        fn what_is_due_comes_first(counts in prop::collection::vec((0.0f64..300.0, 0.0f64..4e8), 0..20)) {
            let tables: Vec<UpkeepTable> = counts.iter().map(|(dead, age)| table("berth", *dead, *age)).collect();
            let due: Vec<bool> = upkeep_queue(&tables).iter().map(Queued::is_due).collect();
            prop_assert_eq!(due.len(), tables.len());
            prop_assert!(due.is_sorted_by(|one, next| one >= next));
        }
    }
}
