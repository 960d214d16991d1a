use serde::{Deserialize, Serialize};

use crate::readings::statement::has_word;
use crate::time::Timestamp;

/// The tables of one database with what rules about indexes need to know of them.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Catalog {
    /// When it was read, by the watched server's clock.
    pub at: Timestamp,
    /// The database it describes.
    pub database: String,
    /// Its tables, without the server's own.
    pub tables: Vec<Table>,
    /// What the planner charges for each kind of work.
    pub costs: PlannerCosts,
    /// Extensions installed in it.
    #[serde(default)]
    pub extensions: Vec<Extension>,
    /// In which schemas its accounts look for names without one, in order, each way once; none where that was not read.
    #[serde(default)]
    pub search_paths: Vec<Vec<String>>,
}

/// One extension.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Extension {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: String,
}

/// The planner's unit costs, as set on the server. Without unit: a sequential page read is usually 1.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct PlannerCosts {
    /// One page, read in order.
    pub sequential_page: f64,
    /// One page, read out of order.
    pub random_page: f64,
    /// One row handled.
    pub row: f64,
    /// One index entry handled.
    pub index_entry: f64,
    /// One operator or function called.
    pub operator: f64,
}

impl Default for PlannerCosts {
    /// The defaults of PostgreSQL.
    fn default() -> Self {
        PlannerCosts { sequential_page: 1.0, random_page: 4.0, row: 0.01, index_entry: 0.005, operator: 0.0025 }
    }
}

/// One table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Table {
    /// The server's number of it.
    pub oid: u32,
    /// Schema it is in.
    pub schema: String,
    /// Its name.
    pub name: String,
    /// Rows, by the server's last count; nothing when it never counted.
    pub rows: Option<f64>,
    /// Pages of the table itself.
    pub pages: i64,
    /// Size with its large values, without indexes.
    pub size_bytes: i64,
    /// Its columns in order.
    pub columns: Vec<Column>,
    /// Its indexes.
    pub indexes: Vec<Index>,
    /// Tables that it refers to.
    #[serde(default)]
    pub foreign_keys: Vec<ForeignKey>,
    /// The server's number of the table whose partition it is.
    #[serde(default)]
    pub part_of: Option<u32>,
    /// Whether its rows are in partitions.
    #[serde(default)]
    pub is_partitioned: bool,
    /// Columns that tell in which partition a row is.
    #[serde(default)]
    pub partition_keys: Vec<String>,
}

/// A reference of a table to another.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ForeignKey {
    /// Its name.
    pub name: String,
    /// Columns that refer.
    pub columns: Vec<String>,
    /// What they refer to, as `schema.name`.
    pub parent: String,
}

/// One column.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Column {
    /// Its name.
    pub name: String,
    /// Its type as the server writes it.
    pub type_name: String,
    /// What the planner knows of its values; nothing when never collected or not readable.
    pub statistics: Option<ColumnStatistics>,
}

/// The planner's statistics on one column.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct ColumnStatistics {
    /// Different values, as the server keeps it: a count when positive; when negative, minus the
    /// share of rows that differ.
    pub distinct: f64,
    /// Share of rows without a value.
    pub null_fraction: f64,
    /// Mean width of a value in bytes.
    pub width_bytes: f64,
    /// From -1 to 1: how far the order of values follows the order of rows on disk. 0 when unknown.
    pub correlation: f64,
    /// Share of rows that have each of the commonest values, the commonest first. The values themselves are not read.
    #[serde(default)]
    pub common: Vec<f64>,
    /// Of columns that are true or false: share of rows that are true, where that is known.
    #[serde(default)]
    pub true_share: Option<f64>,
}

impl ColumnStatistics {
    /// Different values in a table of `rows` rows.
    pub fn distinct_values(&self, rows: f64) -> f64 {
        let count = if self.distinct >= 0.0 { self.distinct } else { -self.distinct * rows };
        count.clamp(1.0, rows.max(1.0))
    }
}

