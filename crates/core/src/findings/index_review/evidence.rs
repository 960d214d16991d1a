use std::collections::HashMap;

use crate::findings::index_watch::IndexUse;
use crate::readings::catalog::{Catalog, ForeignKey, Index, Table};
use crate::readings::counters::{Counters, TableCounters};
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// Days that a month has in what a finding is worth.
pub(super) const MONTH_DAYS: f64 = 30.0;
/// Bytes of a page: no entry is larger.
const PAGE_BYTES: f64 = 8192.0;

/// What the review of one database rests on.
pub struct IndexEvidence<'a, 'c> {
    /// Its tables and indexes.
    pub catalog: &'a Catalog,
    /// When it is made.
    pub at: Timestamp,
    /// What was counted of them; nothing of a database whose indexes are not followed.
    pub counted: Option<Counted<'c>>,
    index_parts: HashMap<u32, Vec<&'a Index>>,
    table_parts: HashMap<u32, Vec<&'a Table>>,
}

/// What was counted of the tables and indexes of a database, on all watched servers that have the same data together.
pub struct Counted<'c> {
    /// Seconds that were counted, up to now.
    pub seconds: f64,
    /// What each table did, by the server's number of it.
    pub tables: &'c HashMap<u32, TableCounters>,
    /// How often each index was read, by the server's number of it.
    pub index_reads: &'c HashMap<u32, i64>,
    /// How long each index was watched, here and on every server that has the same ones.
    pub watched: &'c IndexUse,
    /// Whether the server is a replica: what it has is decided on its primary.
    pub is_replica: bool,
}

impl Counted<'_> {
    /// A number of that time, per day.
    pub fn per_day(&self, number: f64) -> f64 {
        number / self.seconds.max(1.0) * SECONDS_PER_DAY
    }

    /// Whether every server that has the data is watched, and this one decides what it has.
    pub(super) fn decides(&self) -> bool {
        self.watched.unwatched == 0 && !self.is_replica
    }
}

impl<'a, 'c> IndexEvidence<'a, 'c> {
    /// Of a database at a moment.
    pub fn new(catalog: &'a Catalog, at: Timestamp, counted: Option<Counted<'c>>) -> IndexEvidence<'a, 'c> {
        let mut index_parts: HashMap<u32, Vec<&Index>> = HashMap::new();
        let mut table_parts: HashMap<u32, Vec<&Table>> = HashMap::new();
        for table in &catalog.tables {
            if let Some(whole) = table.part_of {
                table_parts.entry(whole).or_default().push(table);
            }
            for index in &table.indexes {
                if let Some(whole) = index.part_of {
                    index_parts.entry(whole).or_default().push(index);
                }
            }
        }
        IndexEvidence { catalog, at, counted, index_parts, table_parts }
    }

    /// Usable indexes of tables, each with its table, without parts of others: what is done to the whole is done to them.
    pub fn whole_indexes(&self) -> impl Iterator<Item = (&'a Table, &'a Index)> {
        self.catalog.indexes().filter(|(_, index)| index.valid && index.part_of.is_none())
    }

