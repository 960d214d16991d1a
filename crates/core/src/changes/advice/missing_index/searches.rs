use std::collections::HashMap;
use std::ops::ControlFlow;

use sqlparser::ast::{
    BinaryOperator, Delete, Expr, FromTable, ObjectName, ObjectNamePart, Query, Select, SetExpr, Statement,
    TableFactor, TableWithJoins, Update, Value, ValueWithSpan, Visit, Visitor,
};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::Parser;

use crate::readings::catalog::{Catalog, Table};

/// How one statement searches one table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Search {
    /// The table, `schema.name`.
    pub table: String,
    /// Columns that must equal something known before the table is read, in order of appearance.
    pub equality: Vec<String>,
    /// Columns that must lie in a range.
    pub range: Vec<Range>,
}

/// A column compared for a range.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Range {
    /// The column.
    pub column: String,
    /// Whether it has a lower end.
    pub from: bool,
    /// Whether it has an upper end.
    pub to: bool,
}

/// Why a statement's searches are not known.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unreadable {
    /// The text is no statement that the parser knows.
    #[error("the statement's text could not be read: {0}")]
    Syntax(String),
}

/// Deeper nesting than this is refused rather than followed.
const DEEPEST: usize = 50;

/// The searches of a statement on tables of the catalog: those of its conditions that compare a
/// column with a literal or a parameter and that must hold together.
///
/// Conditions under `OR` or `NOT`, on expressions, and joins between tables are not searches yet.
pub fn searches(statement: &str, catalog: &Catalog) -> Result<Vec<Search>, Unreadable> {
    let parsed = Parser::new(&PostgreSqlDialect {})
        .with_recursion_limit(DEEPEST)
        .try_with_sql(statement)
        .and_then(|mut parser| parser.parse_statements())
        .map_err(|error| Unreadable::Syntax(error.to_string()))?;
    let mut collector = Collector { catalog, named: Vec::new(), found: Vec::new() };
    for statement in &parsed {
        // The visitor never breaks off, so there is nothing to look at in what it returns.
        let _ = statement.visit(&mut collector);
    }
    Ok(collector.found.into_iter().filter(|search| !(search.equality.is_empty() && search.range.is_empty())).collect())
}

struct Collector<'a> {
    catalog: &'a Catalog,
    /// Names that the queries around give to queries of their own (`WITH`), the innermost last: no table is meant there.
    named: Vec<Vec<String>>,
    found: Vec<Search>,
}

impl Visitor for Collector<'_> {
    type Break = ();

    fn pre_visit_query(&mut self, query: &Query) -> ControlFlow<()> {
        let names = query.with.iter().flat_map(|with| &with.cte_tables).map(|named| folded(&named.alias.name));
        self.named.push(names.collect());
        self.set_expression(&query.body);
        ControlFlow::Continue(())
    }

    fn post_visit_query(&mut self, _: &Query) -> ControlFlow<()> {
        self.named.pop();
        ControlFlow::Continue(())
    }

    fn pre_visit_statement(&mut self, statement: &Statement) -> ControlFlow<()> {
        match statement {
            Statement::Update(Update { table, selection, .. }) => self.search(&[table], selection.as_ref()),
            Statement::Delete(Delete { from, selection, .. }) => {
                let (FromTable::WithFromKeyword(tables) | FromTable::WithoutKeyword(tables)) = from;
                self.search(&tables.iter().collect::<Vec<_>>(), selection.as_ref());
            }
            _ => {}
        }
        ControlFlow::Continue(())
    }
}

