use std::collections::BTreeSet;
use std::ops::ControlFlow;

use sqlparser::ast::{
    AssignmentTarget, BinaryOperator, Delete, Distinct, Expr, FromTable, FunctionArg, FunctionArgExpr,
    FunctionArguments, GroupByExpr, Insert, JoinConstraint, JoinOperator, LimitClause, OrderByKind, OrderBySort, Query,
    Select, SelectItem, SetExpr, Statement, TableFactor, TableObject, TableWithJoins, UnaryOperator, Update,
    UpdateTableFromKind, Value, ValueWithSpan, Visit, Visitor,
};
use sqlparser::dialect::PostgreSqlDialect;
use sqlparser::parser::Parser;

use super::cost::MOST_JOINED;
use super::index_form::{bare, without_tables};
use super::scope::{Frame, Reference, folded, reference, split};
use super::shape::{Block, Compared, Join, Of, OrderColumn, Relation, Shape, Term, Write};
use crate::readings::catalog::{Catalog, IndexKey, Table};

/// Why a statement is not understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unreadable {
    /// The text is no statement that the parser knows.
    #[error("its text could not be read: {0}")]
    Syntax(String),
    /// It is neither a query nor a change of rows.
    #[error("it neither reads nor changes rows of a table")]
    NoSearch,
    /// None of its tables is known, or several fit the name.
    #[error("its tables are not known: they are the server's own, views, temporary, or several have that name")]
    UnknownTables,
    /// What it searches by holds a literal, and the server leaves literals out of what it counts.
    #[error("it searches by a pattern or an expression with a literal, which the server's counters leave out")]
    HiddenLiteral,
    /// It joins more tables than are joined in every order.
    #[error("it joins more than {MOST_JOINED} tables")]
    TooManyTables,
}

/// Deeper nesting than this is refused rather than followed.
const DEEPEST: usize = 50;
/// Values of a list whose length is not written.
const USUAL_LIST: usize = 10;
/// Functions that make one row of many.
const AGGREGATES: [&str; 17] = [
    "count",
    "sum",
    "avg",
    "min",
    "max",
    "array_agg",
    "string_agg",
    "json_agg",
    "jsonb_agg",
    "json_object_agg",
    "jsonb_object_agg",
    "bool_and",
    "bool_or",
    "every",
    "percentile_cont",
    "percentile_disc",
    "stddev",
];

/// What a statement asks of the tables of a catalog.
pub fn shape<'a>(statement: &str, catalog: &'a Catalog) -> Result<Shape<'a>, Unreadable> {
    let parsed = Parser::new(&PostgreSqlDialect {})
        .with_recursion_limit(DEEPEST)
        .try_with_sql(statement)
        .and_then(|mut parser| parser.parse_statements())
        .map_err(|error| Unreadable::Syntax(error.to_string()))?;
    let mut reader = Reader { catalog, shape: Shape::default(), frames: Vec::new(), looks_outside: false };
    for statement in &parsed {
        reader.statement(statement)?;
    }
    let mut relations = reader.shape.blocks.iter().flat_map(|block| &block.relations).peekable();
    let is_read = relations.peek().is_some();
    let is_known = relations.any(|relation| matches!(relation.of, Of::Table(_))) || reader.shape.write.is_some();
    match (is_known, is_read) {
        (true, _) => Ok(reader.shape),
        (false, true) => Err(Unreadable::UnknownTables),
        (false, false) => Err(Unreadable::NoSearch),
    }
}

struct Reader<'a> {
    catalog: &'a Catalog,
    shape: Shape<'a>,
    /// The queries around, the innermost last.
    frames: Vec<Frame>,
    /// Whether a column of a query around was looked at.
    looks_outside: bool,
}

/// Where a column is.
enum Found {
    /// In a relation of the query itself.
    Here(usize, String),
    /// In a query around it: known before a row of this one is read.
    Outside,
    /// Nowhere, or in several places.
    Unclear,
}

impl<'a> Reader<'a> {
    fn statement(&mut self, statement: &Statement) -> Result<(), Unreadable> {
        match statement {
            Statement::Query(query) => {
                self.query(query, None);
            }
            Statement::Update(update) => self.update(update),
            Statement::Delete(delete) => self.delete(delete),
            Statement::Insert(insert) => self.insert(insert),
            Statement::Explain { statement, .. } => self.statement(statement)?,
            _ => return Err(Unreadable::NoSearch),
        }
        Ok(())
    }

    fn block(&mut self, per_row_of: Option<usize>) -> usize {
        self.shape.blocks.push(Block { per_row_of, ..Block::default() });
        self.shape.blocks.len() - 1
    }

    /// A query in a block of its own.
    fn query(&mut self, query: &Query, per_row_of: Option<usize>) -> usize {
        let block = self.block(per_row_of);
        self.frames.push(Frame { block, ..Frame::default() });
        self.with(query);
        self.body(&query.body, block);
        self.order(query, block);
        self.frames.pop();
        block
    }

