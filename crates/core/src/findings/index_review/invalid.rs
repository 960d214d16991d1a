//! Indexes that statements may not use, and that writes may have to keep up all the same.

use super::{Certainty, IndexChange, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::changes::remedy::Qualified;
use crate::readings::catalog::Index;

/// What a REINDEX CONCURRENTLY calls the index that it builds, and the one that it replaced.
const IN_PASSING: [&str; 2] = ["_ccnew", "_ccold"];

/// Whether a REINDEX CONCURRENTLY gave it its name, which ends with a number where several were left behind.
fn is_left_by_rebuild(index: &Index) -> bool {
    let name = index.name.trim_end_matches(|letter: char| letter.is_ascii_digit());
    IN_PASSING.iter().any(|ending| name.ends_with(ending))
}

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let invalid = evidence.catalog.indexes().filter(|(_, index)| !index.valid && index.part_of.is_none());
    invalid
        .map(|(table, index)| {
            if table.is_partitioned {
                let said = format!(
                    "{} is not usable: not every partition of {} has an index of its own attached to it.",
                    index.name,
                    table.qualified_name()
                );
                return evidence.found(IndexFindingKind::Invalid, (table, index), Certainty::Certain, said);
            }
            let why = match is_left_by_rebuild(index) {
                true => "REINDEX CONCURRENTLY was ended before it was done, or goes on just now",
                false => "making it failed, or goes on just now",
            };
            let said = format!("{} is not usable: {why}.", index.name);
            // Nobody counts reads of it, since there are none: it is not held back for that.
            let found = IndexFinding {
                held_back: None,
                ..evidence.dropping(IndexFindingKind::Invalid, (table, index), None, Certainty::Likely, said)
            };
            match index.is_needed() {
                true => IndexFinding {
                    freed_bytes: 0.0,
                    change: Some(IndexChange::Rebuild(Qualified::new(&table.schema, &index.name))),
                    ..found
                },
                false => found,
            }
        })
        .collect()
}
