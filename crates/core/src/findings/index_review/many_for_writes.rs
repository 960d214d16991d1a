//! Tables with many indexes that are written far more often than these are read.

use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::{Index, Table};
use crate::wording::{names, number};

/// From so many indexes on a table has many.
const MANY: usize = 6;
/// Entries written for each read of an index, from which on they are many.
const ENTRIES_PER_READ: f64 = 10.0;
/// A table to which fewer rows are written in a day is left alone.
const FEW_WRITES: f64 = 1_000.0;
/// Indexes that are named.
const MOST_NAMED: usize = 3;

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let whole = evidence.catalog.tables.iter().filter(|table| table.part_of.is_none());
    whole.filter_map(|table| found(evidence, table)).collect()
}

fn found<'a>(evidence: &IndexEvidence<'a, '_>, table: &'a Table) -> Option<IndexFinding> {
    let indexes: Vec<&Index> = table.indexes.iter().filter(|index| index.valid && index.part_of.is_none()).collect();
    let written = evidence.table_entries_per_day(table)?;
    let (entries, reads) = (written * indexes.len() as f64, evidence.index_reads_per_day(table)?);
    if indexes.len() < MANY || written < FEW_WRITES || entries < ENTRIES_PER_READ * reads {
        return None;
    }
    let mut least: Vec<&Index> = indexes.iter().copied().filter(|index| index.only_serves_searches()).collect();
    let reads_of = |index: &Index| evidence.reads_per_day(table.indexes.iter().find(|one| one.oid == index.oid)?);
    least.sort_by(|a, b| reads_of(a).unwrap_or_default().total_cmp(&reads_of(b).unwrap_or_default()));
    let first = least.first()?;
    let said = format!(
        "{} has {} indexes: {} entries are written to them in a day, and they are read {} times. Least read: {}.",
        table.qualified_name(),
        indexes.len(),
        number(entries),
        number(reads),
        names(least.iter().map(|index| index.name.as_str()), MOST_NAMED)
    );
    let worth_bytes = evidence.month_bytes(table, first);
    let found = evidence.found_on_table(IndexFindingKind::ManyForWrites, table, Certainty::Possible, said);
    Some(IndexFinding { worth_bytes, ..found })
}
