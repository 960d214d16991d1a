use serde::{Deserialize, Serialize};

use crate::catalog::Catalog;
use crate::time::At;

/// Something that happened at a time and may explain what changed then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Marker {
    /// When it happened, or the first reading that shows it.
    pub at: At,
    /// What sort of thing.
    pub kind: MarkerKind,
    /// One line that names the object.
    pub text: String,
}

/// Sorts of markers that the collector finds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum MarkerKind {
    /// The server started.
    Restart,
    /// Cumulative counters were set back to zero.
    Reset,
    /// A setting has another value.
    Setting,
    /// An index appeared or became usable.
    IndexMade,
    /// An index is gone.
    IndexDropped,
    /// A table appeared.
    TableMade,
    /// A table is gone.
    TableDropped,
}

impl MarkerKind {
    /// The kind's name in the repository and the API.
    pub fn name(self) -> &'static str {
        match self {
            MarkerKind::Restart => "restart",
            MarkerKind::Reset => "reset",
            MarkerKind::Setting => "setting",
            MarkerKind::IndexMade => "index_made",
            MarkerKind::IndexDropped => "index_dropped",
            MarkerKind::TableMade => "table_made",
            MarkerKind::TableDropped => "table_dropped",
        }
    }
}

/// What was made and dropped between two readings of the catalog of one database.
///
/// Objects are told apart by the server's own numbers, so a table dropped and made again under the
/// same name gives two markers. The time given is that of the later reading.
pub fn catalog_markers(earlier: &Catalog, later: &Catalog) -> Vec<Marker> {
    let at = later.at;
    let mut markers = Vec::new();
    let mut add = |kind, text: String| markers.push(Marker { at, kind, text });
    for table in &later.tables {
        if !earlier.tables.iter().any(|other| other.oid == table.oid) {
            add(MarkerKind::TableMade, format!("table {} made", table.qualified_name()));
        }
    }
    for table in &earlier.tables {
        if !later.tables.iter().any(|other| other.oid == table.oid) {
            add(MarkerKind::TableDropped, format!("table {} dropped", table.qualified_name()));
        }
    }
    let usable = |catalog: &Catalog, oid: u32| catalog.indexes().any(|(_, index)| index.oid == oid && index.valid);
    for (table, index) in later.indexes().filter(|(_, index)| index.valid) {
        if !usable(earlier, index.oid) {
            let keys = index.key_list();
            add(MarkerKind::IndexMade, format!("index {} made on {} ({keys})", index.name, table.qualified_name()));
        }
    }
    for (table, index) in earlier.indexes().filter(|(_, index)| index.valid) {
        if !usable(later, index.oid) {
            add(MarkerKind::IndexDropped, format!("index {} on {} dropped", index.name, table.qualified_name()));
        }
    }
    markers
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::test_catalog::{catalog, index, table};

    #[test]
    fn an_index_counts_as_made_when_it_becomes_usable() {
        let half_built = catalog(1, vec![table("passage_leg", 100.0, &[], vec![index("leg_idx", &["state"], false)])]);
        let built = catalog(2, vec![table("passage_leg", 100.0, &[], vec![index("leg_idx", &["state"], true)])]);
        assert_eq!(catalog_markers(&half_built, &half_built), []);
        assert_eq!(
            catalog_markers(&half_built, &built),
            [Marker {
                at: At(2),
                kind: MarkerKind::IndexMade,
                text: "index leg_idx made on public.passage_leg (state)".into()
            }]
        );
        assert_eq!(catalog_markers(&built, &half_built)[0].kind, MarkerKind::IndexDropped);
    }

    #[test]
    fn tables_that_come_and_go_are_told() {
        let none = catalog(1, vec![]);
        let one = catalog(2, vec![table("pier_board", 10.0, &[], vec![])]);
        assert_eq!(catalog_markers(&none, &one)[0].kind, MarkerKind::TableMade);
        assert_eq!(catalog_markers(&one, &none)[0].text, "table public.pier_board dropped");
    }
}