    fn with(&mut self, query: &Query) {
        for named in query.with.iter().flat_map(|with| &with.cte_tables) {
            let name = folded(&named.alias.name);
            // It may read itself.
            let own = self.shape.blocks.len();
            self.frame().queries.push((name, own));
            self.query(&named.query, None);
        }
    }

    fn body(&mut self, body: &SetExpr, block: usize) {
        match body {
            SetExpr::Select(select) => self.select(select, block),
            SetExpr::Query(query) => {
                let inner = self.query(query, None);
                self.relation(block, Of::Block(inner));
            }
            SetExpr::SetOperation { left, right, .. } => {
                for side in [left, right] {
                    let inner = self.block(None);
                    self.frames.push(Frame { block: inner, ..Frame::default() });
                    self.body(side, inner);
                    self.frames.pop();
                }
                self.shape.blocks[block].sums_up = true;
            }
            SetExpr::Insert(statement) | SetExpr::Update(statement) | SetExpr::Delete(statement) => {
                // What it changes is told by the statement that is written out.
                let _ = self.statement(statement);
            }
            _ => {}
        }
    }

    fn order(&mut self, query: &Query, block: usize) {
        let limit = match &query.limit_clause {
            Some(LimitClause::LimitOffset { limit, .. }) => limit.is_some(),
            other => other.is_some(),
        };
        let sums_up = self.shape.blocks[block].sums_up;
        let by = match query.order_by.as_ref().map(|order| &order.kind) {
            Some(OrderByKind::Expressions(by)) => by.as_slice(),
            _ => &[],
        };
        let columns = by.iter().map(|by| {
            self.look_at(block, &by.expr);
            let Found::Here(relation, column) = self.find(block, &reference(&by.expr)?) else { return None };
            let descending = matches!(by.options.sort, Some(OrderBySort::Desc));
            // Without a word on them, rows without a value come where an index has them.
            let as_sorted = by.options.nulls_first.is_none_or(|first| first == descending);
            as_sorted.then_some(OrderColumn { relation, column, descending })
        });
        let columns: Option<Vec<OrderColumn>> = columns.collect();
        let of = &mut self.shape.blocks[block];
        match columns {
            _ if sums_up => {}
            Some(columns) => {
                of.ends_early |= limit || query.fetch.is_some();
                of.order.extend(columns);
            }
            // Sorted by what no index holds: all of it is read first.
            None => of.sums_up |= limit,
        }
    }

    fn select(&mut self, select: &Select, block: usize) {
        for tables in &select.from {
            self.tables(tables, block);
        }
        if let Some(condition) = &select.selection {
            self.condition(condition, block, &[]);
        }
        let groups = match &select.group_by {
            GroupByExpr::Expressions(by, _) => by.as_slice(),
            GroupByExpr::All(_) => &[],
        };
        let is_distinct = select.distinct.as_ref().is_some_and(|distinct| !matches!(distinct, Distinct::All));
        let mut counts = false;
        for item in &select.projection {
            match item {
                SelectItem::UnnamedExpr(value) | SelectItem::ExprWithAlias { expr: value, .. } => {
                    counts |= is_counted(value);
                    self.look_at(block, value);
                    self.nested(block, value);
                }
                _ => self.shape.blocks[block].relations.iter_mut().for_each(|relation| relation.wanted = None),
            }
        }
        for value in groups.iter().chain(&select.having) {
            self.look_at(block, value);
            self.nested(block, value);
        }
        if groups.is_empty() && !is_distinct && select.projection.len() == 1 && self.ends(&select.projection[0], block)
        {
            return;
        }
        self.shape.blocks[block].sums_up |= counts || is_distinct || !groups.is_empty() || select.having.is_some();
    }

    /// The smallest or largest value of a column alone: the first row in its order.
    fn ends(&mut self, item: &SelectItem, block: usize) -> bool {
        let (SelectItem::UnnamedExpr(Expr::Function(function))
        | SelectItem::ExprWithAlias { expr: Expr::Function(function), .. }) = item
        else {
            return false;
        };
        let FunctionArguments::List(arguments) = &function.args else { return false };
        let [FunctionArg::Unnamed(FunctionArgExpr::Expr(of))] = arguments.args.as_slice() else { return false };
        let descending = match split(&function.name).1.as_str() {
            "max" => true,
            "min" => false,
            _ => return false,
        };
        let found = reference(of).map(|column| self.find(block, &column));
        let Some(Found::Here(relation, column)) = found else { return false };
        let of = &mut self.shape.blocks[block];
        of.order.push(OrderColumn { relation, column, descending });
        of.ends_early = true;
        true
    }

    fn relation(&mut self, block: usize, of: Of<'a>) -> usize {
        let relations = &mut self.shape.blocks[block].relations;
        let wanted = Some(BTreeSet::new());
        relations.push(Relation { of, terms: Vec::new(), wanted, is_checked: false, after: Vec::new() });
        relations.len() - 1
    }

