//! Foreign keys without an index, of tables whose parent has rows deleted: each delete reads the whole table, while it
//! holds its locks.

use super::{Certainty, IndexChange, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::changes::remedy::Qualified;
use crate::findings::unindexed_reference::unindexed;
use crate::readings::catalog::{ForeignKey, Table};
use crate::wording::number;

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let references = unindexed(evidence.catalog).filter(|(table, _)| table.part_of.is_none());
    references.filter_map(|(table, reference)| found(evidence, table, reference)).collect()
}

fn found<'a>(evidence: &IndexEvidence<'a, '_>, table: &'a Table, reference: &ForeignKey) -> Option<IndexFinding> {
    let parent = evidence.catalog.tables.iter().find(|table| table.qualified_name() == reference.parent)?;
    let deletes = evidence.deletes_per_day(parent);
    if deletes == Some(0.0) {
        return None;
    }
    let columns = reference.columns.join(", ");
    let (name, rows) = (table.qualified_name(), number(evidence.rows(table)));
    let (certainty, said) = match deletes {
        Some(deletes) => (
            Certainty::Certain,
            format!(
                "{name} refers to {} by {columns}, and no index begins with that: each of the {} rows deleted there in a day reads its {rows} rows.",
                reference.parent,
                number(deletes)
            ),
        ),
        None => (
            Certainty::Possible,
            format!(
                "{name} refers to {} by {columns}, and no index begins with that: where rows are deleted there, each reads its {rows} rows.",
                reference.parent
            ),
        ),
    };
    let read = deletes.unwrap_or_default() * evidence.table_bytes(table) * super::evidence::MONTH_DAYS;
    Some(IndexFinding {
        worth_bytes: read,
        beside: Some(reference.name.clone()),
        change: Some(IndexChange::Create {
            table: Qualified::new(&table.schema, &table.name),
            columns: reference.columns.clone(),
        }),
        ..evidence.found_on_table(IndexFindingKind::UnindexedReference, table, certainty, said)
    })
}
