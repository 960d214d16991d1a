use std::collections::{HashMap, HashSet};

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::readings::catalog::{Catalog, Extension, Table};
use crate::time::Timestamp;

/// Something that happened at a time and may explain what changed then.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Marker {
    /// When it happened, or the first reading that shows it.
    pub at: Timestamp,
    /// What sort of thing.
    pub kind: MarkerKind,
    /// One line that names the object.
    pub text: String,
}

/// Sorts of markers that the collector finds.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum MarkerKind {
    /// The server started.
    Restart,
    /// A process of the server crashed: all of them began anew, and all counters with them.
    Crash,
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
    /// Columns of a table appeared, went, or have another type.
    TableChanged,
    /// The server has another version.
    Version,
    /// An extension appeared, went, or has another version.
    Extension,
    /// The server became a replica, or stopped being one.
    Failover,
    /// A backup was taken, as whoever takes them has told.
    Backup,
    /// It was tried whether a backup can be brought back, as somebody has told.
    RestoreTest,
    /// Somebody noted it: by hand or through the API.
    Noted,
}

impl MarkerKind {
    /// Whether somebody tells it, as opposed to what the collector finds.
    pub fn is_told(self) -> bool {
        matches!(self, MarkerKind::Backup | MarkerKind::RestoreTest | MarkerKind::Noted)
    }

    /// Whether it may make many statements slower or faster, whatever they search.
    pub fn may_move_statements(self) -> bool {
        matches!(
            self,
            MarkerKind::Setting
                | MarkerKind::Noted
                | MarkerKind::Version
                | MarkerKind::Failover
                | MarkerKind::Restart
                | MarkerKind::Crash
        )
    }
}

/// What was made, changed and dropped between two readings of the catalog of one database.
///
/// Objects are told apart by the server's own numbers, so a table dropped and made again under the
/// same name gives two markers. The time given is that of the later reading. Linear in both catalogs.
pub fn catalog_markers(earlier: &Catalog, later: &Catalog) -> Vec<Marker> {
    let at = later.at;
    let mut markers = Vec::new();
    let mut add = |kind, text: String| markers.push(Marker { at, kind, text });

    let tables = |catalog: &'_ Catalog| catalog.tables.iter().map(|table| table.oid).collect::<HashSet<u32>>();
    let before: HashMap<u32, &Table> = earlier.tables.iter().map(|table| (table.oid, table)).collect();
    for table in &later.tables {
        match before.get(&table.oid) {
            None => add(MarkerKind::TableMade, format!("table {} made", table.qualified_name())),
            Some(then) => {
                let changes = column_changes(then, table);
                if !changes.is_empty() {
                    add(MarkerKind::TableChanged, format!("table {}: {}", table.qualified_name(), changes.join(", ")));
                }
            }
        }
    }
    let after = tables(later);
    for table in earlier.tables.iter().filter(|table| !after.contains(&table.oid)) {
        add(MarkerKind::TableDropped, format!("table {} dropped", table.qualified_name()));
    }

    let usable = |catalog: &Catalog| {
        catalog.indexes().filter(|(_, index)| index.valid).map(|(_, index)| index.oid).collect::<HashSet<u32>>()
    };
    let (before, after) = (usable(earlier), usable(later));
    for (table, index) in later.indexes().filter(|(_, index)| index.valid && !before.contains(&index.oid)) {
        let keys = index.key_list();
        add(MarkerKind::IndexMade, format!("index {} made on {} ({keys})", index.name, table.qualified_name()));
    }
    for (table, index) in earlier.indexes().filter(|(_, index)| index.valid && !after.contains(&index.oid)) {
        add(MarkerKind::IndexDropped, format!("index {} on {} dropped", index.name, table.qualified_name()));
    }

    let version = |catalog: &Catalog, name: &str| {
        let found = catalog.extensions.iter().find(|extension| extension.name == name);
        found.map(|extension| extension.version.clone())
    };
    for Extension { name, version: now } in &later.extensions {
        match version(earlier, name) {
            None => add(MarkerKind::Extension, format!("extension {name} {now} made")),
            Some(then) if then != *now => add(MarkerKind::Extension, format!("extension {name}: {then} → {now}")),
            Some(_) => {}
        }
    }
    for Extension { name, .. } in
        earlier.extensions.iter().filter(|extension| version(later, &extension.name).is_none())
    {
        add(MarkerKind::Extension, format!("extension {name} dropped"));
    }
    markers
}

