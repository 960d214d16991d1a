use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Step};
use crate::instance::marker::MarkerKind;
use crate::readings::metric::Metric;
use crate::time::SECONDS_PER_DAY;
use crate::wording::{bytes, counted, names};

/// What changed is told of so many days.
const DAYS: f64 = 7.0;
/// The newest changes told.
const MOST_CHANGES: usize = 10;
/// Names told in a list.
const MOST_NAMES: usize = 8;
/// Sorts of markers that tell of a change of the schema.
const SCHEMA: [MarkerKind; 6] = [
    MarkerKind::TableMade,
    MarkerKind::TableDropped,
    MarkerKind::TableChanged,
    MarkerKind::IndexMade,
    MarkerKind::IndexDropped,
    MarkerKind::Extension,
];

/// What the server holds: counts, sizes, and recent changes of the schema. None of it is a trouble.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let (Some(catalog), Some(inventory)) = (&evidence.catalog, &evidence.inventory) else {
        notes.unknown("What is in it was not read yet.", Step::new("Wait for the first snapshot, or ask for one now."));
        return notes.done(Check::Contents, "");
    };
    let databases: Vec<&str> = inventory
        .databases
        .iter()
        .filter(|database| !database.is_template && database.allows_connections)
        .map(|database| database.name.as_str())
        .collect();
    let size: f64 = evidence.measured_of(Metric::DatabaseSize).map(|(_, size)| size).sum();
    let listed = |all: &[&str]| format!("{}: {}", all.len(), names(all.iter().copied(), MOST_NAMES));
    notes.fact("Databases", listed(&databases));
    let spaces: Vec<&str> = inventory.tablespaces.iter().map(|space| space.name.as_str()).collect();
    notes.fact("Tablespaces", listed(&spaces));
    let of_people = inventory.accounts.iter().filter(|account| !account.is_internal);
    let (may_sign_in, groups): (Vec<_>, Vec<_>) = of_people.partition(|account| account.may_sign_in);
    notes.fact(
        "Accounts",
        format!(
            "{} that may sign in, {} that group others, {} of the server's own",
            may_sign_in.len(),
            groups.len(),
            inventory.accounts.len() - may_sign_in.len() - groups.len()
        ),
    );
    let contents = &inventory.contents;
    let (tables, indexes) = (catalog.tables.len(), catalog.indexes().count());
    let here = &catalog.database;
    notes.fact(
        format!("In {here}"),
        format!(
            "{} schemas, {tables} tables, {indexes} indexes, {} views, {} functions, {} sequences, {} triggers",
            contents.schemas, contents.views, contents.functions, contents.sequences, contents.triggers
        ),
    );
    notes.fact(
        format!("Files of {here}"),
        format!("{} tables, indexes and the like with files of their own", contents.files),
    );
    for (what, files) in [("Files of the log", inventory.log_files), ("Temporary files just now", inventory.temp_files)]
    {
        if let Some(files) = files {
            notes.fact(what, format!("{}, {}", files.count, bytes(files.bytes as f64)));
        }
    }
    let extensions: Vec<String> =
        catalog.extensions.iter().map(|extension| format!("{} {}", extension.name, extension.version)).collect();
    notes.fact("Extensions", names(extensions.iter().map(String::as_str), 2 * MOST_NAMES));
    let from = evidence.at.plus_seconds(-DAYS * SECONDS_PER_DAY);
    let changes: Vec<_> = evidence.markers_of(&SCHEMA).filter(|marker| marker.at >= from).collect();
    for marker in changes.iter().rev().take(MOST_CHANGES) {
        notes.moment(marker.text.clone(), marker.at);
    }
    let changed = match changes.len() {
        0 => format!("nothing of its schema changed within {DAYS} days"),
        count => format!("{} of its schema within {DAYS} days", counted(count, "change")),
    };
    let summary = format!(
        "{} of {}; in {here} {} and {}; {changed}.",
        counted(databases.len(), "database"),
        bytes(size),
        counted(tables, "table"),
        indexes_counted(indexes)
    );
    notes.done(Check::Contents, summary)
}

fn indexes_counted(count: usize) -> String {
    if count == 1 { "1 index".into() } else { format!("{count} indexes") }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::health::Health;
    use crate::instance::marker::Marker;
    use crate::readings::catalog::test_catalog;
    use crate::readings::inventory::{Account, Database, Inventory};
    use crate::time::Timestamp;

    #[test]
    fn what_is_in_it_is_counted_without_what_the_server_brings_along() {
        let account = |name: &str, may_sign_in, is_internal| Account {
            name: name.into(),
            may_sign_in,
            is_internal,
            ..Account::default()
        };
        let evidence = Evidence {
            catalog: Some(test_catalog::catalog(0, vec![test_catalog::table("crossing", 1.0, &[], vec![])])),
            inventory: Some(Inventory {
                databases: vec![
                    Database { name: "passage".into(), allows_connections: true, ..Database::default() },
                    Database { name: "template0".into(), is_template: true, ..Database::default() },
                ],
                accounts: vec![
                    account("skerry_gate", true, false),
                    account("gates", false, false),
                    account("pg_monitor", false, true),
                ],
                ..Inventory::default()
            }),
            markers: vec![Marker {
                at: Timestamp(0),
                kind: MarkerKind::TableMade,
                text: "table public.crossing made".into(),
            }],
            ..Evidence::default()
        };
        let finding = check(&evidence);
        assert_eq!(finding.verdict(), Health::Quiet);
        let accounts = finding.facts.iter().find(|fact| fact.what == "Accounts").map(|fact| fact.value.as_str());
        assert_eq!(accounts, Some("1 that may sign in, 1 that group others, 1 of the server's own"));
        assert!(finding.summary.contains("1\u{a0}table and 0 indexes; 1\u{a0}change"), "{}", finding.summary);
    }
}
