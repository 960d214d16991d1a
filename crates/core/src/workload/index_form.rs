use super::cost::Size;
use crate::findings::index_size::{base_type, new_index_bytes};
use crate::readings::catalog::{Catalog, Index, IndexKey, Table};

/// Entries of a leaf page about whose keys nothing is known.
const USUAL_ENTRIES_PER_PAGE: f64 = 200.0;
/// Bytes of a page.
const PAGE: f64 = 8192.0;
/// Share of its size that a GIN takes of the column it is on.
const GIN_SHARE: f64 = 0.25;

/// An index, there or not: what a search can do with it.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct IndexForm {
    /// The server's number of its table.
    pub table: u32,
    /// How it keeps its entries.
    pub method: Method,
    /// Its keys in order.
    pub keys: Vec<FormKey>,
    /// Columns that it carries without ordering by them.
    pub carried: Vec<String>,
    /// What the rows that it holds meet; nothing where it holds all.
    pub condition: Option<String>,
}

/// How an index keeps its entries.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Method {
    /// In order.
    Btree,
    /// By what a value is made of: arrays, JSON, texts.
    Gin,
    /// Another way, that no search of a statement is held against.
    Other,
}

/// One key of an index.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct FormKey {
    /// What it is on.
    pub key: IndexKey,
    /// Largest first.
    pub descending: bool,
    /// Whether texts are ordered by their bytes, so that a beginning is found.
    pub by_pattern: bool,
}

impl FormKey {
    /// A column, smallest first.
    pub fn column(name: &str) -> FormKey {
        FormKey { key: IndexKey::Column(name.to_owned()), descending: false, by_pattern: false }
    }
}

impl IndexForm {
    /// Of an index that is there; nothing of one that statements may not use.
    pub fn of(table: &Table, index: &Index) -> Option<IndexForm> {
        let method = match index.method.as_str() {
            "btree" => Method::Btree,
            "gin" => Method::Gin,
            _ => Method::Other,
        };
        let orders = index.key_orders();
        let key = |(place, key): (usize, &IndexKey)| {
            let flags = orders.as_ref().map_or(0, |orders| orders[place].flags);
            let key = match key {
                IndexKey::Expression(text) => IndexKey::Expression(bare(text)),
                column => column.clone(),
            };
            FormKey { key, descending: flags & 1 == 1, by_pattern: !index.plain && method == Method::Btree }
        };
        index.valid.then(|| IndexForm {
            table: table.oid,
            method,
            keys: index.keys.iter().enumerate().map(key).collect(),
            carried: index.carried.clone(),
            condition: index.condition.as_deref().map(bare),
        })
    }

    /// The indexes of every table, by the server's number of it; a partitioned table has those of the whole.
    pub fn present(catalog: &Catalog) -> Vec<(IndexForm, f64)> {
        let forms = catalog.indexes().filter(|(_, index)| index.part_of.is_none());
        forms.filter_map(|(table, index)| Some((IndexForm::of(table, index)?, index.size_bytes as f64))).collect()
    }

    /// Columns that it holds the values of.
    pub fn columns(&self) -> impl Iterator<Item = &str> {
        let keys = self.keys.iter().filter_map(|key| match &key.key {
            IndexKey::Column(name) => Some(name.as_str()),
            IndexKey::Expression(_) => None,
        });
        keys.chain(self.carried.iter().map(String::as_str))
    }

    /// Size in bytes once it is built on a table of so many rows, of which it holds a share: in each of its parts.
    pub fn bytes(&self, table: &Table, size: Size, share: f64) -> f64 {
        let held = size.rows * share / size.parts;
        size.parts * self.bytes_of_part(table, held)
    }

    fn bytes_of_part(&self, table: &Table, held: f64) -> f64 {
        match self.method {
            Method::Gin => {
                let width = |name: &str| {
                    let column = table.column(name);
                    column.and_then(|column| column.statistics.as_ref()).map_or(32.0, |known| known.width_bytes)
                };
                self.columns().map(|name| width(name) * held * GIN_SHARE).sum::<f64>().max(PAGE)
            }
            Method::Btree | Method::Other if self.keys.iter().all(|key| matches!(key.key, IndexKey::Column(_))) => {
                let keys: Vec<&str> = self.keys.iter().map(|key| key.key.text()).collect();
                new_index_bytes(table, held, &keys, &self.carried)
            }
            Method::Btree | Method::Other => (held / USUAL_ENTRIES_PER_PAGE).ceil().max(1.0) * PAGE,
        }
    }
}

/// An expression as the server and a statement both write it: without names of tables, blanks, quotes, casts between
/// texts and brackets around the whole.
pub fn bare(expression: &str) -> String {
    let mut text: String = expression.chars().filter(|letter| !letter.is_whitespace() && *letter != '"').collect();
    text.make_ascii_lowercase();
    for cast in ["::text", "::charactervarying"] {
        text = text.replace(cast, "");
    }
    // What a cast leaves of `(name)::text`.
    let mut plain = String::with_capacity(text.len());
    let mut rest = text.as_str();
    while let Some((before, after)) = rest.split_once('(') {
        let inner = after.split_once(')').filter(|(inner, _)| {
            let is_name = inner.chars().all(|letter| letter.is_alphanumeric() || letter == '_');
            let is_call = before.ends_with(|letter: char| letter.is_alphanumeric() || letter == '_');
            is_name && !inner.is_empty() && !is_call
        });
        plain.push_str(before);
        match inner {
            Some((name, after)) => {
                plain.push_str(name);
                rest = after;
            }
            None => {
                plain.push('(');
                rest = after;
            }
        }
    }
    plain.push_str(rest);
    let mut whole = plain.as_str();
    while let Some(inner) =
        whole.strip_prefix('(').and_then(|inner| inner.strip_suffix(')')).filter(|inner| is_balanced(inner))
    {
        whole = inner;
    }
    without_tables(whole)
}

/// Without the name of a table before that of a column.
pub(super) fn without_tables(text: &str) -> String {
    let mut plain = String::with_capacity(text.len());
    let mut word = 0;
    for letter in text.chars() {
        if letter == '.' && plain.len() > word {
            plain.truncate(word);
            continue;
        }
        plain.push(letter);
        if !(letter.is_alphanumeric() || letter == '_') {
            word = plain.len();
        }
    }
    plain
}

fn is_balanced(text: &str) -> bool {
    let mut depth = 0i32;
    text.chars().all(|letter| {
        depth += i32::from(letter == '(') - i32::from(letter == ')');
        depth >= 0
    }) && depth == 0
}

/// The type of a column that is ordered as text.
pub fn is_text(type_name: &str) -> bool {
    matches!(base_type(type_name), "text" | "character varying" | "character" | "bpchar")
}

/// Whether values of a type have an order, so that a B-tree can keep them.
pub fn is_ordered(type_name: &str) -> bool {
    let unordered = ["json", "xml", "point", "box", "polygon", "circle", "line", "lseg", "path", "tsquery", "xid"];
    !unordered.contains(&base_type(type_name))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_expression_is_the_same_however_it_is_written() {
        for (server, statement) in [
            ("lower(name)", "lower(traveller.name)"),
            ("lower((name)::text)", "lower(name)"),
            ("((fare * tax))", "(fare * l.tax)"),
            ("(payload ->> 'berth'::text)", "payload ->> 'berth'"),
            ("\"left\"(name, 3)", "LEFT(name, 3)"),
        ] {
            assert_eq!(bare(server), bare(statement), "{server}");
        }
        assert_ne!(bare("lower(name)"), bare("upper(name)"));
        assert_eq!(bare("(a)+(b)"), "a+b");
    }
}