impl Collector<'_> {
    /// The selects of a union and the like; nested queries come by themselves.
    fn set_expression(&mut self, body: &SetExpr) {
        match body {
            SetExpr::Select(select) => self.select(select),
            SetExpr::SetOperation { left, right, .. } => {
                self.set_expression(left);
                self.set_expression(right);
            }
            _ => {}
        }
    }

    fn select(&mut self, select: &Select) {
        self.search(&select.from.iter().collect::<Vec<_>>(), select.selection.as_ref());
    }

    fn search(&mut self, from: &[&TableWithJoins], condition: Option<&Expr>) {
        let scope = Scope::of(from, |name| match split(name) {
            (None, bare) if self.named.iter().flatten().any(|named| *named == bare) => None,
            (schema, bare) => self.catalog.table(schema.as_deref(), &bare),
        });
        let mut by_table: Vec<Search> = Vec::new();
        let mut terms = Vec::new();
        if let Some(condition) = condition {
            conjuncts(condition, &mut terms);
        }
        for term in terms {
            let Some((role, column)) = role(term) else { continue };
            let Some((table, column)) = scope.resolve(column) else { continue };
            let name = table.qualified_name();
            let position = by_table.iter().position(|search| search.table == name).unwrap_or_else(|| {
                by_table.push(Search { table: name, equality: vec![], range: vec![] });
                by_table.len() - 1
            });
            let search = &mut by_table[position];
            match role {
                Role::Equality if !search.equality.contains(&column) => search.equality.push(column),
                Role::Range { from, to } => match search.range.iter_mut().find(|range| range.column == column) {
                    Some(range) => (range.from, range.to) = (range.from || from, range.to || to),
                    None => search.range.push(Range { column, from, to }),
                },
                Role::Equality => {}
            }
        }
        for search in &mut by_table {
            search.range.retain(|range| !search.equality.contains(&range.column));
        }
        self.found.append(&mut by_table);
    }
}

/// The tables that a condition's columns may belong to.
struct Scope<'a> {
    by_alias: HashMap<String, Option<&'a Table>>,
}

impl<'a> Scope<'a> {
    fn of(from: &[&TableWithJoins], table: impl Fn(&ObjectName) -> Option<&'a Table>) -> Self {
        let mut by_alias = HashMap::new();
        for tables in from {
            let factors = std::iter::once(&tables.relation).chain(tables.joins.iter().map(|join| &join.relation));
            for factor in factors {
                match factor {
                    TableFactor::Table { name, alias, .. } => {
                        let alias = alias.as_ref().map_or_else(|| split(name).1, |alias| folded(&alias.name));
                        by_alias.insert(alias, table(name));
                    }
                    TableFactor::Derived { alias: Some(alias), .. } => {
                        by_alias.insert(folded(&alias.name), None);
                    }
                    // Something whose columns are not known: bare names may be its own.
                    _ => {
                        by_alias.insert(String::new(), None);
                    }
                }
            }
        }
        Scope { by_alias }
    }

    /// The table and name of a column, if it is clear which table it belongs to.
    fn resolve(&self, column: Reference) -> Option<(&'a Table, String)> {
        match column.qualifier {
            Some(alias) => {
                let table = (*self.by_alias.get(&alias)?)?;
                table.column(&column.name).map(|_| (table, column.name))
            }
            None => {
                let mut owners = self.by_alias.values().flatten().filter(|table| table.column(&column.name).is_some());
                match (owners.next(), owners.next(), self.by_alias.values().any(Option::is_none)) {
                    (Some(table), None, false) => Some((table, column.name)),
                    _ => None,
                }
            }
        }
    }
}

#[derive(Clone, Copy)]
enum Role {
    Equality,
    Range { from: bool, to: bool },
}

impl Role {
    /// The role of a column that stands on the other side of the comparison.
    fn turned(self) -> Role {
        match self {
            Role::Equality => Role::Equality,
            Role::Range { from, to } => Role::Range { from: to, to: from },
        }
    }
}

struct Reference {
    qualifier: Option<String>,
    name: String,
}

/// The terms that must all hold.
fn conjuncts<'a>(condition: &'a Expr, terms: &mut Vec<&'a Expr>) {
    match condition {
        Expr::BinaryOp { left, op: BinaryOperator::And, right } => {
            conjuncts(left, terms);
            conjuncts(right, terms);
        }
        Expr::Nested(inner) => conjuncts(inner, terms),
        term => terms.push(term),
    }
}

