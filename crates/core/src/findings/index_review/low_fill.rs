//! Indexes whose pages are left emptier than usual by their fillfactor, though hardly anything is written to them.

use super::{Certainty, IndexChange, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::changes::remedy::Qualified;
use crate::findings::index_size::USUAL_FILL_PERCENT;
use crate::wording::{number, percent};

/// Below this fillfactor pages are called empty, in per cent.
const LOW_PERCENT: i32 = 80;
/// An index to which a smaller share of its rows is written in a month needs no free space.
const FEW_WRITES: f64 = 0.1;

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    let indexes = evidence.catalog.indexes().filter(|(_, index)| index.valid && index.method == "btree");
    indexes
        .filter_map(|(table, index)| {
            let fill = index.fill_factor.filter(|percent| *percent < LOW_PERCENT)?;
            let per_month = evidence.entries_per_day(table, index)? * super::evidence::MONTH_DAYS;
            if per_month > FEW_WRITES * table.rows? {
                return None;
            }
            let said = format!(
                "Its fillfactor leaves {} of each page of {} free, and {} of its entries are written in a month.",
                percent(f64::from(100 - fill) / 100.0),
                index.name,
                number(per_month)
            );
            let found = evidence.found(IndexFindingKind::LowFill, (table, index), Certainty::Likely, said);
            let freed_bytes = found.size_bytes * (1.0 - f64::from(fill) / f64::from(USUAL_FILL_PERCENT));
            let change = Some(IndexChange::Refill(Qualified::new(&table.schema, &index.name)));
            Some(IndexFinding { freed_bytes, worth_bytes: freed_bytes, change, ..found })
        })
        .collect()
}