/// One index.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Index {
    /// The server's number of it.
    pub oid: u32,
    /// Its name.
    pub name: String,
    /// Access method, such as `btree`.
    pub method: String,
    /// Whether it forbids equal keys.
    pub unique: bool,
    /// Whether statements may use it.
    pub valid: bool,
    /// Whether a constraint needs it: its own, or another table's that refers to its keys.
    pub constraint: bool,
    /// Whether it is checked at the end of a transaction only.
    #[serde(default)]
    pub deferrable: bool,
    /// Whether it forbids several rows without a value, too.
    #[serde(default)]
    pub nulls_equal: bool,
    /// Whether replication tells rows apart by it.
    #[serde(default)]
    pub replica_identity: bool,
    /// The server's number of the index of a partitioned table that it is a part of.
    #[serde(default)]
    pub part_of: Option<u32>,
    /// Key columns or expressions in order.
    pub keys: Vec<IndexKey>,
    /// How the server compares and sorts its keys, in the server's own numbers: the same for indexes that do it
    /// alike; empty where that is not known.
    #[serde(default)]
    pub order: String,
    /// Whether it compares and sorts as an index does that says nothing of it: by default operator classes and
    /// collations, upwards. False where that is not known.
    #[serde(default)]
    pub plain: bool,
    /// Columns carried along without being keys.
    pub carried: Vec<String>,
    /// Condition that rows must meet to be in it.
    pub condition: Option<String>,
    /// Its size.
    pub size_bytes: i64,
    /// Entries in it, by the server's last count; nothing when it never counted.
    #[serde(default)]
    pub rows: Option<f64>,
    /// How full its pages are made, in per cent, where somebody said so.
    #[serde(default)]
    pub fill_factor: Option<i32>,
}

/// How an index sorts and compares one of its keys, in the server's own numbers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct KeyOrder<'a> {
    /// Its operator class.
    pub class: &'a str,
    /// Its collation.
    pub collation: &'a str,
    /// Flags: 1 downwards, 2 rows without a value first.
    pub flags: u16,
}

/// One key of an index.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum IndexKey {
    /// A column.
    Column(String),
    /// An expression, as the server writes it.
    Expression(String),
}

impl IndexKey {
    /// The column's name, or the expression.
    pub fn text(&self) -> &str {
        match self {
            IndexKey::Column(text) | IndexKey::Expression(text) => text,
        }
    }
}

impl Catalog {
    /// All indexes with their tables.
    pub fn indexes(&self) -> impl Iterator<Item = (&Table, &Index)> {
        self.tables.iter().flat_map(|table| table.indexes.iter().map(move |index| (table, index)))
    }

    /// Tables that a statement names anywhere, as a word.
    pub fn tables_named_in<'a>(&'a self, statement: &'a str) -> impl Iterator<Item = &'a Table> {
        self.tables.iter().filter(move |table| has_word(statement, &table.name))
    }

    /// The table of that name. Without a schema, the only one of that name, or the one that all accounts find first;
    /// none where some find another one.
    pub fn table(&self, schema: Option<&str>, name: &str) -> Option<&Table> {
        let mut named = self.tables.iter().filter(|table| table.name == name);
        let Some(schema) = schema else {
            let candidates: Vec<&Table> = named.collect();
            return match candidates.as_slice() {
                [only] => Some(only),
                several => self.found_first(several),
            };
        };
        named.find(|table| table.schema == schema)
    }

    fn found_first<'a>(&self, candidates: &[&'a Table]) -> Option<&'a Table> {
        let usual = [vec!["public".to_owned()]];
        let paths = if self.search_paths.is_empty() { &usual[..] } else { &self.search_paths };
        let first = |path: &Vec<String>| {
            path.iter().find_map(|schema| candidates.iter().copied().find(|table| table.schema == *schema))
        };
        let mut found = paths.iter().filter_map(first);
        let table = found.next()?;
        found.all(|other| other.oid == table.oid).then_some(table)
    }
}

impl Table {
    /// `schema.name`.
    pub fn qualified_name(&self) -> String {
        format!("{}.{}", self.schema, self.name)
    }

    /// The column of that name.
    pub fn column(&self, name: &str) -> Option<&Column> {
        self.columns.iter().find(|column| column.name == name)
    }
}

impl Index {
    /// The keys, separated by commas.
    pub fn key_list(&self) -> String {
        let keys: Vec<&str> = self.keys.iter().map(IndexKey::text).collect();
        keys.join(", ")
    }

    /// Its leading keys that are plain columns, up to the first expression.
    pub fn leading_columns(&self) -> impl Iterator<Item = &str> {
        self.keys.iter().map_while(|key| match key {
            IndexKey::Column(name) => Some(name.as_str()),
            IndexKey::Expression(_) => None,
        })
    }

    /// Whether something else needs it than reads: it cannot be dropped by itself, or must not be.
    pub fn is_needed(&self) -> bool {
        self.constraint || self.replica_identity || self.part_of.is_some()
    }

    /// Whether only searches have a use for it: it forbids nothing, and nothing else needs it.
    pub fn only_serves_searches(&self) -> bool {
        !self.unique && !self.is_needed()
    }

    /// How it sorts and compares its keys, one by one; nothing where that is not known.
    pub fn key_orders(&self) -> Option<Vec<KeyOrder<'_>>> {
        let mut lists = self.order.split('/').map(str::split_ascii_whitespace);
        let (classes, collations, flags) = (lists.next()?, lists.next()?, lists.next()?);
        let order = |((class, collation), flags): ((_, _), &str)| {
            flags.parse().ok().map(|flags| KeyOrder { class, collation, flags })
        };
        let orders: Vec<KeyOrder> = classes.zip(collations).zip(flags).map(order).collect::<Option<_>>()?;
        (orders.len() == self.keys.len()).then_some(orders)
    }

    /// Whether any search on its keys may use it: usable, ordered, and holding every row.
    pub fn serves_every_row(&self) -> bool {
        self.valid && self.method == "btree" && self.condition.is_none()
    }
}

