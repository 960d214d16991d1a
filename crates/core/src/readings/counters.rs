//! The cumulative figures that servers keep, by kind of object: one list of them, from which everything is made that
//! is general about counters.

use std::fmt::Debug;
use std::hash::Hash;

use serde::{Deserialize, Serialize};

use crate::readings::metric::Metric;
use crate::readings::statement::{NestedKey, StatementKey};

/// A fixed set of figures that only grow until they are reset.
///
/// Implemented by the structs of this file through one macro, so that a figure has one name in the
/// core, the repository and the API.
pub trait Counters: Copy + Default + PartialEq + Debug + Send + Sync + 'static {
    /// What a server tells the objects apart by.
    type Key: Clone + Eq + Hash + Debug + Send + Sync;
    /// Names of the figures, in order; also the repository's column names.
    const NAMES: &'static [&'static str];

    /// Figures that are the sums of other objects' and can fall without the rest: those of a table's indexes fall when
    /// one of them goes. Likewise those that are made from what the server rounds.
    const SUMMED: &'static [&'static str];

    /// The figures in the order of [`Self::NAMES`].
    fn values(&self) -> Vec<i64>;

    /// The set with these figures, given in the order of [`Self::NAMES`]; missing ones are zero.
    fn from_values(values: &[i64]) -> Self;

    /// `self - earlier` figure by figure, or nothing when any figure went down.
    fn grown_since(&self, earlier: &Self) -> Option<Self>;

    /// `self + other` figure by figure, kept at the largest number when it would overflow.
    fn plus(&self, other: &Self) -> Self;

    /// Whether every figure is zero.
    fn is_zero(&self) -> bool {
        *self == Self::default()
    }
}