/// Columns that appeared, went, or have another type.
fn column_changes(then: &Table, now: &Table) -> Vec<String> {
    let mut changes = Vec::new();
    for column in &now.columns {
        match then.column(&column.name) {
            None => changes.push(format!("column {} made", column.name)),
            Some(before) if before.type_name != column.type_name => {
                changes.push(format!("column {}: {} → {}", column.name, before.type_name, column.type_name));
            }
            Some(_) => {}
        }
    }
    let gone = then.columns.iter().filter(|column| now.column(&column.name).is_none());
    changes.extend(gone.map(|column| format!("column {} dropped", column.name)));
    changes
}

/// The marker of a server for the others of its system: what one becomes concerns all of them.
pub fn for_the_others(marker: &Marker, label: &str) -> Option<Marker> {
    let tells = marker.kind == MarkerKind::Failover;
    tells.then(|| Marker { text: marker.text.replacen("the server's part", label, 1), ..marker.clone() })
}

/// The marker of a server that was found to have another version, or to have become or stopped being a
/// replica; nothing where it is as it was or nothing was known before.
pub fn server_marker(kind: MarkerKind, at: Timestamp, then: Option<&str>, now: &str) -> Option<Marker> {
    let then = then.filter(|then| *then != now)?;
    let what = if kind == MarkerKind::Failover { "the server's part" } else { "the server's version" };
    Some(Marker { at, kind, text: format!("{what}: {then} → {now}") })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::catalog::test_catalog::{catalog, index, table};

    #[test]
    fn an_index_counts_as_made_when_it_becomes_usable() {
        let half_built = catalog(1, vec![table("passage_leg", 100.0, &[], vec![index("leg_idx", &["state"], false)])]);
        let built = catalog(2, vec![table("passage_leg", 100.0, &[], vec![index("leg_idx", &["state"], true)])]);
        assert_eq!(catalog_markers(&half_built, &half_built), []);
        assert_eq!(
            catalog_markers(&half_built, &built),
            [Marker {
                at: Timestamp(2),
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

    #[test]
    fn columns_and_extensions_that_change_are_told() {
        let columns = |names: &[(&str, f64)]| catalog(1, vec![table("deck", 10.0, names, vec![])]);
        let then = columns(&[("deck_id", 1.0), ("metres", 1.0)]);
        let mut now = columns(&[("deck_id", 1.0), ("vessel_id", 1.0)]);
        now.tables[0].columns[0].type_name = "text".into();
        now.extensions = vec![Extension { name: "pg_trgm".into(), version: "1.6".into() }];
        let texts: Vec<String> = catalog_markers(&then, &now).into_iter().map(|marker| marker.text).collect();
        assert_eq!(
            texts,
            [
                "table public.deck: column deck_id: bigint → text, column vessel_id made, column metres dropped",
                "extension pg_trgm 1.6 made"
            ]
        );
        let mut later = now.clone();
        later.extensions[0].version = "1.7".into();
        assert_eq!(catalog_markers(&now, &later)[0].text, "extension pg_trgm: 1.6 → 1.7");
        later.extensions.clear();
        assert_eq!(catalog_markers(&now, &later)[0].text, "extension pg_trgm dropped");
    }

    #[test]
    fn a_server_that_changes_is_told_and_one_that_is_new_is_not() {
        let told = server_marker(MarkerKind::Version, Timestamp(1), Some("15.3"), "15.4").expect("it changed");
        assert_eq!(told.text, "the server's version: 15.3 → 15.4");
        assert_eq!(server_marker(MarkerKind::Version, Timestamp(1), Some("15.4"), "15.4"), None);
        assert_eq!(server_marker(MarkerKind::Failover, Timestamp(1), None, "replica"), None);
    }

    #[test]
    fn a_failover_concerns_the_others_of_the_system_and_a_restart_does_not() {
        let promoted = server_marker(MarkerKind::Failover, Timestamp(1), Some("replica"), "primary").unwrap();
        assert_eq!(for_the_others(&promoted, "passage-b").unwrap().text, "passage-b: replica → primary");
        let restarted = Marker { kind: MarkerKind::Restart, ..promoted };
        assert_eq!(for_the_others(&restarted, "passage-b"), None);
    }
}
