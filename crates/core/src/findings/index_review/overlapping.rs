//! Indexes of which one might do for both: the same columns in another order, part of the rows of another, or more keys
//! than one that finds a single row already.

use super::compared::{holds_same_rows, sorts_alike};
use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::Index;

/// Why an index is held against another; nothing where they have different work.
fn overlap(index: &Index, other: &Index) -> Option<String> {
    let keys = index.keys.len();
    if index.oid == other.oid || index.method != "btree" || other.method != "btree" {
        return None;
    }
    if index.keys == other.keys && other.condition.is_none() && sorts_alike(index, other, keys) {
        let condition = index.condition.as_ref()?;
        return Some(format!(
            "{} holds the rows of {} that meet {condition}, by the same keys.",
            index.name, other.name
        ));
    }
    if !holds_same_rows(index, other) {
        return None;
    }
    if other.unique
        && keys > other.keys.len()
        && index.keys.starts_with(&other.keys)
        && sorts_alike(index, other, other.keys.len())
    {
        return Some(format!(
            "{} ({}) begins with the keys of {}, which forbids equal ones: these find one row, and the further keys narrow nothing.",
            index.name,
            index.key_list(),
            other.name
        ));
    }
    let is_permuted = keys > 1
        && keys == other.keys.len()
        && index.keys != other.keys
        && index.keys.iter().all(|key| other.keys.contains(key));
    is_permuted.then(|| {
        format!(
            "{} ({}) has the columns of {} ({}) in another order.",
            index.name,
            index.key_list(),
            other.name,
            other.key_list()
        )
    })
}

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let mut found = Vec::new();
    for (table, index) in evidence.whole_indexes().filter(|(_, index)| index.only_serves_searches()) {
        let others = table.indexes.iter().filter(|other| other.valid);
        let mut beside = others.filter_map(|other| Some((other, overlap(index, other)?)));
        let is_told =
            |other: &Index| overlap(other, index).is_none() || other.unique || is_read_less(evidence, index, other);
        if let Some((other, said)) = beside.find(|(other, _)| is_told(other)) {
            let kind = IndexFindingKind::Overlapping;
            let finding = evidence.found(kind, (table, index), Certainty::Possible, said);
            let worth_bytes = finding.size_bytes;
            found.push(IndexFinding { beside: Some(other.name.clone()), worth_bytes, ..finding });
        }
    }
    found
}

/// Of two that have the same columns the one is told that is read less; where both are alike, the newer one.
fn is_read_less<'a>(evidence: &IndexEvidence<'a, '_>, index: &'a Index, other: &'a Index) -> bool {
    let reads = |index| evidence.reads_per_day(index).unwrap_or_default();
    reads(index).total_cmp(&reads(other)).then(other.oid.cmp(&index.oid)).is_lt()
}
