//! Indexes that say the same: same method, keys, order, condition and carried columns.

use std::collections::HashMap;

use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::{Index, Table};

/// Pairs of usable indexes of one table that say the same. The first of a pair is the one to keep: the one that is
/// needed, else one that forbids equal keys, else the older one.
pub fn same_indexes<'a>(evidence: &IndexEvidence<'a, '_>) -> Vec<(&'a Table, &'a Index, &'a Index)> {
    let mut alike: HashMap<_, Vec<(&Table, &Index)>> = HashMap::new();
    for (table, index) in evidence.catalog.indexes().filter(|(_, index)| index.valid) {
        let says = (table.oid, &index.method, index.key_list(), &index.order, &index.condition, &index.carried);
        alike.entry(says).or_default().push((table, index));
    }
    let mut pairs = Vec::new();
    for mut indexes in alike.into_values().filter(|indexes| indexes.len() > 1) {
        let rank = |index: &Index| (!index.is_needed(), !index.unique, index.deferrable, !index.nulls_equal, index.oid);
        indexes.sort_by_key(|(_, index)| rank(index));
        let (table, kept) = indexes[0];
        let others = indexes[1..].iter().filter(|(_, again)| !again.is_needed() && is_promised_by(kept, again));
        pairs.extend(others.map(|(_, again)| (table, kept, *again)));
    }
    pairs.sort_by_key(|(table, _, again)| (table.oid, again.oid));
    pairs
}

/// Whether what one index forbids is forbidden by another on the same keys: two rules of uniqueness are two promises
/// only where one is checked later, or lets several rows without a value pass.
fn is_promised_by(kept: &Index, again: &Index) -> bool {
    !again.unique || (kept.unique && !kept.deferrable && (kept.nulls_equal || !again.nulls_equal))
}

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let finding = |(table, kept, again): (_, &'_ Index, &'_ Index)| {
        let said = format!("{} says the same as {}: {}.", again.name, kept.name, again.key_list());
        let found =
            evidence.dropping(IndexFindingKind::Duplicate, (table, again), Some(kept), Certainty::Certain, said);
        let certainty = if found.held_back.is_none() { Certainty::Certain } else { Certainty::Likely };
        IndexFinding { certainty, ..found }
    };
    same_indexes(evidence).into_iter().map(finding).collect()
}
