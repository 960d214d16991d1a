//! How large a B-tree is that is built anew, by the layout of its pages (PostgreSQL, `nbtsort.c`, `nbtdedup.c`): entries
//! of header, key and line pointer, aligned to eight bytes; from version 13 on, rows with equal keys share an entry that
//! lists their addresses, for types of which equal values look alike.
//!
//! Laws, tested below: more rows never take less; more different keys never take less.

use crate::readings::catalog::{Column, Index, IndexKey, Table};
use crate::workload::selectivity::UNKNOWN_DISTINCT;

/// Bytes of a page.
const PAGE: f64 = 8192.0;
/// Bytes of a page that entries can take: without its header and its links.
const USABLE: f64 = PAGE - 24.0 - 16.0;
/// Share of a page that is filled where nothing is said.
pub const USUAL_FILL_PERCENT: i32 = 90;
/// Bytes of an entry's header.
const HEADER: f64 = 8.0;
/// Bytes of the header of an entry with keys without a value.
const HEADER_WITH_NULLS: f64 = 16.0;
/// Bytes of a line pointer.
const POINTER: f64 = 4.0;
/// Bytes of a row's address in a list.
const ADDRESS: f64 = 6.0;
/// Longest list of addresses that a build writes, with its key: a tenth of a page.
const LONGEST_LIST: f64 = 812.0;
/// Bytes that an entry of no fixed width loses to alignment, in the mean.
const LOST_TO_ALIGNMENT: f64 = 3.5;
/// Share of a page above the leaves that is filled.
const FILL_ABOVE: f64 = 0.7;
/// Width of a key about which nothing is known, in bytes.
const UNKNOWN_WIDTH: f64 = 8.0;

/// One key, as far as its size goes.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Key {
    width: f64,
    /// What its place is a multiple of; nothing where its width varies.
    alignment: Option<f64>,
    null_fraction: f64,
    distinct: f64,
    shares_entries: bool,
}

/// Size in bytes of a B-tree on `rows` rows of a table with these key columns, and those it carries, filled as usual.
pub fn new_index_bytes(table: &Table, rows: f64, keys: &[&str], carried: &[String]) -> f64 {
    let column = |name: &str| table.column(name);
    let keys: Vec<Key> = keys.iter().map(|name| key(column(name), rows, rows)).collect();
    let carried: Vec<Key> = carried.iter().map(|name| key(column(name), rows, rows)).collect();
    bytes(&keys, &carried, rows, USUAL_FILL_PERCENT, false)
}

/// Size in bytes that an index would have if it was built anew; nothing where that cannot be told: of other methods than
/// B-trees, of expressions, and where its rows or the width of a key are not known.
pub fn rebuilt_bytes(table: &Table, index: &Index) -> Option<f64> {
    let table_rows = table.rows?;
    let rows = if index.condition.is_none() { table_rows } else { index.rows? };
    let known = |name: &str| {
        let column = table.column(name)?;
        column.statistics.as_ref().map(|_| key(Some(column), table_rows, rows))
    };
    let keys = index.keys.iter().map(|key| match key {
        IndexKey::Column(name) => known(name),
        IndexKey::Expression(_) => None,
    });
    let keys: Vec<Key> = keys.collect::<Option<_>>()?;
    let carried: Vec<Key> = index.carried.iter().map(|name| known(name)).collect::<Option<_>>()?;
    let fill = index.fill_factor.unwrap_or(USUAL_FILL_PERCENT);
    (index.method == "btree").then(|| bytes(&keys, &carried, rows, fill, index.unique))
}

/// A column as the key of an index on so many of a table's rows.
fn key(column: Option<&Column>, table_rows: f64, rows: f64) -> Key {
    let statistics = column.and_then(|column| column.statistics.as_ref());
    let type_name = column.map_or("", |column| base_type(&column.type_name));
    let distinct = statistics.map_or(UNKNOWN_DISTINCT, |known| known.distinct_values(table_rows));
    let fixed = FIXED_WIDTHS.iter().find(|(name, ..)| *name == type_name);
    Key {
        width: fixed.map(|(_, width, _)| *width).or(statistics.map(|known| known.width_bytes)).unwrap_or(UNKNOWN_WIDTH),
        alignment: fixed.map(|(.., alignment)| *alignment),
        null_fraction: statistics.map_or(0.0, |known| known.null_fraction),
        distinct: among(rows, table_rows, distinct),
        shares_entries: fixed.map_or(SHARING_TYPES.contains(&type_name), |(name, ..)| !NOT_SHARING.contains(name)),
    }
}

/// How many of a table's different values are expected among some of its rows, picked without regard to them.
fn among(rows: f64, table_rows: f64, distinct: f64) -> f64 {
    let left_out = (1.0 - rows / table_rows.max(1.0)).clamp(0.0, 1.0);
    let per_value = table_rows / distinct.max(1.0);
    distinct * (1.0 - left_out.powf(per_value))
}

