use std::collections::{BTreeSet, HashMap};

use crate::readings::catalog::{IndexKey, Table};

/// What a statement asks of its tables: what indexes can be held against.
#[derive(Debug, Default)]
pub struct Shape<'a> {
    /// Its queries: the statement itself, those in its `FROM` and `WITH`, and those that run for each row of another.
    pub blocks: Vec<Block<'a>>,
    /// What it writes.
    pub write: Option<Write<'a>>,
    /// Whether it searches by a pattern or an expression with a literal that is not known: the server leaves literals out
    /// of what it counts.
    pub hides_literal: bool,
    /// Expressions that are compared, as an index would be made on them, by how they are held against others.
    pub expressions: HashMap<String, String>,
}

/// One query: tables that are joined, what they are searched by, and in which order the rows are wanted.
#[derive(Debug, Default)]
pub struct Block<'a> {
    /// What it reads.
    pub relations: Vec<Relation<'a>>,
    /// Columns of two of them that must be equal.
    pub joins: Vec<Join>,
    /// The order that its rows are wanted in; empty where any will do.
    pub order: Vec<OrderColumn>,
    /// Whether it ends once it has so many rows.
    pub ends_early: bool,
    /// Whether its rows are counted, grouped or made distinct, so that their number does not tell how many were found.
    pub sums_up: bool,
    /// The query for each of whose rows it runs; nothing where it runs once.
    pub per_row_of: Option<usize>,
}

/// One table in a query. A table that is named twice is two of them.
#[derive(Debug)]
pub struct Relation<'a> {
    /// What is read.
    pub of: Of<'a>,
    /// What its rows must meet, apart from joins.
    pub terms: Vec<Term>,
    /// Columns that are looked at; nothing where all are.
    pub wanted: Option<BTreeSet<String>>,
    /// Whether it is only asked whether there is such a row.
    pub is_checked: bool,
    /// Relations that must be read before it: those of the other side of an outer join.
    pub after: Vec<usize>,
}

/// Where rows come from.
#[derive(Debug, Clone, Copy)]
pub enum Of<'a> {
    /// A table.
    Table(&'a Table),
    /// Another query of the statement.
    Block(usize),
    /// A function, a view or a table that is not known.
    Unknown,
}

/// One thing that a row must meet.
#[derive(Debug, Clone, PartialEq)]
pub struct Term {
    /// What is compared; nothing where it is no plain column and no expression of one row alone.
    pub subject: Option<IndexKey>,
    /// How.
    pub compared: Compared,
}

/// How something is compared with what is known before the row is read.
#[derive(Debug, Clone, Copy, PartialEq)]
pub enum Compared {
    /// It equals one value.
    Equal,
    /// It equals one of so many values.
    OneOf(usize),
    /// It lies in a range.
    Range {
        /// Whether that has a lower end.
        from: bool,
        /// Whether it has an upper end.
        to: bool,
    },
    /// It begins with a text.
    Prefix,
    /// It has no value.
    Null,
    /// It has a value.
    NotNull,
    /// It is true, or false.
    Is(bool),
    /// It holds what is asked for: of arrays and JSON.
    Contains,
    /// No index helps with it.
    Other,
}

/// Two columns that must be equal: number of the relation and column of either.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Join {
    /// One side.
    pub left: (usize, String),
    /// The other.
    pub right: (usize, String),
}

/// A column that rows are ordered by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OrderColumn {
    /// Number of the relation.
    pub relation: usize,
    /// The column.
    pub column: String,
    /// Largest first.
    pub descending: bool,
}

/// What a statement writes.
#[derive(Debug)]
pub struct Write<'a> {
    /// The table.
    pub table: &'a Table,
    /// Columns that an update sets; nothing where rows are inserted or deleted.
    pub sets: Option<BTreeSet<String>>,
    /// Whether rows are inserted.
    pub inserts: bool,
}

impl Relation<'_> {
    /// What its rows must meet by a key; the first of several.
    pub fn term(&self, key: &IndexKey) -> Option<&Term> {
        self.terms.iter().find(|term| term.subject.as_ref() == Some(key))
    }
}

impl Compared {
    /// Whether it leaves the rows of single values, among which the next key of an index narrows further.
    pub fn is_exact(self) -> bool {
        matches!(self, Compared::Equal | Compared::OneOf(_) | Compared::Null | Compared::Is(_))
    }

    /// Whether all rows that meet it have one and the same value.
    ///
    /// The planner does not take rows without a value for alike here.
    pub fn is_one_value(self) -> bool {
        matches!(self, Compared::Equal | Compared::Is(_))
    }

    /// Whether it is a range with one end.
    pub fn has_one_end(self) -> bool {
        matches!(self, Compared::Range { from, to } if from != to)
    }

    /// Whether an ordered index finds the rows that meet it.
    pub fn is_searched(self) -> bool {
        self.is_exact() || matches!(self, Compared::Range { .. } | Compared::Prefix)
    }
}
