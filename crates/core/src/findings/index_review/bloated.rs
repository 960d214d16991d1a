//! B-trees that are larger than they would be if they were built anew: by estimate, from the rows and the widths that
//! the planner knows.

use super::{Certainty, IndexChange, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::changes::remedy::Qualified;
use crate::findings::index_size::rebuilt_bytes;
use crate::wording::bytes;

/// From so many times its size on an index is called bloated: a B-tree under random writes settles at about 1.4.
const BLOATED: f64 = 1.7;
/// From so many times on, no error of the estimate explains it.
const PLAINLY_BLOATED: f64 = 3.0;

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let indexes = evidence.catalog.indexes().filter(|(_, index)| index.valid);
    indexes
        .filter_map(|(table, index)| {
            let (size, rebuilt) = (index.size_bytes as f64, rebuilt_bytes(table, index)?);
            if size < BLOATED * rebuilt {
                return None;
            }
            let certainty = if size < PLAINLY_BLOATED * rebuilt { Certainty::Possible } else { Certainty::Likely };
            let said =
                format!("{} takes {}; built anew it would take about {}.", index.name, bytes(size), bytes(rebuilt));
            let found = evidence.found(IndexFindingKind::Bloated, (table, index), certainty, said);
            let freed_bytes = size - rebuilt;
            let change = Some(IndexChange::Rebuild(Qualified::new(&table.schema, &index.name)));
            Some(IndexFinding { freed_bytes, worth_bytes: freed_bytes, change, ..found })
        })
        .collect()
}
