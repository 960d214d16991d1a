//! Indexes with the keys of another that only carry less, or run through them the other way round.

use std::cmp::Reverse;

use super::compared::{holds_same_rows, sorts_alike, sorts_the_other_way_round};
use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::{Index, Table};

/// How one index stands in for another.
enum StandsIn {
    CarryingMore,
    ReadBackwards,
}

/// How an index that is kept stands in for another with the same keys.
fn stands_in(kept: &Index, index: &Index) -> Option<StandsIn> {
    if !holds_same_rows(kept, index) || kept.keys != index.keys {
        return None;
    }
    let carries_all = index.carried.iter().all(|column| kept.carried.contains(column));
    if carries_all && kept.carried.len() > index.carried.len() && sorts_alike(kept, index, index.keys.len()) {
        return Some(StandsIn::CarryingMore);
    }
    // Of two that mirror each other the one stays that is needed, that carries more, that runs upwards.
    let rank =
        |index: &Index| (index.is_needed() || index.unique, index.carried.len(), index.plain, Reverse(index.oid));
    let is_mirrored = carries_all && sorts_the_other_way_round(kept, index) && rank(kept) > rank(index);
    is_mirrored.then_some(StandsIn::ReadBackwards)
}

/// The index that stands in for another, and how.
fn stand_in<'a>(table: &'a Table, index: &Index) -> Option<(&'a Index, StandsIn)> {
    let others = table.indexes.iter().filter(|other| other.valid);
    let ways = others.filter_map(|kept| Some((kept, stands_in(kept, index)?)));
    ways.max_by_key(|(kept, _)| (kept.carried.len(), kept.is_needed(), Reverse(kept.oid)))
}

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let mut found = Vec::new();
    for (table, index) in evidence.whole_indexes().filter(|(_, index)| index.only_serves_searches()) {
        let Some((kept, way)) = stand_in(table, index) else { continue };
        let said = match way {
            StandsIn::CarryingMore => format!(
                "{} has the keys of {} ({}), which carries {} besides.",
                index.name,
                kept.name,
                kept.key_list(),
                kept.carried.join(", ")
            ),
            StandsIn::ReadBackwards => format!(
                "{} runs through {} the other way round than {}, which can be read backwards.",
                index.name,
                index.key_list(),
                kept.name
            ),
        };
        let of = (table, index);
        found.push(evidence.dropping(IndexFindingKind::NearlyDuplicate, of, Some(kept), Certainty::Likely, said));
    }
    found
}
