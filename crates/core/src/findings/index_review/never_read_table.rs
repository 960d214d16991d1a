//! Tables that nobody reads, with their indexes.
//!
//! Nobody must have read any of it for a whole cycle of the business, in whole or by an index, on any server that has it.

use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::Table;
use crate::wording::{bytes, number, seconds};

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let Some(counted) = evidence.counted.as_ref().filter(|counted| counted.decides()) else { return Vec::new() };
    let cycle = counted.watched.cycle_seconds();
    if counted.seconds < cycle {
        return Vec::new();
    }
    let whole = evidence.catalog.tables.iter().filter(|table| table.part_of.is_none() && !table.indexes.is_empty());
    whole.filter_map(|table| found(evidence, table, cycle)).collect()
}

fn found<'a>(evidence: &IndexEvidence<'a, '_>, table: &'a Table, cycle: f64) -> Option<IndexFinding> {
    let counters = evidence.table_counters(table)?;
    let is_read = counters.full_reads > 0 || counters.index_reads > 0;
    let is_unread = |index| evidence.unread_seconds(index).is_some_and(|unread| unread >= cycle);
    if is_read || !table.indexes.iter().filter(|index| index.valid).all(is_unread) {
        return None;
    }
    let written = counters.inserted_rows + counters.updated_rows + counters.deleted_rows;
    let said = format!(
        "Nobody has read {} for {}, in whole or by its {}; {} of its rows were written meanwhile.",
        table.qualified_name(),
        seconds(cycle),
        if table.indexes.len() == 1 { "index".to_owned() } else { format!("{} indexes", table.indexes.len()) },
        number(written as f64)
    );
    let found = evidence.found_on_table(IndexFindingKind::NeverReadTable, table, Certainty::Likely, said);
    let indexes = found.size_bytes - evidence.table_bytes(table);
    let said = format!("{} Its indexes take {}.", found.evidence, bytes(indexes));
    Some(IndexFinding { evidence: said, worth_bytes: found.size_bytes, ..found })
}
