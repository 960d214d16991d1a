//! Indexes of a kind that cannot do what it is there for: block ranges over scattered values, and B-trees over values
//! that are searched by what they hold.

use super::{Certainty, IndexEvidence, IndexFinding, IndexFindingKind};
use crate::readings::catalog::{Column, Index, Table};
use crate::wording::number;

/// From this correlation on, ranges of blocks hold ranges of values; of 0 nothing is known.
const IN_ORDER: f64 = 0.9;
/// Types that are searched by what they hold, and the method that finds it.
const HELD: [(&str, &str); 9] = [
    ("jsonb", "GIN"),
    ("tsvector", "GIN"),
    ("hstore", "GIN"),
    ("int4range", "GiST"),
    ("int8range", "GiST"),
    ("numrange", "GiST"),
    ("daterange", "GiST"),
    ("tsrange", "GiST"),
    ("tstzrange", "GiST"),
];

/// The method that finds values of a type by what they hold; nothing where that is not how they are searched.
fn method_for(column: &Column) -> Option<&'static str> {
    let held = HELD.iter().find(|(type_name, _)| *type_name == column.type_name).map(|(_, method)| *method);
    held.or(column.type_name.ends_with("[]").then_some("GIN"))
}

fn fault(table: &Table, index: &Index) -> Option<String> {
    let column = table.column(index.leading_columns().next()?)?;
    match index.method.as_str() {
        "brin" => {
            let correlation = column
                .statistics
                .as_ref()
                .map(|known| known.correlation)
                .filter(|known| *known != 0.0 && known.abs() < IN_ORDER)?;
            Some(format!(
                "{} keeps the least and the largest {} of each range of blocks, but values lie scattered (correlation {}): hardly a range can be passed over.",
                index.name,
                column.name,
                number(correlation)
            ))
        }
        "btree" if index.keys.len() == 1 && index.only_serves_searches() => {
            let method = method_for(column)?;
            Some(format!(
                "{} is a B-tree on {} ({}): it finds equal values only. What values hold is found by {method}.",
                index.name, column.name, column.type_name
            ))
        }
        _ => None,
    }
}

pub(super) fn find(evidence: &IndexEvidence) -> Vec<IndexFinding> {
    evidence
        .whole_indexes()
        .filter_map(|(table, index)| {
            let found =
                evidence.found(IndexFindingKind::WrongKind, (table, index), Certainty::Likely, fault(table, index)?);
            Some(IndexFinding { worth_bytes: found.size_bytes, ..found })
        })
        .collect()
}