/// Small catalogs for tests of several rules.
#[cfg(test)]
pub mod test_catalog {
    use super::*;

    /// A catalog read at `at` microseconds.
    pub fn catalog(at: i64, tables: Vec<Table>) -> Catalog {
        Catalog {
            at: Timestamp(at),
            database: "passage".into(),
            tables,
            costs: PlannerCosts::default(),
            extensions: vec![],
            search_paths: vec![],
        }
    }

    /// A table in `public` of 100 rows a page; columns are (name, different values).
    pub fn table(name: &str, rows: f64, columns: &[(&str, f64)], indexes: Vec<Index>) -> Table {
        Table {
            oid: name.bytes().map(u32::from).sum(),
            schema: "public".into(),
            name: name.into(),
            rows: Some(rows),
            pages: (rows / 100.0).ceil() as i64,
            size_bytes: (rows / 100.0).ceil() as i64 * 8192,
            columns: columns.iter().map(|(name, distinct)| column(name, *distinct)).collect(),
            indexes,
            foreign_keys: Vec::new(),
            part_of: None,
            is_partitioned: false,
            partition_keys: Vec::new(),
        }
    }

    fn column(name: &str, distinct: f64) -> Column {
        let statistics = ColumnStatistics { distinct, width_bytes: 8.0, ..ColumnStatistics::default() };
        Column { name: name.into(), type_name: "bigint".into(), statistics: Some(statistics) }
    }

    /// A plain B-tree on columns.
    pub fn index(name: &str, columns: &[&str], valid: bool) -> Index {
        Index {
            oid: name.bytes().map(u32::from).sum(),
            name: name.into(),
            method: "btree".into(),
            unique: false,
            valid,
            constraint: false,
            deferrable: false,
            nulls_equal: false,
            replica_identity: false,
            part_of: None,
            keys: columns.iter().map(|column| IndexKey::Column((*column).into())).collect(),
            order: String::new(),
            plain: true,
            carried: vec![],
            condition: None,
            size_bytes: 8192,
            rows: None,
            fill_factor: None,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::test_catalog::*;
    use super::*;

    #[test]
    fn distinct_values_follow_the_servers_sign_convention() {
        let known = |distinct| ColumnStatistics { distinct, width_bytes: 4.0, ..ColumnStatistics::default() };
        assert_eq!(known(50.0).distinct_values(1000.0), 50.0);
        assert_eq!(known(-0.5).distinct_values(1000.0), 500.0);
        assert_eq!(known(-1.0).distinct_values(0.0), 1.0);
    }

    #[test]
    fn the_order_of_each_key_is_read_where_it_is_known_of_all() {
        let known = |order: &str| Index { order: order.into(), ..index("by_two", &["deck_id", "berth"], true) };
        let by_two = known("1978 3126/0 100/0 3");
        let berth = KeyOrder { class: "3126", collation: "100", flags: 3 };
        assert_eq!(by_two.key_orders().map(|orders| orders[1]), Some(berth));
        assert_eq!(["", "1978/0/0", "1978 3126/0 100/0"].map(|order| known(order).key_orders().is_some()), [false; 3]);
    }

    #[test]
    fn a_bare_name_is_found_only_where_it_is_clear() {
        let mut elsewhere = table("deck", 1.0, &[], vec![]);
        (elsewhere.schema, elsewhere.oid) = ("old".into(), 1);
        let both = catalog(1, vec![elsewhere.clone(), table("deck", 1.0, &[], vec![])]);
        assert_eq!(both.table(None, "deck").unwrap().schema, "public");
        assert_eq!(both.table(Some("old"), "deck").unwrap().schema, "old");
        let through = |paths: &[&[&str]]| {
            let path = |schemas: &&[&str]| schemas.iter().map(|schema| (*schema).to_owned()).collect();
            let known = Catalog { search_paths: paths.iter().map(path).collect(), ..both.clone() };
            known.table(None, "deck").map(|table| table.schema.clone())
        };
        assert_eq!(through(&[&["old", "public"]]).as_deref(), Some("old"));
        assert_eq!(through(&[&["old", "public"], &["public"]]), None, "it hangs on the account");
        assert_eq!(through(&[&["public"], &["elsewhere"]]).as_deref(), Some("public"), "the second finds none");
        let mut third = elsewhere.clone();
        third.schema = "older".into();
        assert_eq!(catalog(1, vec![elsewhere, third]).table(None, "deck"), None);
    }
}
