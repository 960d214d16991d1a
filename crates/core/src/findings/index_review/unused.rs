//! Indexes that nobody reads: every write keeps them up, and nothing is won by them.
//!
//! Nobody must have read it for a whole cycle of the business, on any server that has it: on a replica it may be read
//! all day. One that a constraint or replication needs, or that forbids equal keys, has its use without being read. Of a
//! pair that says the same neither is called unused: dropping one makes the other read.

use std::collections::HashSet;

use super::duplicate::same_indexes;
use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::{Index, Table};
use crate::wording::{bytes, seconds};

/// An index that nobody has read while it was watched.
pub struct Unread<'a> {
    /// Its table.
    pub table: &'a Table,
    /// The index.
    pub index: &'a Index,
    /// For how long, as far as it was watched on every server that has it.
    pub seconds: f64,
    /// Whether that was a whole cycle of the business.
    pub is_for_a_cycle: bool,
}

/// Indexes that nobody has read, as far as they were watched, and that nothing else needs.
pub fn unread<'a>(evidence: &IndexEvidence<'a, '_>) -> Vec<Unread<'a>> {
    let Some(counted) = &evidence.counted else { return Vec::new() };
    let in_pairs: HashSet<u32> =
        same_indexes(evidence).iter().flat_map(|(_, kept, again)| [kept.oid, again.oid]).collect();
    let not_needed = |(_, index): &(&Table, &Index)| index.only_serves_searches() && !in_pairs.contains(&index.oid);
    evidence
        .whole_indexes()
        .filter(not_needed)
        .filter_map(|(table, index)| {
            let seconds = evidence.unread_seconds(index)?;
            let is_for_a_cycle = seconds >= counted.watched.cycle_seconds();
            Some(Unread { table, index, seconds, is_for_a_cycle })
        })
        .collect()
}

/// Indexes that nobody has read so far, and that were not watched for long enough to call them unused.
pub fn unread_so_far<'a>(evidence: &IndexEvidence<'a, '_>) -> Vec<&'a Index> {
    let is_never_read = |index| evidence.reads_per_day(index) == Some(0.0);
    let waiting = unread(evidence).into_iter().filter(|unread| !unread.is_for_a_cycle && is_never_read(unread.index));
    waiting.map(|unread| unread.index).collect()
}

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    if !evidence.counted.as_ref().is_some_and(|counted| counted.decides()) {
        return Vec::new();
    }
    let finding = |unread: Unread<'_>| {
        let said = format!(
            "Nobody has read {} for {}, on any server that has it: {} that every write keeps up.",
            unread.index.name,
            seconds(unread.seconds),
            bytes(evidence.index_bytes(unread.index))
        );
        let of = (unread.table, unread.index);
        evidence.dropping(IndexFindingKind::Unused, of, None, Certainty::Likely, said)
    };
    unread(evidence).into_iter().filter(|unread| unread.is_for_a_cycle).map(finding).collect()
}
