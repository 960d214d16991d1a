//! How statements use one table: which of its columns they search by, join, order and set, and how often.

use std::collections::{BTreeMap, BTreeSet};

use super::parse::shape;
use super::shape::{Compared, Of, Relation, Shape};
use crate::readings::catalog::{Catalog, IndexKey, Table};

/// What a statement does with a column.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, strum::EnumString, strum::IntoStaticStr, strum::VariantArray,
)]
#[strum(serialize_all = "snake_case")]
pub enum ColumnUse {
    /// Compares it with single values.
    Equality,
    /// Compares it with a column of another table.
    Join,
    /// Compares it with a range.
    Range,
    /// Asks how it begins.
    Beginning,
    /// Asks what it contains.
    Contents,
    /// Wants rows in its order.
    Order,
    /// Sets it.
    Set,
}

/// A statement that ran.
#[derive(Debug, Clone, Copy)]
pub struct Ran<'a> {
    /// Number of its family.
    pub family: i64,
    /// Its text.
    pub text: &'a str,
    /// Calls per day.
    pub calls_per_day: f64,
}

/// What a statement does with a table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StatementUse {
    /// Number of its family.
    pub family: i64,
    /// Whether it reads rows.
    pub reads: bool,
    /// Whether it inserts, changes or deletes rows.
    pub writes: bool,
    /// Whether what it asks for could not be read, so that more columns may be in use.
    pub is_unread: bool,
}

/// What statements do with a table.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct TableUse {
    /// What they do with each column or expression in use, with the calls per day that do it.
    pub columns: BTreeMap<String, BTreeMap<ColumnUse, f64>>,
    /// The statements, in the order in which they were given.
    pub statements: Vec<StatementUse>,
}

impl Compared {
    fn column_use(self) -> Option<ColumnUse> {
        Some(match self {
            Compared::Equal | Compared::OneOf(_) | Compared::Null | Compared::NotNull | Compared::Is(_) => {
                ColumnUse::Equality
            }
            Compared::Range { .. } => ColumnUse::Range,
            Compared::Prefix => ColumnUse::Beginning,
            Compared::Contains => ColumnUse::Contents,
            Compared::Other => return None,
        })
    }
}

/// What statements do with a table, or with the partitioned table that it is a part of. Linear in their texts.
pub fn table_use<'a>(ran: impl IntoIterator<Item = Ran<'a>>, catalog: &Catalog, table: &Table) -> TableUse {
    let names = with_what_it_is_part_of(catalog, table);
    let mut found = TableUse::default();
    for statement in ran {
        // Reading a text is work: most name other tables.
        if !catalog.tables_named_in(statement.text).any(|named| names.contains(&named.oid)) {
            continue;
        }
        let mut own = StatementUse { family: statement.family, reads: false, writes: false, is_unread: false };
        let mut uses = BTreeSet::new();
        match shape(statement.text, catalog) {
            Ok(shape) => {
                add_reads(&shape, &names, &mut own, &mut uses);
                add_write(&shape, &names, &mut own, &mut uses);
                if !(own.reads || own.writes) {
                    // It names a column, an alias or a table of another schema alike.
                    continue;
                }
                own.is_unread = shape.hides_literal;
            }
            Err(_) => own.is_unread = true,
        }
        for (column, column_use) in uses {
            *found.columns.entry(column).or_default().entry(column_use).or_default() += statement.calls_per_day;
        }
        found.statements.push(own);
    }
    found
}

fn with_what_it_is_part_of(catalog: &Catalog, table: &Table) -> BTreeSet<u32> {
    let mut numbers = BTreeSet::from([table.oid]);
    let mut above = table.part_of;
    while let Some(oid) = above.filter(|oid| numbers.insert(*oid)) {
        above = catalog.tables.iter().find(|table| table.oid == oid).and_then(|table| table.part_of);
    }
    numbers
}

fn is_of(relation: &Relation, names: &BTreeSet<u32>) -> bool {
    matches!(relation.of, Of::Table(table) if names.contains(&table.oid))
}