    /// The sum of something over the indexes that hold the entries of one: itself, or its parts where its table is
    /// partitioned.
    fn over_index(&self, index: &'a Index, of: &impl Fn(&'a Index) -> f64) -> f64 {
        match self.index_parts.get(&index.oid) {
            None => of(index),
            Some(parts) => parts.iter().map(|part| self.over_index(part, of)).sum(),
        }
    }

    /// Likewise over the tables that hold the rows of one: itself, or its partitions.
    fn over_table<T>(&self, table: &'a Table, sum: &mut T, add: &impl Fn(&mut T, &'a Table)) {
        match self.table_parts.get(&table.oid) {
            None => add(sum, table),
            Some(parts) => parts.iter().for_each(|part| self.over_table(part, sum, add)),
        }
    }

    /// Partitions of a table, as they were read; those of partitions are theirs.
    pub fn partitions(&self, table: &Table) -> &[&'a Table] {
        self.table_parts.get(&table.oid).map_or(&[], Vec::as_slice)
    }

    /// References to a table, each with the table that refers.
    pub fn references_to(&self, table: &Table) -> impl Iterator<Item = (&'a Table, &'a ForeignKey)> {
        let parent = table.qualified_name();
        let all = self.catalog.tables.iter().flat_map(|child| child.foreign_keys.iter().map(move |key| (child, key)));
        all.filter(move |(_, key)| key.parent == parent)
    }

    /// Size of an index with all its parts, in bytes.
    pub fn index_bytes(&self, index: &'a Index) -> f64 {
        self.over_index(index, &|holder| holder.size_bytes as f64)
    }

    /// Entries in an index, as far as they were counted.
    fn index_rows(&self, index: &'a Index) -> f64 {
        self.over_index(index, &|holder| holder.rows.unwrap_or_default())
    }

    /// Size of a table with all its partitions, in bytes, without indexes.
    pub fn table_bytes(&self, table: &'a Table) -> f64 {
        let mut bytes = 0.0;
        self.over_table(table, &mut bytes, &|sum, part| *sum += part.size_bytes as f64);
        bytes
    }

    /// Rows of a table with all its partitions, as far as they were counted.
    pub fn rows(&self, table: &'a Table) -> f64 {
        let mut rows = 0.0;
        self.over_table(table, &mut rows, &|sum, part| *sum += part.rows.unwrap_or_default());
        rows
    }

    /// What a table did, with all its partitions: nothing moved where it has no figures. Nothing where none are counted.
    pub fn table_counters(&self, table: &'a Table) -> Option<TableCounters> {
        let counted = self.counted.as_ref()?;
        let mut counters = TableCounters::default();
        self.over_table(table, &mut counters, &|sum, part| {
            if let Some(part) = counted.tables.get(&part.oid) {
                *sum = sum.plus(part);
            }
        });
        Some(counters)
    }

    /// How often an index is read in a day; nothing where that is not counted.
    pub fn reads_per_day(&self, index: &'a Index) -> Option<f64> {
        let counted = self.counted.as_ref()?;
        let reads = |holder: &Index| counted.index_reads.get(&holder.oid).copied().unwrap_or_default() as f64;
        Some(counted.per_day(self.over_index(index, &reads)))
    }

    /// Rows of a table that are deleted in a day; nothing where that is not counted.
    pub fn deletes_per_day(&self, table: &'a Table) -> Option<f64> {
        Some(self.counted.as_ref()?.per_day(self.table_counters(table)?.deleted_rows as f64))
    }

    /// How often a table is read by an index in a day; nothing where that is not counted.
    pub fn index_reads_per_day(&self, table: &'a Table) -> Option<f64> {
        Some(self.counted.as_ref()?.per_day(self.table_counters(table)?.index_reads as f64))
    }

    /// Entries written in a day to an index that holds every row of a table: one for each row inserted, and for each
    /// updated outside of its page. Nothing where that is not counted.
    pub fn table_entries_per_day(&self, table: &'a Table) -> Option<f64> {
        let counters = self.table_counters(table)?;
        let entries = counters.inserted_rows + (counters.updated_rows - counters.updated_in_page_rows).max(0);
        Some(self.counted.as_ref()?.per_day(entries as f64))
    }

    /// The same of one index: of one with a condition, by its share of the rows.
    pub fn entries_per_day(&self, table: &'a Table, index: &'a Index) -> Option<f64> {
        let entries = self.table_entries_per_day(table)?;
        let (held, rows) = (self.index_rows(index), self.rows(table));
        let share = if index.condition.is_some() && rows > 0.0 { (held / rows).min(1.0) } else { 1.0 };
        Some(entries * share)
    }

    /// Bytes of entries written to an index in a month.
    pub fn month_bytes(&self, table: &'a Table, index: &'a Index) -> f64 {
        let rows = self.index_rows(index).max(1.0);
        let entries = self.entries_per_day(table, index).unwrap_or_default();
        entries * MONTH_DAYS * (self.index_bytes(index) / rows).min(PAGE_BYTES)
    }

    /// Seconds for which nobody has read an index, on any server that has it; nothing where that is not followed.
    pub fn unread_seconds(&self, index: &'a Index) -> Option<f64> {
        let watched = self.counted.as_ref()?.watched;
        Some(match self.index_parts.get(&index.oid) {
            None => watched.unread_seconds(index.oid, self.at),
            Some(parts) => parts.iter().filter_map(|part| self.unread_seconds(part)).fold(f64::MAX, f64::min),
        })
    }

    /// Since when an index has been watched; nothing where it, or one of its parts, is not.
    pub fn seen_since(&self, index: &'a Index) -> Option<Timestamp> {
        match self.index_parts.get(&index.oid) {
            None => Some(self.counted.as_ref()?.watched.here.get(&index.oid)?.seen_since),
            Some(parts) => {
                let seen: Vec<Timestamp> = parts.iter().map(|part| self.seen_since(part)).collect::<Option<_>>()?;
                seen.into_iter().max()
            }
        }
    }
}