    fn tables(&mut self, tables: &TableWithJoins, block: usize) {
        let mut left = self.factor(&tables.relation, block);
        for join in &tables.joins {
            let right = self.factor(&join.relation, block);
            let (constraint, after, later) = match &join.join_operator {
                JoinOperator::Left(on) | JoinOperator::LeftOuter(on) => (Some(on), &left, &right),
                JoinOperator::Right(on) | JoinOperator::RightOuter(on) => (Some(on), &right, &left),
                JoinOperator::Join(on)
                | JoinOperator::Inner(on)
                | JoinOperator::FullOuter(on)
                | JoinOperator::CrossJoin(on) => (Some(on), &left, &Vec::new()),
                _ => (None, &left, &Vec::new()),
            };
            let (after, later) = (after.clone(), later.clone());
            for relation in &later {
                self.shape.blocks[block].relations[*relation].after.extend(&after);
            }
            match constraint {
                Some(JoinConstraint::On(condition)) => self.condition(condition, block, &later),
                Some(JoinConstraint::Using(columns)) => {
                    for column in columns {
                        let name = split(column).1;
                        let side = |these: &[usize]| these.iter().copied().find(|one| self.has(block, *one, &name));
                        if let (Some(one), Some(other)) = (side(&left), side(&right)) {
                            self.join(block, (one, name.clone()), (other, name));
                        }
                    }
                }
                _ => {}
            }
            left.extend(right);
        }
    }

    /// The relations of one place in `FROM`.
    fn factor(&mut self, factor: &TableFactor, block: usize) -> Vec<usize> {
        let (of, name) = match factor {
            TableFactor::Table { name, alias, args: None, .. } => {
                let (schema, bare) = split(name);
                let known = alias.as_ref().map_or_else(|| bare.clone(), |alias| folded(&alias.name));
                (self.table(schema, bare), known)
            }
            TableFactor::Derived { subquery, alias, .. } => {
                let inner = self.query(subquery, None);
                (Of::Block(inner), alias.as_ref().map(|alias| folded(&alias.name)).unwrap_or_default())
            }
            TableFactor::NestedJoin { table_with_joins, .. } => {
                let first = self.shape.blocks[block].relations.len();
                self.tables(table_with_joins, block);
                return (first..self.shape.blocks[block].relations.len()).collect();
            }
            TableFactor::Table { alias, .. } | TableFactor::Function { alias, .. } => {
                (Of::Unknown, alias.as_ref().map(|alias| folded(&alias.name)).unwrap_or_default())
            }
            _ => (Of::Unknown, String::new()),
        };
        let relation = self.relation(block, of);
        self.frame().names.push((name, relation));
        vec![relation]
    }

