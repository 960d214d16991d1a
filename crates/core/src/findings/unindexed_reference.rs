//! Rule 7: tables that refer to another by columns without an index. Whoever deletes a row of the other one makes the
//! server read all of them, while it holds its locks.
//!
//! Laws, tested below: an index serves whose first keys are the columns, in whatever order, and that holds every row; a
//! small table is read as fast without.

use crate::readings::catalog::{Catalog, ForeignKey, Index, Table};

/// A table of so many rows is read from end to end in no time.
const FEW_ROWS: f64 = 1000.0;

/// Tables that refer to another without an index, with the reference.
pub fn unindexed(catalog: &Catalog) -> impl Iterator<Item = (&Table, &ForeignKey)> {
    let is_large = |table: &&Table| table.rows.is_some_and(|rows| rows > FEW_ROWS);
    let references = catalog
        .tables
        .iter()
        .filter(is_large)
        .flat_map(|table| table.foreign_keys.iter().map(move |reference| (table, reference)));
    references.filter(|(table, reference)| !table.indexes.iter().any(|index| serves(index, &reference.columns)))
}

/// Those that refer to one table, the largest first. `parent` is `schema.name`, or a name alone.
pub fn unindexed_references<'a>(catalog: &'a Catalog, parent: &str) -> Vec<(&'a Table, &'a ForeignKey)> {
    let refers =
        |(_, reference): &(_, &ForeignKey)| reference.parent == parent || after_schema(&reference.parent) == parent;
    let mut found: Vec<_> = unindexed(catalog).filter(refers).collect();
    found.sort_by_key(|(table, _)| std::cmp::Reverse(table.size_bytes));
    found
}

fn after_schema(name: &str) -> &str {
    name.rsplit_once('.').map_or(name, |(_, name)| name)
}

/// Whether an index finds rows by all of the columns at once. Rows without a value refer to nothing: it may leave them
/// out.
fn serves(index: &Index, columns: &[String]) -> bool {
    let first: Vec<&str> = index.leading_columns().take(columns.len()).collect();
    let with_value = |column: &String| format!("{column} IS NOT NULL");
    let leaves_out = |condition: &String| columns.iter().any(|column| *condition == with_value(column));
    let holds_all = index.condition.as_ref().is_none_or(leaves_out);
    index.valid && index.method == "btree" && holds_all && columns.iter().all(|column| first.contains(&column.as_str()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::catalog::test_catalog::{catalog, index, table};

    fn legs(rows: f64, columns: &[&str], indexes: Vec<Index>) -> Catalog {
        let mut leg = table("passage_leg", rows, &[("crossing_id", 90.0), ("deck_id", 4.0)], indexes);
        leg.foreign_keys = vec![ForeignKey {
            name: "leg_crossing".into(),
            columns: columns.iter().map(|column| (*column).into()).collect(),
            parent: "public.crossing".into(),
        }];
        catalog(1, vec![leg])
    }

    fn found(catalog: &Catalog, parent: &str) -> usize {
        unindexed_references(catalog, parent).len()
    }

    #[test]
    fn only_an_index_that_begins_with_the_columns_serves() {
        let by = |keys: &[&str], valid| legs(1e6, &["crossing_id"], vec![index("leg", keys, valid)]);
        assert_eq!(found(&legs(1e6, &["crossing_id"], vec![]), "public.crossing"), 1);
        assert_eq!(found(&legs(1e6, &["crossing_id"], vec![]), "crossing"), 1);
        assert_eq!(found(&by(&["crossing_id", "deck_id"], true), "crossing"), 0);
        assert_eq!(found(&by(&["deck_id", "crossing_id"], true), "crossing"), 1, "not by its second key");
        assert_eq!(found(&by(&["crossing_id"], false), "crossing"), 1, "not yet usable");
        let mut part = by(&["crossing_id"], true);
        part.tables[0].indexes[0].condition = Some("deck_id = 1".into());
        assert_eq!(found(&part, "crossing"), 1, "holds some rows only");
        part.tables[0].indexes[0].condition = Some("crossing_id IS NOT NULL".into());
        assert_eq!(found(&part, "crossing"), 0, "what it leaves out refers to nothing");
        let both = legs(1e6, &["crossing_id", "deck_id"], vec![index("leg", &["deck_id", "crossing_id"], true)]);
        assert_eq!(found(&both, "crossing"), 0, "in whatever order");
    }

    #[test]
    fn small_tables_and_other_parents_are_left_out() {
        assert_eq!(found(&legs(500.0, &["crossing_id"], vec![]), "crossing"), 0);
        assert_eq!(found(&legs(1e6, &["crossing_id"], vec![]), "vessel"), 0);
    }
}