fn add_reads(shape: &Shape, names: &BTreeSet<u32>, own: &mut StatementUse, uses: &mut BTreeSet<(String, ColumnUse)>) {
    for block in &shape.blocks {
        let is_here = |relation: usize| block.relations.get(relation).is_some_and(|relation| is_of(relation, names));
        for relation in block.relations.iter().filter(|relation| is_of(relation, names)) {
            own.reads = true;
            let of = |subject: &IndexKey| shape.expressions.get(subject.text()).cloned();
            for term in &relation.terms {
                if let (Some(subject), Some(column_use)) = (&term.subject, term.compared.column_use()) {
                    let name = match subject {
                        IndexKey::Column(name) => name.clone(),
                        IndexKey::Expression(text) => of(subject).unwrap_or_else(|| text.clone()),
                    };
                    uses.insert((name, column_use));
                }
            }
        }
        for (relation, column) in block.joins.iter().flat_map(|join| [&join.left, &join.right]) {
            if is_here(*relation) {
                uses.insert((column.clone(), ColumnUse::Join));
            }
        }
        for order in block.order.iter().filter(|order| is_here(order.relation)) {
            uses.insert((order.column.clone(), ColumnUse::Order));
        }
    }
}

fn add_write(shape: &Shape, names: &BTreeSet<u32>, own: &mut StatementUse, uses: &mut BTreeSet<(String, ColumnUse)>) {
    let Some(write) = shape.write.as_ref().filter(|write| names.contains(&write.table.oid)) else { return };
    own.writes = true;
    for column in write.sets.iter().flatten() {
        uses.insert((column.clone(), ColumnUse::Set));
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::catalog::test_catalog::{catalog, table};

    fn used(statements: &[&str], of: &str) -> TableUse {
        let catalog = catalog(
            0,
            vec![
                table("passage_leg", 1e6, &[("passage_leg_id", 1e6), ("crossing_id", 6e3), ("state", 4.0)], vec![]),
                table("crossing", 6e3, &[("crossing_id", 6e3), ("departs_at", 6e3), ("state", 2.0)], vec![]),
            ],
        );
        let ran = statements.iter().enumerate().map(|(place, text)| Ran {
            family: place as i64,
            text,
            calls_per_day: 10.0 * (place + 1) as f64,
        });
        table_use(ran, &catalog, catalog.table(None, of).expect("it is there"))
    }

    fn uses(of: &TableUse, column: &str) -> Vec<(ColumnUse, f64)> {
        of.columns.get(column).into_iter().flatten().map(|(column_use, calls)| (*column_use, *calls)).collect()
    }

    #[test]
    fn each_use_of_a_column_counts_the_calls_of_the_statements_that_make_it() {
        let legs = used(
            &[
                "select * from passage_leg where crossing_id = $1 and state = $2",
                "select l.state from passage_leg l join crossing c using (crossing_id) where c.departs_at > $1",
                "select * from passage_leg where crossing_id = $1 order by passage_leg_id limit 5",
                "update passage_leg set state = $1 where passage_leg_id = $2",
            ],
            "passage_leg",
        );
        assert_eq!(uses(&legs, "crossing_id"), [(ColumnUse::Equality, 40.0), (ColumnUse::Join, 20.0)]);
        assert_eq!(uses(&legs, "passage_leg_id"), [(ColumnUse::Equality, 40.0), (ColumnUse::Order, 30.0)]);
        assert_eq!(uses(&legs, "state"), [(ColumnUse::Equality, 10.0), (ColumnUse::Set, 40.0)]);
        let does: Vec<(bool, bool)> = legs.statements.iter().map(|one| (one.reads, one.writes)).collect();
        assert_eq!(does, [(true, false), (true, false), (true, false), (true, true)]);
    }

    #[test]
    fn what_is_done_with_another_table_is_not_told() {
        let crossings = used(&["select * from passage_leg where state = $1", "select state from crossing"], "crossing");
        assert_eq!(crossings.statements.iter().map(|one| one.family).collect::<Vec<_>>(), [1]);
        assert!(crossings.columns.is_empty(), "{crossings:?}");
    }

    #[test]
    fn of_what_cannot_be_read_it_is_said() {
        let legs =
            used(&["select from where passage_leg ((", "select * from passage_leg where state like $1"], "passage_leg");
        assert_eq!(legs.statements.iter().map(|one| one.is_unread).collect::<Vec<_>>(), [true, true]);
    }

    #[test]
    fn a_partition_is_used_by_what_names_its_table() {
        let mut whole = table("tide_reading", 1e6, &[("read_at", 1e6)], vec![]);
        whole.is_partitioned = true;
        let mut part = table("tide_reading_2026_11", 1e5, &[("read_at", 1e5)], vec![]);
        part.part_of = Some(whole.oid);
        let catalog = catalog(0, vec![whole, part]);
        let ran = Ran { family: 1, text: "select * from tide_reading where read_at > $1", calls_per_day: 5.0 };
        let of_part = table_use([ran], &catalog, &catalog.tables[1]);
        assert_eq!(uses(&of_part, "read_at"), [(ColumnUse::Range, 5.0)]);
    }
}