    fn table(&self, schema: Option<String>, bare: String) -> Of<'a> {
        let named = self.frames.iter().rev().flat_map(|frame| &frame.queries).find(|(name, _)| *name == bare);
        match (schema, named) {
            (None, Some((_, block))) => Of::Block(*block),
            (schema, _) => self.catalog.table(schema.as_deref(), &bare).map_or(Of::Unknown, Of::Table),
        }
    }

    fn frame(&mut self) -> &mut Frame {
        if self.frames.is_empty() {
            self.frames.push(Frame::default());
        }
        let last = self.frames.len() - 1;
        &mut self.frames[last]
    }

    /// Whether a relation may have a column of that name.
    fn has(&self, block: usize, relation: usize, column: &str) -> bool {
        match self.shape.blocks[block].relations[relation].of {
            Of::Table(table) => table.column(column).is_some(),
            Of::Block(_) | Of::Unknown => true,
        }
    }

    /// Where a column is: in the innermost query that has one of that name.
    fn find(&mut self, block: usize, column: &Reference) -> Found {
        for frame in self.frames.iter().rev() {
            let of_name = |(name, relation): &&(String, usize)| match &column.qualifier {
                Some(qualifier) => name == qualifier,
                None => self.has(frame.block, *relation, &column.name),
            };
            let mut owners = frame.names.iter().filter(of_name);
            let Some((_, relation)) = owners.next() else { continue };
            // A name that several have is clear where `USING` made one column of them.
            let is_merged =
                |(_, other): &(String, usize)| self.are_merged(frame.block, *relation, *other, &column.name);
            if !owners.all(is_merged) || !self.has(frame.block, *relation, &column.name) {
                return Found::Unclear;
            }
            if frame.block != block {
                self.looks_outside = true;
                return Found::Outside;
            }
            return Found::Here(*relation, column.name.clone());
        }
        Found::Unclear
    }

    /// Whether two relations are joined by a column that has this name in both.
    fn are_merged(&self, block: usize, one: usize, other: usize, column: &str) -> bool {
        let is_of = |(relation, name): &(usize, String)| (*relation == one || *relation == other) && name == column;
        let mut joins = self.shape.blocks[block].joins.iter();
        joins.any(|join| join.left.0 != join.right.0 && is_of(&join.left) && is_of(&join.right))
    }

    fn join(&mut self, block: usize, left: (usize, String), right: (usize, String)) {
        let of = &mut self.shape.blocks[block];
        for (relation, column) in [&left, &right] {
            if let Some(wanted) = &mut of.relations[*relation].wanted {
                wanted.insert(column.clone());
            }
        }
        of.joins.push(Join { left, right });
    }

    /// A condition that must hold; `later` are the relations of the inner side of an outer join whose condition it is.
    fn condition(&mut self, condition: &Expr, block: usize, later: &[usize]) {
        match condition {
            Expr::BinaryOp { left, op: BinaryOperator::And, right } => {
                self.condition(left, block, later);
                self.condition(right, block, later);
            }
            Expr::Nested(inner) => self.condition(inner, block, later),
            Expr::Exists { subquery, negated } if self.take_in(subquery, None, block, *negated) => {}
            Expr::InSubquery { expr, subquery, negated } if self.take_in(subquery, Some(expr), block, *negated) => {
                self.look_at(block, expr);
            }
            term => {
                self.look_at(block, term);
                self.nested(block, term);
                self.term(term, block, later);
            }
        }
    }

    /// Reads a query that is asked for rows as further relations of the block; says whether it is one of that kind.
    fn take_in(&mut self, query: &Query, equals: Option<&Expr>, block: usize, negated: bool) -> bool {
        let SetExpr::Select(select) = query.body.as_ref() else { return false };
        let is_plain = query.with.is_none()
            && query.limit_clause.is_none()
            && matches!(&select.group_by, GroupByExpr::Expressions(by, _) if by.is_empty())
            && !select
                .projection
                .iter()
                .any(|item| matches!(item, SelectItem::UnnamedExpr(value) if is_counted(value)));
        if !is_plain {
            return false;
        }
        let before = self.shape.blocks[block].relations.len();
        let outer = equals.and_then(reference).map(|column| self.find(block, &column));
        self.frames.push(Frame { block, ..Frame::default() });
        for tables in &select.from {
            self.tables(tables, block);
        }
        if let Some(condition) = &select.selection {
            self.condition(condition, block, &[]);
        }
        if let ([SelectItem::UnnamedExpr(value)], Some(Found::Here(relation, column))) =
            (select.projection.as_slice(), outer)
            && let Some(inner) = reference(value)
            && let Found::Here(other, name) = self.find(block, &inner)
        {
            self.join(block, (relation, column), (other, name));
        }
        self.frames.pop();
        let relations = &mut self.shape.blocks[block].relations;
        for relation in &mut relations[before..] {
            relation.is_checked = true;
            if negated {
                relation.after.extend(0..before);
            }
        }
        true
    }

    /// Queries within an expression: each runs for every row where it looks at one.
    fn nested(&mut self, block: usize, expression: &Expr) {
        struct Nested {
            depth: usize,
            outermost: Vec<Query>,
        }
        impl Visitor for Nested {
            type Break = ();
            fn pre_visit_query(&mut self, query: &Query) -> ControlFlow<()> {
                if self.depth == 0 {
                    self.outermost.push(query.clone());
                }
                self.depth += 1;
                ControlFlow::Continue(())
            }
            fn post_visit_query(&mut self, _: &Query) -> ControlFlow<()> {
                self.depth -= 1;
                ControlFlow::Continue(())
            }
        }
        let mut nested = Nested { depth: 0, outermost: Vec::new() };
        let _ = expression.visit(&mut nested);
        for query in nested.outermost {
            let looked_outside = std::mem::take(&mut self.looks_outside);
            let inner = self.query(&query, None);
            if self.looks_outside {
                self.shape.blocks[inner].per_row_of = Some(block);
            }
            // What a query within looks at may be further outside than this one.
            self.looks_outside |= looked_outside;
        }
    }

    /// Notes the columns that an expression looks at.
    fn look_at(&mut self, block: usize, expression: &Expr) {
        for column in columns(expression) {
            if let Found::Here(relation, name) = self.find(block, &column)
                && let Some(wanted) = &mut self.shape.blocks[block].relations[relation].wanted
            {
                wanted.insert(name);
            }
        }
    }

    /// Whether an expression has a value before a row of the block is read: built from literals, parameters, functions
    /// of them, and what queries around it have read.
    fn is_known_before(&mut self, block: usize, expression: &Expr) -> bool {
        let is_null = matches!(expression, Expr::Value(ValueWithSpan { value: Value::Null, .. }));
        let is_query = matches!(expression, Expr::Subquery(_));
        let outside = |reader: &mut Self, column| matches!(reader.find(block, &column), Found::Outside);
        !is_null && (is_query || columns(expression).into_iter().all(|column| outside(self, column)))
    }

    /// What an expression is the value of: a column of a relation, or an expression of its columns alone.
    fn subject(&mut self, block: usize, expression: &Expr) -> Option<(usize, IndexKey)> {
        if let Some(column) = reference(expression) {
            let Found::Here(relation, name) = self.find(block, &column) else { return None };
            return Some((relation, IndexKey::Column(name)));
        }
        let text = expression.to_string();
        // What a parameter is part of differs from call to call.
        if text.contains('$') {
            return None;
        }
        let mut relation = None;
        for column in columns(expression) {
            match self.find(block, &column) {
                Found::Here(one, _) if relation.is_none_or(|known| known == one) => relation = Some(one),
                _ => return None,
            }
        }
        // A name of a table and a literal with a point in it look the same.
        if text.contains('.') && text.contains('\'') {
            return None;
        }
        let compared = bare(&text);
        self.shape.expressions.insert(compared.clone(), without_tables(&text));
        Some((relation?, IndexKey::Expression(compared)))
    }

    fn term(&mut self, term: &Expr, block: usize, later: &[usize]) {
        if let Expr::BinaryOp { left, op: BinaryOperator::Eq, right } = term
            && let (Some(one), Some(other)) = (reference(left), reference(right))
            && let (Found::Here(one, left), Found::Here(other, right)) =
                (self.find(block, &one), self.find(block, &other))
            && one != other
        {
            return self.join(block, (one, left), (other, right));
        }
        let Some((relation, key, compared)) = self.compared(block, term) else {
            return self.other(block, term, later);
        };
        // What the condition of an outer join says of the other side drops none of its rows.
        if !later.is_empty() && !later.contains(&relation) {
            return;
        }
        let of = &mut self.shape.blocks[block].relations[relation];
        let known = of.terms.iter_mut().find(|term| term.subject.as_ref() == Some(&key));
        match (known.map(|term| &mut term.compared), compared) {
            (Some(Compared::Range { from, to }), Compared::Range { from: also_from, to: also_to }) => {
                (*from, *to) = (*from || also_from, *to || also_to);
            }
            (Some(known), compared) if compared.is_exact() && !known.is_exact() => *known = compared,
            (Some(known), _) if known.is_exact() => {}
            _ => of.terms.push(Term { subject: Some(key), compared }),
        }
    }

    /// A condition that no index helps with, of one relation or of several.
    fn other(&mut self, block: usize, term: &Expr, later: &[usize]) {
        self.shape.hides_literal |= hides_literal(term);
        let mut relations = BTreeSet::new();
        for column in columns(term) {
            if let Found::Here(relation, _) = self.find(block, &column) {
                relations.insert(relation);
            }
        }
        if let [only] = relations.into_iter().collect::<Vec<_>>()[..]
            && (later.is_empty() || later.contains(&only))
        {
            let terms = &mut self.shape.blocks[block].relations[only].terms;
            terms.push(Term { subject: None, compared: Compared::Other });
        }
    }

    fn compared(&mut self, block: usize, term: &Expr) -> Option<(usize, IndexKey, Compared)> {
        let of = |reader: &mut Self, expression: &Expr, compared| {
            let (relation, key) = reader.subject(block, expression)?;
            Some((relation, key, compared))
        };
        match term {
            Expr::BinaryOp { left, op, right } => {
                let compared = match op {
                    BinaryOperator::Eq => Compared::Equal,
                    BinaryOperator::Lt | BinaryOperator::LtEq => Compared::Range { from: false, to: true },
                    BinaryOperator::Gt | BinaryOperator::GtEq => Compared::Range { from: true, to: false },
                    BinaryOperator::PGStartsWith => Compared::Prefix,
                    BinaryOperator::AtArrow
                    | BinaryOperator::Question
                    | BinaryOperator::QuestionAnd
                    | BinaryOperator::QuestionPipe
                    | BinaryOperator::PGOverlap
                    | BinaryOperator::AtAt => Compared::Contains,
                    BinaryOperator::Or => return self.one_of_several(block, term),
                    _ => return None,
                };
                if self.is_known_before(block, right) {
                    return of(self, left, compared);
                }
                let turned = match compared {
                    Compared::Equal => compared,
                    Compared::Range { from, to } => Compared::Range { from: to, to: from },
                    _ => return None,
                };
                if self.is_known_before(block, left) { of(self, right, turned) } else { None }
            }
            Expr::Between { expr, negated: false, low, high } => {
                let is_known = self.is_known_before(block, low) && self.is_known_before(block, high);
                is_known.then(|| of(self, expr, Compared::Range { from: true, to: true })).flatten()
            }
            Expr::InList { expr, list, negated: false } => {
                let is_known = list.iter().all(|value| self.is_known_before(block, value));
                is_known.then(|| of(self, expr, Compared::OneOf(list.len()))).flatten()
            }
            Expr::AnyOp { left, compare_op: BinaryOperator::Eq, right, .. } if self.is_known_before(block, right) => {
                of(self, left, Compared::OneOf(USUAL_LIST))
            }
            // One value among those of an array in the row.
            Expr::AnyOp { left, compare_op: BinaryOperator::Eq, right, .. } if self.is_known_before(block, left) => {
                of(self, right, Compared::Contains)
            }
            Expr::InSubquery { expr, negated: false, .. } => of(self, expr, Compared::OneOf(USUAL_LIST)),
            Expr::Like { negated: false, any: false, expr, pattern, .. } if begins_fixed(pattern) => {
                of(self, expr, Compared::Prefix)
            }
            Expr::IsNull(inner) => of(self, inner, Compared::Null),
            Expr::IsNotNull(inner) => of(self, inner, Compared::NotNull),
            Expr::IsTrue(inner) => of(self, inner, Compared::Is(true)),
            Expr::IsFalse(inner) => of(self, inner, Compared::Is(false)),
            Expr::UnaryOp { op: UnaryOperator::Not, expr } if reference(expr).is_some() => {
                of(self, expr, Compared::Is(false))
            }
            Expr::Identifier(_) | Expr::CompoundIdentifier(_) => of(self, term, Compared::Is(true)),
            Expr::Nested(inner) => self.compared(block, inner),
            _ => None,
        }
    }

    /// Values of one column, written as alternatives.
    fn one_of_several(&mut self, block: usize, term: &Expr) -> Option<(usize, IndexKey, Compared)> {
        let mut alternatives = Vec::new();
        either(term, &mut alternatives);
        let (mut subject, mut values) = (None, 0);
        for one in alternatives {
            let (relation, key, compared) = self.compared(block, one)?;
            values += match compared {
                Compared::Equal => 1,
                Compared::OneOf(values) => values,
                _ => return None,
            };
            match &subject {
                None => subject = Some((relation, key)),
                Some(known) if *known == (relation, key) => {}
                Some(_) => return None,
            }
        }
        subject.map(|(relation, key)| (relation, key, Compared::OneOf(values)))
    }

    fn written(&self, name: &sqlparser::ast::ObjectName) -> Option<&'a Table> {
        let (schema, bare) = split(name);
        self.catalog.table(schema.as_deref(), &bare)
    }

    /// A change of rows that are searched for; answers with the table and the number of the query.
    fn change(&mut self, from: &[&TableWithJoins], condition: Option<&Expr>, values: &[&Expr]) -> usize {
        let block = self.block(None);
        self.frames.push(Frame { block, ..Frame::default() });
        for tables in from {
            self.tables(tables, block);
        }
        if let Some(condition) = condition {
            self.condition(condition, block, &[]);
        }
        for value in values {
            self.look_at(block, value);
            self.nested(block, value);
        }
        self.frames.pop();
        // A row that is changed is read in whole.
        if let Some(first) = self.shape.blocks[block].relations.first_mut() {
            first.wanted = None;
        }
        block
    }

    fn update(&mut self, update: &Update) {
        let from = match &update.from {
            Some(UpdateTableFromKind::AfterSet(from) | UpdateTableFromKind::BeforeSet(from)) => from.as_slice(),
            None => &[],
        };
        let from: Vec<&TableWithJoins> = std::iter::once(&update.table).chain(from).collect();
        let values: Vec<&Expr> = update.assignments.iter().map(|set| &set.value).collect();
        let block = self.change(&from, update.selection.as_ref(), &values);
        let sets = update.assignments.iter().flat_map(|set| match &set.target {
            AssignmentTarget::ColumnName(name) => vec![split(name).1],
            AssignmentTarget::Tuple(names) => names.iter().map(|name| split(name).1).collect(),
        });
        let sets: BTreeSet<String> = sets.collect();
        if let Some(Relation { of: Of::Table(table), .. }) = self.shape.blocks[block].relations.first() {
            self.shape.write = Some(Write { table, sets: Some(sets), inserts: false });
        }
    }

    fn delete(&mut self, delete: &Delete) {
        let (FromTable::WithFromKeyword(tables) | FromTable::WithoutKeyword(tables)) = &delete.from;
        let from: Vec<&TableWithJoins> = tables.iter().chain(delete.using.iter().flatten()).collect();
        let block = self.change(&from, delete.selection.as_ref(), &[]);
        let Some(Relation { of: Of::Table(table), .. }) = self.shape.blocks[block].relations.first() else { return };
        let table = *table;
        self.shape.write = Some(Write { table, sets: None, inserts: false });
        self.references(table, block);
    }

    /// Tables that refer to one are searched for each of its rows that is deleted.
    fn references(&mut self, parent: &Table, block: usize) {
        let name = parent.qualified_name();
        for child in self.catalog.tables.iter().filter(|child| child.part_of.is_none()) {
            for reference in child.foreign_keys.iter().filter(|reference| reference.parent == name) {
                let search = self.block(Some(block));
                let relation = self.relation(search, Of::Table(child));
                let of = &mut self.shape.blocks[search].relations[relation];
                of.is_checked = true;
                let column =
                    |name: &String| Term { subject: Some(IndexKey::Column(name.clone())), compared: Compared::Equal };
                of.terms = reference.columns.iter().map(column).collect();
            }
        }
    }

    fn insert(&mut self, insert: &Insert) {
        if let Some(source) = &insert.source
            && !matches!(source.body.as_ref(), SetExpr::Values(_))
        {
            self.query(source, None);
        }
        let TableObject::TableName(name) = &insert.table else { return };
        if let Some(table) = self.written(name) {
            self.shape.write = Some(Write { table, sets: None, inserts: true });
        }
    }
}