macro_rules! counters {
    ($(#[$outer:meta])* $name:ident by $key:ty { $($(#[$inner:meta])* $field:ident),+ $(,)? } $(summed { $($summed:ident),+ })?) => {
        $(#[$outer])*
        #[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
        #[serde(default)]
        pub struct $name { $($(#[$inner])* pub $field: i64),+ }

        impl Counters for $name {
            type Key = $key;
            const NAMES: &'static [&'static str] = &[$(stringify!($field)),+];
            const SUMMED: &'static [&'static str] = &[$($(stringify!($summed)),+)?];

            fn values(&self) -> Vec<i64> {
                vec![$(self.$field),+]
            }

            fn from_values(values: &[i64]) -> Self {
                let mut values = values.iter().copied();
                Self { $($field: values.next().unwrap_or_default()),+ }
            }

            fn grown_since(&self, earlier: &Self) -> Option<Self> {
                Some(Self { $($field: self.$field.checked_sub(earlier.$field).filter(|by| *by >= 0)?),+ })
            }

            fn plus(&self, other: &Self) -> Self {
                Self { $($field: self.$field.saturating_add(other.$field)),+ }
            }
        }
    };
}

counters! {
    /// What one statement has cost so far. Times in microseconds, pages in the server's page size.
    StatementCounters by StatementKey {
        /// Executions that ended.
        calls,
        /// Time executing.
        exec_us,
        /// Time planning; zero where the server does not keep it.
        plan_us,
        /// Rows returned or changed.
        rows,
        /// Pages found in the server's cache.
        hit_pages,
        /// Pages read from outside the server's cache.
        read_pages,
        /// Pages changed for the first time since they were last written.
        dirtied_pages,
        /// Pages written by the statement itself.
        written_pages,
        /// Pages read from temporary files.
        temp_read_pages,
        /// Pages written to temporary files.
        temp_written_pages,
        /// Time reading data pages; zero unless the server times its reads.
        read_us,
        /// Time writing data pages; zero unless the server times its writes.
        write_us,
        /// Write-ahead log made, in bytes.
        log_bytes,
        /// Squares of the times of single executions in milliseconds, added up: how far these lie apart comes from it
        /// (`findings::time_spread`). Made from figures that the server rounds, so that it can fall by one.
        squared_ms,
    } summed { squared_ms }
}

counters! {
    /// What one statement has cost so far that functions and procedures ran; the figures of who called these hold it as
    /// well. Times in microseconds, pages in the server's page size.
    NestedCounters by NestedKey {
        /// Executions that ended.
        calls,
        /// Time executing.
        exec_us,
        /// Rows returned or changed.
        rows,
        /// Pages found in the server's cache.
        hit_pages,
        /// Pages read from outside the server's cache.
        read_pages,
        /// Pages changed for the first time since they were last written.
        dirtied_pages,
        /// Pages written to temporary files.
        temp_written_pages,
        /// Write-ahead log made, in bytes.
        log_bytes,
    }
}

counters! {
    /// What happened to one table so far.
    TableCounters by u32 {
        /// Full reads started.
        full_reads,
        /// Rows that full reads went through.
        full_read_rows,
        /// Index reads started.
        index_reads,
        /// Rows that index reads fetched.
        index_read_rows,
        /// Rows inserted.
        inserted_rows,
        /// Rows updated.
        updated_rows,
        /// Of those, updated inside their page without touching an index.
        updated_in_page_rows,
        /// Rows deleted.
        deleted_rows,
        /// Table pages read from outside the server's cache.
        read_pages,
        /// Table pages found in the server's cache.
        hit_pages,
    } summed { index_reads, index_read_rows }
}

counters! {
    /// What one index was used for so far.
    IndexCounters by u32 {
        /// Index reads started.
        reads,
        /// Entries that they returned.
        read_entries,
        /// Live table rows fetched by plain index reads.
        fetched_rows,
        /// Index pages read from outside the server's cache.
        read_pages,
        /// Index pages found in the server's cache.
        hit_pages,
    }
}

counters! {
    /// What happened in one database so far.
    DatabaseCounters by u32 {
        /// Transactions committed.
        commits,
        /// Transactions rolled back.
        rollbacks,
        /// Pages read from outside the server's cache.
        read_pages,
        /// Pages found in the server's cache.
        hit_pages,
        /// Rows that reads went through.
        returned_rows,
        /// Rows that reads fetched by index.
        fetched_rows,
        /// Rows inserted.
        inserted_rows,
        /// Rows updated.
        updated_rows,
        /// Rows deleted.
        deleted_rows,
        /// Deadlocks found.
        deadlocks,
        /// Temporary files made.
        temp_files,
        /// Bytes written to them.
        temp_bytes,
        /// Time reading data pages, in microseconds; zero unless the server times its reads.
        read_us,
        /// Time writing data pages, in microseconds; zero unless the server times its writes.
        write_us,
        /// Sessions begun; zero where the server does not count them.
        sessions,
        /// Time that sessions lasted, in microseconds; zero where the server does not count it.
        session_us,
        /// Of that, time executing statements.
        active_us,
        /// Of that, time idle with a transaction open.
        idle_open_us,
    }
}

counters! {
    /// What the server's checkpoints did so far.
    CheckpointCounters by u32 {
        /// Checkpoints begun because their time had come.
        timed,
        /// Checkpoints begun for any other reason.
        requested,
        /// Time writing, in microseconds.
        write_us,
        /// Time bringing files to disk, in microseconds.
        sync_us,
        /// Pages written by checkpoints.
        written_pages,
        /// Pages written ahead of need by the background writer.
        cleaned_pages,
        /// Pages given out of the server's cache.
        allocated_pages,
    }
}

counters! {
    /// Input and output of the server so far, by who did it, on what, and how.
    IoCounters by String {
        /// Reads from outside the server's cache.
        reads,
        /// Bytes that they read.
        read_bytes,
        /// Time reading, in microseconds; zero unless the server times its reads.
        read_us,
        /// Writes.
        writes,
        /// Bytes that they wrote.
        write_bytes,
        /// Time writing, in microseconds; zero unless the server times its writes.
        write_us,
        /// Times that a file was made longer.
        extends,
        /// Bytes by which that was.
        extend_bytes,
        /// Time doing so, in microseconds; zero unless the server times it.
        extend_us,
        /// Pages that the kernel was asked to write to disk.
        written_back,
        /// Pages found in the server's cache.
        hits,
        /// Pages that another one had to leave the cache for.
        evictions,
        /// Pages whose place in a ring of their own was used again.
        reuses,
        /// Files brought to disk.
        syncs,
        /// Time doing so, in microseconds; zero unless the server times it.
        sync_us,
    }
}

counters! {
    /// How far one single figure was counted up so far.
    MeasureCounters by (Metric, String) {
        /// In the unit of its metric, without "a second".
        counted,
    }
}

/// Every kind of counters that is kept by object, for whatever is made for all of them: calls a macro with rows of
/// kind of figures, what the names of its tables begin with and which of their columns name the object, key, counters.
#[macro_export]
macro_rules! all_counters {
    ($made:ident) => {
        $made! {
            Statements "statement" "family_id, account_id, database_id" $crate::readings::statement::StatementKey, $crate::readings::counters::StatementCounters;
            Nested "nested_statement" "family_id, account_id, database_id" $crate::readings::statement::NestedKey, $crate::readings::counters::NestedCounters;
            Databases "database" "database_oid" u32, $crate::readings::counters::DatabaseCounters;
            Checkpoints "checkpoint" "server" u32, $crate::readings::counters::CheckpointCounters;
            Io "io" "object_id" String, $crate::readings::counters::IoCounters;
            Tables "table" "table_oid" u32, $crate::readings::counters::TableCounters;
            Indexes "index" "index_oid" u32, $crate::readings::counters::IndexCounters;
        }
    };
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn values_keep_their_order_and_come_back() {
        let counters = IndexCounters { reads: 1, read_entries: 2, fetched_rows: 3, read_pages: 4, hit_pages: 5 };
        assert_eq!(counters.values(), [1, 2, 3, 4, 5]);
        assert_eq!(IndexCounters::NAMES[2], "fetched_rows");
        assert_eq!(IndexCounters::from_values(&counters.values()), counters);
    }

    #[test]
    fn one_figure_going_down_is_enough_to_have_no_growth() {
        let earlier = IndexCounters { reads: 5, read_entries: 5, ..Default::default() };
        let later = IndexCounters { reads: 9, read_entries: 4, ..Default::default() };
        assert_eq!(later.grown_since(&earlier), None);
    }
}
