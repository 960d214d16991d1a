//! Indexes whose keys are the first keys of another: the longer one finds the same rows.

use super::compared::{holds_same_rows, sorts_alike};
use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::{Index, IndexKey, Table};

/// From so many times the size on, reading the longer one instead is felt.
const MUCH_LARGER: f64 = 3.0;

/// Whether one index serves every search that the shorter other one serves.
pub(super) fn contains(longer: &Index, shorter: &Index) -> bool {
    let carries =
        |column: &String| longer.carried.contains(column) || longer.keys.contains(&IndexKey::Column(column.clone()));
    longer.keys.len() > shorter.keys.len()
        && holds_same_rows(longer, shorter)
        && longer.keys.starts_with(&shorter.keys)
        && sorts_alike(longer, shorter, shorter.keys.len())
        && shorter.carried.iter().all(carries)
}

/// The longest index of a table that contains another.
fn container<'a>(table: &'a Table, shorter: &Index) -> Option<&'a Index> {
    let longer = table.indexes.iter().filter(|index| index.valid && contains(index, shorter));
    longer.max_by_key(|index| (index.keys.len(), index.is_needed(), std::cmp::Reverse(index.oid)))
}

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let finding = |(table, index): (&_, &Index)| {
        let longer = container(table, index)?;
        let times = evidence.index_bytes(longer) / evidence.index_bytes(index).max(1.0);
        let said = format!(
            "{} ({}) is the beginning of {} ({}), which finds the same rows.",
            index.name,
            index.key_list(),
            longer.name,
            longer.key_list()
        );
        let (certainty, said) = if times < MUCH_LARGER {
            (Certainty::Likely, said)
        } else {
            (
                Certainty::Possible,
                format!("{said} It is {times:.0} times as large, which searches for many rows will feel."),
            )
        };
        Some(evidence.dropping(IndexFindingKind::Contained, (table, index), Some(longer), certainty, said))
    };
    evidence.whole_indexes().filter(|(_, index)| index.only_serves_searches()).filter_map(finding).collect()
}