fn role(term: &Expr) -> Option<(Role, Reference)> {
    match term {
        Expr::BinaryOp { left, op, right } => {
            let role = match op {
                BinaryOperator::Eq => Role::Equality,
                BinaryOperator::Lt | BinaryOperator::LtEq => Role::Range { from: false, to: true },
                BinaryOperator::Gt | BinaryOperator::GtEq => Role::Range { from: true, to: false },
                _ => return None,
            };
            match (reference(left), reference(right)) {
                (Some(column), None) if known_before(right) => Some((role, column)),
                (None, Some(column)) if known_before(left) => Some((role.turned(), column)),
                _ => None,
            }
        }
        Expr::Between { expr, negated: false, low, high } if known_before(low) && known_before(high) => {
            Some((Role::Range { from: true, to: true }, reference(expr)?))
        }
        Expr::InList { expr, list, negated: false } if list.iter().all(known_before) => {
            Some((Role::Equality, reference(expr)?))
        }
        Expr::AnyOp { left, compare_op: BinaryOperator::Eq, right, .. } if known_before(right) => {
            Some((Role::Equality, reference(left)?))
        }
        Expr::Nested(inner) => role(inner),
        _ => None,
    }
}

fn reference(expression: &Expr) -> Option<Reference> {
    match expression {
        Expr::Identifier(name) => Some(Reference { qualifier: None, name: folded(name) }),
        Expr::CompoundIdentifier(parts) => match parts.as_slice() {
            [.., qualifier, name] => Some(Reference { qualifier: Some(folded(qualifier)), name: folded(name) }),
            _ => None,
        },
        Expr::Nested(inner) => reference(inner),
        _ => None,
    }
}

/// Whether the expression has a value before any row is read: built from literals, parameters and functions of them.
fn known_before(expression: &Expr) -> bool {
    struct Columns;
    impl Visitor for Columns {
        type Break = ();
        fn pre_visit_expr(&mut self, expression: &Expr) -> ControlFlow<()> {
            match expression {
                Expr::Identifier(_) | Expr::CompoundIdentifier(_) | Expr::Subquery(_) | Expr::Exists { .. } => {
                    ControlFlow::Break(())
                }
                _ => ControlFlow::Continue(()),
            }
        }
    }
    !matches!(expression, Expr::Value(ValueWithSpan { value: Value::Null, .. }))
        && expression.visit(&mut Columns).is_continue()
}

fn split(name: &ObjectName) -> (Option<String>, String) {
    let mut parts: Vec<String> = name
        .0
        .iter()
        .filter_map(|part| match part {
            ObjectNamePart::Identifier(identifier) => Some(folded(identifier)),
            ObjectNamePart::Function(_) => None,
        })
        .collect();
    let bare = parts.pop().unwrap_or_default();
    (parts.pop(), bare)
}