/// A type without its precision or length: `character varying(20)` is `character varying`.
pub fn base_type(type_name: &str) -> &str {
    type_name.split_once('(').map_or(type_name, |(name, _)| name)
}

/// Types of one width: their name, width and alignment in bytes. Those with a precision are written
/// `timestamp(3) with time zone`, of which [`base_type`] leaves the first word.
const FIXED_WIDTHS: [(&str, f64, f64); 18] = [
    ("bigint", 8.0, 8.0),
    ("double precision", 8.0, 8.0),
    ("money", 8.0, 8.0),
    ("pg_lsn", 8.0, 8.0),
    ("timestamp", 8.0, 8.0),
    ("timestamp with time zone", 8.0, 8.0),
    ("timestamp without time zone", 8.0, 8.0),
    ("time without time zone", 8.0, 8.0),
    ("time with time zone", 12.0, 8.0),
    ("interval", 16.0, 8.0),
    ("integer", 4.0, 4.0),
    ("real", 4.0, 4.0),
    ("date", 4.0, 4.0),
    ("oid", 4.0, 4.0),
    ("smallint", 2.0, 2.0),
    ("boolean", 1.0, 1.0),
    ("uuid", 16.0, 1.0),
    ("\"char\"", 1.0, 1.0),
];
/// Of those, types of which equal values may look different.
const NOT_SHARING: [&str; 3] = ["double precision", "real", "interval"];
/// Types of varying width of which equal values look alike.
const SHARING_TYPES: [&str; 4] = ["text", "character varying", "character", "bytea"];

fn bytes(keys: &[Key], carried: &[Key], rows: f64, fill_percent: i32, unique: bool) -> f64 {
    let shares = !unique && carried.is_empty() && keys.iter().all(|key| key.shares_entries);
    let columns: Vec<Key> = keys.iter().chain(carried).copied().collect();
    let (mut entries, mut bytes) = (0.0, 0.0);
    for Class { share, filled, has_nulls } in classes(&columns) {
        let rows = rows * share;
        let entry = aligned(if has_nulls { HEADER_WITH_NULLS } else { HEADER }, &filled);
        let distinct: f64 = filled.iter().map(|key| key.distinct).product();
        let per_key = if shares { (rows / distinct.clamp(1.0, rows.max(1.0))).max(1.0) } else { 1.0 };
        let (more, of_them) = shared(entry, rows, per_key);
        (entries, bytes) = (entries + more, bytes + of_them);
    }
    // A page is left once what is free in it falls below its share; its last entry begins the next one.
    let free = PAGE * f64::from(100 - fill_percent) / 100.0;
    let entry = bytes / entries.max(1.0);
    let leaves = (bytes / (USABLE - free - entry / 2.0).max(entry)).ceil().max(1.0);
    let fan_out = (USABLE * FILL_ABOVE / (aligned(HEADER, keys) + POINTER)).max(2.0);
    let above = if leaves > 1.0 { (leaves / (fan_out - 1.0)).ceil() } else { 0.0 };
    (1.0 + leaves + above) * PAGE
}

/// Rows that have a value in the same columns.
struct Class {
    /// Of all rows.
    share: f64,
    /// The columns that have a value.
    filled: Vec<Key>,
    has_nulls: bool,
}

/// Rows by the columns that have a value, as if columns had theirs independently; rows without one in several of very
/// many columns are not told apart.
fn classes(columns: &[Key]) -> Vec<Class> {
    const MOST: usize = 64;
    let mut classes = vec![Class { share: 1.0, filled: Vec::new(), has_nulls: false }];
    for column in columns {
        if column.null_fraction > 0.0 && classes.len() < MOST {
            let without = |class: &Class| Class {
                share: class.share * column.null_fraction,
                filled: class.filled.clone(),
                has_nulls: true,
            };
            let nulls: Vec<Class> = classes.iter().map(without).collect();
            classes.iter_mut().for_each(|class| class.share *= 1.0 - column.null_fraction);
            classes.iter_mut().for_each(|class| class.filled.push(*column));
            classes.extend(nulls);
        } else {
            classes.iter_mut().for_each(|class| class.filled.push(*column));
        }
    }
    classes
}

