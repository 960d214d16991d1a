//! An index that nobody reads: every write keeps it up, and nothing is won by it.
//!
//! Nobody must have read it for a whole cycle of the business, on any server that has it: on a replica it may be read
//! all day. One that a constraint needs or that forbids equal keys has its use without being read. Of a pair that says
//! the same neither is called unused: dropping one makes the other read.

use std::collections::{HashMap, HashSet};

use super::IndexUseSeen;
use crate::catalog::{Catalog, Index, Table};
use crate::index_watch::WHOLE_CYCLE_DAYS;
use crate::same_indexes::same_indexes;
use crate::time::SECONDS_PER_DAY;

/// An index that nobody has read while it was watched.
pub struct Unread<'a> {
    /// Its table.
    pub table: &'a Table,
    /// The index.
    pub index: &'a Index,
    /// For how long, as far as it was watched on every server that has it.
    pub seconds: f64,
}

impl Unread<'_> {
    /// Whether that was a whole cycle of the business.
    pub fn is_for_a_cycle(&self) -> bool {
        self.seconds >= WHOLE_CYCLE_DAYS * SECONDS_PER_DAY
    }
}

/// Indexes that nobody has read: for a whole cycle, or never so far.
pub fn unread<'a>(catalog: &'a Catalog, seen: &IndexUseSeen<'_>) -> Vec<Unread<'a>> {
    let reads: HashMap<u32, i64> = seen.reads.rows.iter().map(|(oid, counters)| (*oid, counters.reads)).collect();
    let in_pairs: HashSet<u32> =
        same_indexes(catalog).iter().flat_map(|(_, kept, again)| [kept.oid, again.oid]).collect();
    catalog
        .indexes()
        .filter(|(_, index)| index.valid && !index.constraint && !index.unique && !in_pairs.contains(&index.oid))
        .map(|(table, index)| Unread { table, index, seconds: seen.watched.unread_seconds(index.oid, seen.at) })
        // Read once, and then not for a whole cycle, is unread too; never read, and not watched for long, is worth
        // telling.
        .filter(|unread| unread.is_for_a_cycle() || reads.get(&unread.index.oid) == Some(&0))
        .collect()
}