/// Columns that an expression names, without those of queries within.
fn columns(expression: &Expr) -> Vec<Reference> {
    struct Columns {
        depth: usize,
        found: Vec<Reference>,
    }
    impl Visitor for Columns {
        type Break = ();
        fn pre_visit_query(&mut self, _: &Query) -> ControlFlow<()> {
            self.depth += 1;
            ControlFlow::Continue(())
        }
        fn post_visit_query(&mut self, _: &Query) -> ControlFlow<()> {
            self.depth -= 1;
            ControlFlow::Continue(())
        }
        fn pre_visit_expr(&mut self, expression: &Expr) -> ControlFlow<()> {
            let is_column = matches!(expression, Expr::Identifier(_) | Expr::CompoundIdentifier(_));
            if is_column && self.depth == 0 {
                self.found.extend(reference(expression));
            }
            ControlFlow::Continue(())
        }
    }
    let mut columns = Columns { depth: 0, found: Vec::new() };
    let _ = expression.visit(&mut columns);
    columns.found
}

/// Whether an expression makes one row of many.
fn is_counted(expression: &Expr) -> bool {
    struct Aggregates;
    impl Visitor for Aggregates {
        type Break = ();
        fn pre_visit_expr(&mut self, expression: &Expr) -> ControlFlow<()> {
            match expression {
                Expr::Function(function)
                    if function.over.is_none() && AGGREGATES.contains(&split(&function.name).1.as_str()) =>
                {
                    ControlFlow::Break(())
                }
                _ => ControlFlow::Continue(()),
            }
        }
    }
    expression.visit(&mut Aggregates).is_break()
}