/// Entries, and their bytes with line pointers, of rows of which so many have one key in the mean.
fn shared(entry: f64, rows: f64, per_key: f64) -> (f64, f64) {
    /// From so many rows of a key on, their exact number makes no difference.
    const MANY: f64 = 30.0;
    /// What is smaller makes no difference.
    const NEARLY: f64 = 1e-9;
    let keys = rows / per_key;
    let longest = ((LONGEST_LIST - entry) / ADDRESS).max(2.0);
    let list = |rows: f64| entry + (rows * ADDRESS / 8.0).ceil() * 8.0 + POINTER;
    if per_key <= 1.0 {
        (rows, rows * (entry + POINTER))
    } else if per_key < MANY {
        // Rows fall on keys at random, and of each key there is at least one: a Poisson distribution without its zero.
        // Its mean is rate / (1 - e^-rate), which a few steps towards its fixed point solve.
        let mut rate: f64 = per_key;
        for _ in 0..40 {
            let next = per_key * (1.0 - (-rate).exp());
            if (rate - next).abs() < NEARLY {
                break;
            }
            rate = next;
        }
        let mut chance = rate * (-rate).exp() / (1.0 - (-rate).exp());
        let mut bytes = chance * (entry + POINTER);
        for count in 2..4 * MANY as usize {
            chance *= rate / count as f64;
            bytes += chance * list(count as f64);
            if count as f64 > rate && chance < NEARLY {
                break;
            }
        }
        (keys, keys * bytes)
    } else {
        /// Bytes that a list loses to alignment, in the mean.
        const LOST: f64 = 3.0;
        let lists = keys * (per_key / longest).max(1.0);
        (lists, lists * (entry + LOST + POINTER) + rows * ADDRESS)
    }
}

/// Bytes of a header and columns that have a value, up to a multiple of eight.
fn aligned(header: f64, columns: &[Key]) -> f64 {
    let up = |bytes: f64, to: f64| (bytes / to).ceil() * to;
    let (mut bytes, mut is_fixed) = (header, true);
    for column in columns {
        match column.alignment {
            Some(alignment) if is_fixed => bytes = up(bytes, alignment) + column.width,
            _ => (bytes, is_fixed) = (bytes + column.width, false),
        }
    }
    if is_fixed { up(bytes, 8.0) } else { bytes + LOST_TO_ALIGNMENT }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::catalog::test_catalog::{index, table};

    const FILLED: f64 = 366.0;

    #[test]
    fn a_key_of_eight_bytes_fills_pages_as_the_server_does() {
        let leg = table("passage_leg", 366_000.0, &[("leg_id", -1.0), ("deck_id", 4.0)], vec![]);
        let pages = new_index_bytes(&leg, 366_000.0, &["leg_id"], &[]) / PAGE;
        assert!((pages - 366_000.0 / FILLED).abs() < 0.01 * pages, "{pages}");
        let shared = new_index_bytes(&leg, 366_000.0, &["deck_id"], &[]) / PAGE;
        assert!(shared < 0.36 * pages, "addresses share a key: {shared} of {pages}");
        let unique = rebuilt_bytes(&leg, &Index { unique: true, ..index("by_deck", &["deck_id"], true) });
        assert!(unique.is_some_and(|bytes| bytes / PAGE >= pages), "each has its entry: {unique:?}");
    }

    #[test]
    fn what_cannot_be_told_is_not() {
        let mut leg = table("passage_leg", 1e5, &[("leg_id", -1.0)], vec![]);
        let by_id = index("by_id", &["leg_id"], true);
        assert!(rebuilt_bytes(&leg, &by_id).is_some());
        assert_eq!(rebuilt_bytes(&leg, &Index { method: "gin".into(), ..by_id.clone() }), None);
        assert_eq!(
            rebuilt_bytes(&leg, &Index { keys: vec![IndexKey::Expression("lower(x)".into())], ..by_id.clone() }),
            None
        );
        let part = Index { condition: Some("leg_id > 5".into()), ..by_id.clone() };
        assert_eq!(rebuilt_bytes(&leg, &part), None, "nobody counted its rows");
        assert!(rebuilt_bytes(&leg, &Index { rows: Some(10.0), ..part }).is_some_and(|bytes| bytes == 2.0 * PAGE));
        leg.columns[0].statistics = None;
        assert_eq!(rebuilt_bytes(&leg, &by_id), None);
    }

    proptest! {
        #[test]
        fn more_rows_and_more_keys_never_take_less(
            rows in 1.0f64..1e7, distinct in 1.0f64..1e6, width in 1.0f64..200.0, nulls in 0.0f64..0.99,
        ) {
            let size = |rows: f64, distinct: f64| {
                let key = Key { width, alignment: None, null_fraction: nulls, distinct, shares_entries: true };
                bytes(&[key], &[], rows, USUAL_FILL_PERCENT, false)
            };
            prop_assert!(size(rows * 1.5, distinct) >= size(rows, distinct));
            // A page more or less comes of rounding, and a little of how lists of many are counted.
            prop_assert!(size(rows, distinct * 1.5) * 1.005 + PAGE >= size(rows, distinct));
        }
    }
}