/// Names without quotes have no case.
fn folded(name: &sqlparser::ast::Ident) -> String {
    if name.quote_style.is_some() { name.value.clone() } else { name.value.to_lowercase() }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::catalog::test_catalog::{catalog, table};

    fn skerry() -> Catalog {
        catalog(
            1,
            vec![
                table("passage_leg", 1e5, &[("crossing_id", 1000.0), ("state", 4.0), ("traveller_id", 5e4)], vec![]),
                table("crossing", 1000.0, &[("crossing_id", 1000.0), ("departs_at", 900.0)], vec![]),
            ],
        )
    }

    /// Each search as `table: equality | range`.
    #[track_caller]
    fn finds(statement: &str, expected: &[&str]) {
        let found: Vec<String> = searches(statement, &skerry())
            .unwrap()
            .iter()
            .map(|search| {
                let table = search.table.trim_start_matches("public.");
                let range: Vec<String> = search
                    .range
                    .iter()
                    .map(|range| {
                        let (from, to) = (if range.from { "[" } else { "" }, if range.to { "]" } else { "" });
                        format!("{from}{}{to}", range.column)
                    })
                    .collect();
                format!("{table}: {} | {}", search.equality.join(" "), range.join(" "))
            })
            .collect();
        assert_eq!(found, expected);
    }

    #[test]
    fn equality_and_range_on_one_table() {
        finds(
            "select * from passage_leg where crossing_id = $1 and state = $2",
            &["passage_leg: crossing_id state | "],
        );
        finds("select 1 from crossing where departs_at between $1 and $2", &["crossing:  | [departs_at]"]);
        finds("select 1 from crossing where departs_at > now() - interval '1 hour'", &["crossing:  | [departs_at"]);
        finds("select 1 from crossing where $1 > departs_at and departs_at >= $2", &["crossing:  | [departs_at]"]);
        finds(
            "select 1 from passage_leg where state in ($1, $2) and (traveller_id) = $3",
            &["passage_leg: state traveller_id | "],
        );
        finds("select 1 from passage_leg where state = any($1)", &["passage_leg: state | "]);
    }

    #[test]
    fn names_find_their_tables() {
        finds(
            "select 1 from passage_leg l join crossing c on c.crossing_id = l.crossing_id where l.state = $1 and departs_at < $2",
            &["passage_leg: state | ", "crossing:  | departs_at]"],
        );
        finds("select 1 from passage_leg l, crossing c where crossing_id = $1", &[]);
        finds("select 1 from \"Passage_leg\" where state = $1", &[]);
    }

    #[test]
    fn a_query_of_that_name_is_no_table() {
        let late = "with crossing as (select * from old.crossing where departs_at < $1)";
        finds(&format!("{late} select 1 from crossing where crossing_id = $2"), &[]);
        finds(&format!("{late} select 1 from (select 1 from crossing where crossing_id = $2) late"), &[]);
        finds(&format!("{late} select 1 from public.crossing where crossing_id = $2"), &["crossing: crossing_id | "]);
        // Beyond that query the name means the table.
        finds(
            &format!("select 1 from ({late} select 1) late, crossing where crossing.crossing_id = $2"),
            &["crossing: crossing_id | "],
        );
    }

    #[test]
    fn updates_deletes_unions_and_nested_queries_search_too() {
        finds("update passage_leg set state = $1 where traveller_id = $2", &["passage_leg: traveller_id | "]);
        finds("delete from passage_leg where crossing_id = $1", &["passage_leg: crossing_id | "]);
        finds(
            "select 1 from crossing where departs_at < $1 union select 1 from passage_leg where state = $2",
            &["crossing:  | departs_at]", "passage_leg: state | "],
        );
        finds(
            "select (select count(*) from passage_leg where state = $1) from crossing where crossing_id = $2",
            &["crossing: crossing_id | ", "passage_leg: state | "],
        );
    }

    #[test]
    fn what_an_index_search_cannot_use_is_left_out() {
        finds("select 1 from passage_leg where state = $1 or crossing_id = $2", &[]);
        finds("select 1 from passage_leg where not state = $1", &[]);
        finds("select 1 from passage_leg where lower(state) = $1", &[]);
        finds("select 1 from passage_leg where state <> $1", &[]);
        finds("select 1 from passage_leg where crossing_id = traveller_id", &[]);
        finds("select 1 from passage_leg where state = null", &[]);
    }

    #[test]
    fn comments_and_brackets_before_the_first_word_do_not_matter() {
        let plain = searches("select fare from passage_leg where state = $1", &skerry());
        assert!(plain.as_ref().is_ok_and(|found| !found.is_empty()));
        for written in [
            "/* svc=web */ select fare from passage_leg where state = $1",
            "-- gate\n(select fare from passage_leg where state = $1)",
            "((select fare from passage_leg where state = $1))",
        ] {
            assert_eq!(searches(written, &skerry()).ok(), plain.as_ref().ok().cloned(), "{written}");
        }
    }

    #[test]
    fn text_that_is_no_statement_says_so() {
        assert!(matches!(searches("selekt state from passage_leg", &skerry()), Err(Unreadable::Syntax(_))));
        let deep = format!("select {}1{}", "(".repeat(5000), ")".repeat(5000));
        assert!(searches(&deep, &skerry()).is_err());
    }
}