/// Whether a condition would be a search if its literals were known: `name LIKE $1`, `payload ->> $1 = $2`.
fn hides_literal(term: &Expr) -> bool {
    let is_unknown = |value: &Expr| matches!(value, Expr::Value(ValueWithSpan { value: Value::Placeholder(_), .. }));
    match term {
        Expr::Like { negated: false, expr, pattern, .. } => is_unknown(pattern) && reference(expr).is_some(),
        Expr::BinaryOp { left, op: BinaryOperator::Eq, right } => [left, right]
            .into_iter()
            .any(|side| !is_unknown(side) && side.to_string().contains('$') && !columns(side).is_empty()),
        _ => false,
    }
}

/// Alternatives, of which one must hold.
fn either<'e>(condition: &'e Expr, alternatives: &mut Vec<&'e Expr>) {
    match condition {
        Expr::BinaryOp { left, op: BinaryOperator::Or, right } => {
            either(left, alternatives);
            either(right, alternatives);
        }
        Expr::Nested(inner) => either(inner, alternatives),
        one => alternatives.push(one),
    }
}

/// Whether a pattern begins with a text that is fixed: `'abc%'`, or a parameter with something behind it.
fn begins_fixed(pattern: &Expr) -> bool {
    match pattern {
        Expr::Value(ValueWithSpan { value: Value::SingleQuotedString(text), .. }) => !text.starts_with(['%', '_']),
        Expr::BinaryOp { left, op: BinaryOperator::StringConcat, .. } => {
            matches!(left.as_ref(), Expr::Value(ValueWithSpan { value: Value::Placeholder(_), .. }))
                || begins_fixed(left)
        }
        Expr::Nested(inner) => begins_fixed(inner),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::catalog::ForeignKey;
    use crate::readings::catalog::test_catalog::{catalog, table};

    fn skerry() -> Catalog {
        let columns = [("passage_leg_id", 1e5), ("crossing_id", 1000.0), ("state", 4.0), ("traveller_id", 5e4)];
        let mut leg = table("passage_leg", 1e5, &columns, vec![]);
        let crossing = vec!["crossing_id".to_owned()];
        leg.foreign_keys =
            vec![ForeignKey { name: "leg_crossing".into(), columns: crossing, parent: "public.crossing".into() }];
        let crossing =
            table("crossing", 1000.0, &[("crossing_id", 1000.0), ("departs_at", 900.0), ("is_open", 2.0)], vec![]);
        catalog(1, vec![leg, crossing])
    }

    /// Each relation as `table: terms`, then joins, order and what else there is.
    fn told(statement: &str) -> Vec<String> {
        let catalog = skerry();
        let shape = shape(statement, &catalog).unwrap();
        let mut told = Vec::new();
        for block in &shape.blocks {
            for relation in &block.relations {
                let name = match relation.of {
                    Of::Table(table) => table.name.clone(),
                    Of::Block(block) => format!("#{block}"),
                    Of::Unknown => "?".into(),
                };
                let term = |term: &Term| {
                    let subject = term.subject.as_ref().map_or("", IndexKey::text);
                    format!("{subject} {:?}", term.compared)
                };
                let terms: Vec<String> = relation.terms.iter().map(term).collect();
                told.push(format!("{name}: {}", terms.join(", ")));
            }
            let joins = block.joins.iter().map(|join| format!("{}={}", join.left.1, join.right.1));
            let order =
                block.order.iter().map(|by| format!("by {}{}", by.column, if by.descending { " desc" } else { "" }));
            told.extend(joins.chain(order));
            told.extend(block.per_row_of.map(|outer| format!("per row of #{outer}")));
        }
        told
    }

    #[test]
    fn what_is_compared_with_what_is_known_before() {
        for (condition, terms) in [
            ("crossing_id = $1 and state = $2", "crossing_id Equal, state Equal"),
            ("state in ($1, $2) and (traveller_id) = $3", "state OneOf(2), traveller_id Equal"),
            ("state = any($1)", "state OneOf(10)"),
            ("state = $1 or state = $2", "state OneOf(2)"),
            ("$1 > crossing_id and crossing_id >= $2", "crossing_id Range { from: true, to: true }"),
            ("crossing_id between $1 and $2", "crossing_id Range { from: true, to: true }"),
            ("crossing_id > $1", "crossing_id Range { from: true, to: false }"),
            ("state like 'ab%'", "state Prefix"),
            ("state like $1 || $2", "state Prefix"),
            ("state is null and traveller_id is not null", "state Null, traveller_id NotNull"),
            ("lower(state) = $1", "lower(state) Equal"),
            ("state @> $1", "state Contains"),
            ("$1 = any(state)", "state Contains"),
            ("state <> $1 or traveller_id = $2", " Other"),
        ] {
            assert_eq!(
                told(&format!("select 1 from passage_leg where {condition}")),
                [format!("passage_leg: {terms}")]
            );
        }
        assert_eq!(told("select 1 from crossing where not is_open"), ["crossing: is_open Is(false)"]);
        assert_eq!(
            told("select 1 from crossing where is_open order by departs_at desc limit $1"),
            ["crossing: is_open Is(true)", "by departs_at desc"]
        );
        assert_eq!(told("select max(departs_at) from crossing"), ["crossing: ", "by departs_at desc"]);
    }

    #[test]
    fn tables_are_joined_and_looked_up_for_each_other() {
        let join = "select 1 from passage_leg l join crossing c on c.crossing_id = l.crossing_id where l.state = $1 and departs_at = $2";
        assert_eq!(told(join), ["passage_leg: state Equal", "crossing: departs_at Equal", "crossing_id=crossing_id"]);
        let twice = "select 1 from passage_leg a join passage_leg b using (crossing_id) where a.state = $1";
        assert_eq!(told(twice), ["passage_leg: state Equal", "passage_leg: ", "crossing_id=crossing_id"]);
        let merged = "select 1 from passage_leg join crossing using (crossing_id) where crossing_id = $1";
        assert_eq!(told(merged), ["passage_leg: crossing_id Equal", "crossing: ", "crossing_id=crossing_id"]);
        let unclear = "select 1 from passage_leg, crossing where crossing_id = $1";
        assert_eq!(told(unclear), ["passage_leg: ", "crossing: "], "which of them is not said");
        let asked = "select 1 from crossing c where exists (select 1 from passage_leg l where l.crossing_id = c.crossing_id and state = $1)";
        assert_eq!(told(asked), ["crossing: ", "passage_leg: state Equal", "crossing_id=crossing_id"]);
        let within =
            "select 1 from passage_leg where crossing_id in (select crossing_id from crossing where departs_at = $1)";
        assert_eq!(told(within), ["passage_leg: ", "crossing: departs_at Equal", "crossing_id=crossing_id"]);
        let each = "select (select count(*) from passage_leg l where l.crossing_id = c.crossing_id) from crossing c";
        assert_eq!(told(each), ["crossing: ", "passage_leg: crossing_id Equal", "per row of #0"]);
        // Rows that refer to one that is deleted are looked for.
        let deleted = "delete from crossing where crossing_id = $1";
        assert_eq!(told(deleted), ["crossing: crossing_id Equal", "passage_leg: crossing_id Equal", "per row of #0"]);
    }

    #[test]
    fn a_query_of_that_name_is_no_table() {
        let late = "with crossing as (select * from passage_leg where state = $1)";
        assert_eq!(
            told(&format!("{late} select 1 from crossing where crossing_id = $2")),
            ["#1: crossing_id Equal", "passage_leg: state Equal"]
        );
        let beyond = told(&format!("{late} select 1 from public.crossing where crossing_id = $2"));
        assert_eq!(beyond[0], "crossing: crossing_id Equal");
    }

    #[test]
    fn what_is_not_understood_says_why() {
        let why = |statement: &str| shape(statement, &skerry()).err();
        assert!(matches!(why("selekt state from passage_leg"), Some(Unreadable::Syntax(_))));
        let deep = format!("select {}1{}", "(".repeat(5000), ")".repeat(5000));
        assert!(why(&deep).is_some());
        assert_eq!(why("select 1 from old.crossing"), Some(Unreadable::UnknownTables));
        assert_eq!(why("begin"), Some(Unreadable::NoSearch));
        assert_eq!(why("select 1"), Some(Unreadable::NoSearch));
        let catalog = skerry();
        let hides = |condition: &str| {
            shape(&format!("select 1 from passage_leg where {condition}"), &catalog).unwrap().hides_literal
        };
        assert!(hides("state like $1") && hides("state ->> $1 = $2") && !hides("state = $1"));
    }

    #[test]
    fn comments_and_brackets_before_the_first_word_do_not_matter() {
        let plain = told("select fare from passage_leg where state = $1");
        for written in [
            "/* svc=web */ select fare from passage_leg where state = $1",
            "((select fare from passage_leg where state = $1))",
        ] {
            assert!(told(written).contains(&plain[0]), "{written}");
        }
    }
}
