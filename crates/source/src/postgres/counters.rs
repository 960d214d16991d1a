use hurnix_core::readings::counters::{
    CheckpointCounters, Counters, DatabaseCounters, IndexCounters, IoCounters, TableCounters,
};
use hurnix_core::readings::counters_read::CountersRead;
use hurnix_core::readings::difference::{Snapshot, Trace};
use hurnix_core::readings::figures::Figures;
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};

use super::missing::Missing;
use super::{PostgresSource, at, marked};
use crate::{CountersReading, ReadProblem};

/// Kinds that servers before a version do not count.
pub(super) const MISSING: &[Missing] = &[
    Missing {
        since: 140_000,
        figures: "what functions ran",
        concerns: Figures::Nested,
        in_whole: true,
        reason: "Before version 14 the server does not tell which statements a function ran.",
    },
    Missing {
        since: 160_000,
        figures: "input and output",
        concerns: Figures::Io,
        in_whole: true,
        reason: "Before version 16 the server does not count input and output by process and object.",
    },
];

/// When the counters of the connected database were last set back.
const RESET_HERE: &str = "(SELECT stats_reset FROM pg_stat_database WHERE datname = current_database())";

impl PostgresSource {
    /// Counters of a kind, or nothing where the server does not keep them.
    pub(super) async fn read_counters(&mut self, of: Figures) -> Result<Option<CountersReading>, ReadProblem> {
        let read: CountersRead = match of {
            Figures::Statements => return self.read_statements().await,
            Figures::Nested => match self.read_nested().await? {
                Some(nested) => nested.into(),
                None => return Ok(None),
            },
            Figures::Databases => self.read_databases().await?.into(),
            Figures::Checkpoints => self.read_checkpoints().await?.into(),
            Figures::Io if self.server.version_number >= 160_000 => self.read_io().await?.into(),
            Figures::Tables => self.read_tables().await?.into(),
            Figures::Indexes => self.read_indexes().await?.into(),
            _ => return Ok(None),
        };
        Ok(Some(read.into()))
    }

    /// Table counters of the connected database. Index reads are those of usable indexes: while one is built anew,
    /// the views sum up its counts twice.
    async fn read_tables(&mut self) -> Result<Snapshot<u32, TableCounters>, ReadProblem> {
        let tables = self
            .read(
                RESET_HERE,
                "SELECT c.oid::bigint, ARRAY[pg_stat_get_numscans(c.oid), pg_stat_get_tuples_returned(c.oid), i.reads,
                        i.fetched + pg_stat_get_tuples_fetched(c.oid), pg_stat_get_tuples_inserted(c.oid),
                        pg_stat_get_tuples_updated(c.oid), pg_stat_get_tuples_hot_updated(c.oid), pg_stat_get_tuples_deleted(c.oid),
                        pg_stat_get_blocks_fetched(c.oid) - pg_stat_get_blocks_hit(c.oid), pg_stat_get_blocks_hit(c.oid)], NULL::bigint
                 FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
                 LEFT JOIN (SELECT indrelid, sum(pg_stat_get_numscans(indexrelid))::bigint AS reads,
                                   sum(pg_stat_get_tuples_fetched(indexrelid))::bigint AS fetched
                            FROM pg_index WHERE indisvalid GROUP BY indrelid) i ON i.indrelid = c.oid
                 WHERE c.relkind IN ('r', 'm') AND n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname !~ '^pg_toast'",
            )
            .await?;
        Ok(Snapshot { database_oid: self.server.database_oid, ..tables })
    }

    /// Counters of the usable indexes of the connected database. One that takes another's place takes its counts
    /// along, and is known by name and definition.
    async fn read_indexes(&mut self) -> Result<Snapshot<u32, IndexCounters>, ReadProblem> {
        let indexes = self
            .read(
                RESET_HERE,
                "SELECT t.indexrelid::bigint, ARRAY[t.idx_scan, t.idx_tup_read, t.idx_tup_fetch, s.idx_blks_read, s.idx_blks_hit],
                        hashtextextended(concat_ws(' ', i.indrelid, c.relam, i.indisunique, i.indkey, i.indclass, i.indcollation,
                            i.indoption, md5(i.indexprs::text), md5(i.indpred::text), c.relname), 0)
                 FROM pg_stat_user_indexes t JOIN pg_statio_user_indexes s USING (indexrelid)
                 JOIN pg_index i USING (indexrelid) JOIN pg_class c ON c.oid = i.indexrelid WHERE i.indisvalid",
            )
            .await?;
        Ok(Snapshot { database_oid: self.server.database_oid, ..indexes })
    }

    /// Counters of all databases. A reset of one of them counts as a reset of all.
    async fn read_databases(&mut self) -> Result<Snapshot<u32, DatabaseCounters>, ReadProblem> {
        const RESET: &str = "(SELECT max(stats_reset) FROM pg_stat_database)";
        macro_rules! rows {
            ($sessions:literal) => {
                concat!(
                    "SELECT datid::bigint, ARRAY[xact_commit, xact_rollback, blks_read, blks_hit, tup_returned, tup_fetched, tup_inserted,
                            tup_updated, tup_deleted, deadlocks, temp_files, temp_bytes,
                            round(blk_read_time * 1000)::bigint, round(blk_write_time * 1000)::bigint",
                    $sessions,
                    "], NULL::bigint FROM pg_stat_database WHERE datname IS NOT NULL"
                )
            };
        }
        if self.server.version_number >= 140_000 {
            self.read(
                RESET,
                rows!(
                    ", sessions, round(session_time * 1000)::bigint, round(active_time * 1000)::bigint,
                       round(idle_in_transaction_time * 1000)::bigint"
                ),
            )
            .await
        } else {
            self.read(RESET, rows!("")).await
        }
    }

    /// Counters of the server's checkpoints, under the number 0.
    async fn read_checkpoints(&mut self) -> Result<Snapshot<u32, CheckpointCounters>, ReadProblem> {
        if self.server.version_number >= 170_000 {
            self.read(
                "greatest((SELECT stats_reset FROM pg_stat_checkpointer), (SELECT stats_reset FROM pg_stat_bgwriter))",
                "SELECT 0::bigint, ARRAY[c.num_timed, c.num_requested, round(c.write_time * 1000)::bigint,
                        round(c.sync_time * 1000)::bigint, c.buffers_written, b.buffers_clean, b.buffers_alloc], NULL::bigint
                 FROM pg_stat_checkpointer c, pg_stat_bgwriter b",
            )
            .await
        } else {
            self.read(
                "(SELECT stats_reset FROM pg_stat_bgwriter)",
                "SELECT 0::bigint, ARRAY[checkpoints_timed, checkpoints_req, round(checkpoint_write_time * 1000)::bigint,
                        round(checkpoint_sync_time * 1000)::bigint, buffers_checkpoint, buffers_clean, buffers_alloc], NULL::bigint
                 FROM pg_stat_bgwriter",
            )
            .await
        }
    }

    /// Input and output of the whole server, Hurnix's own session included: it is not told apart there.
    async fn read_io(&mut self) -> Result<Snapshot<String, IoCounters>, ReadProblem> {
        // From version 18 on one operation may be of any size.
        macro_rules! rows {
            ($read:literal, $written:literal, $extended:literal) => {
                concat!(
                    "SELECT format('%s, %s, %s', backend_type, object, context), ARRAY[reads, ",
                    $read,
                    ", round(read_time * 1000)::bigint, writes, ",
                    $written,
                    ", round(write_time * 1000)::bigint, extends, ",
                    $extended,
                    ", round(extend_time * 1000)::bigint, writebacks, hits, evictions, reuses, fsyncs, round(fsync_time * 1000)::bigint],
                      NULL::bigint
                     FROM pg_stat_io"
                )
            };
        }
        const RESET: &str = "(SELECT max(stats_reset) FROM pg_stat_io)";
        if self.server.version_number >= 180_000 {
            self.read(RESET, rows!("read_bytes::bigint", "write_bytes::bigint", "extend_bytes::bigint")).await
        } else {
            self.read(RESET, rows!("reads * op_bytes", "writes * op_bytes", "extends * op_bytes")).await
        }
    }

    /// Reads rows of (number or name, figures in the order of the counters' names, what stands for name and definition).
    async fn read<C: Counters<Key: FromRow>>(
        &mut self,
        reset: &'static str,
        rows: &'static str,
    ) -> Result<Snapshot<C::Key, C>, ReadProblem> {
        let head = self.snapshot_head(reset).await?;
        let rows = sqlx::query(AssertSqlSafe(marked(rows))).fetch_all(&mut self.connection).await?;
        Ok(Snapshot {
            traces: rows.iter().filter_map(|row| row.get::<Option<i64>, _>(2).map(Trace::Name)).collect(),
            rows: rows
                .iter()
                .map(|row| {
                    // Tables without index have no index counters at all.
                    let figures: Vec<Option<i64>> = row.get(1);
                    let figures: Vec<i64> = figures.into_iter().map(Option::unwrap_or_default).collect();
                    (C::Key::from_row(row), C::from_values(&figures))
                })
                .collect(),
            ..head
        })
    }

    /// A reading of the whole server without rows yet. `reset` is when what is counted was last set back.
    ///
    /// The checkpointer lives as long as its server, unless a process of the server crashes: then all of them are
    /// started anew, all counters begin at zero, and the server's own start time stays.
    pub(super) async fn snapshot_head<K, C>(&mut self, reset: &str) -> Result<Snapshot<K, C>, ReadProblem> {
        let head = sqlx::query(AssertSqlSafe(marked(&format!(
            "SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::bigint AS at_us,
                    (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint AS started_us,
                    (SELECT (extract(epoch FROM max(backend_start)) * 1000000)::bigint
                     FROM pg_stat_activity WHERE backend_type = 'checkpointer') AS crashed_us,
                    (extract(epoch FROM {reset}) * 1000000)::bigint AS reset_us"
        ))))
        .fetch_one(&mut self.connection)
        .await?;
        Ok(Snapshot {
            crashed_at: head.get::<Option<i64>, _>("crashed_us").map(at),
            reset_at: head.get::<Option<i64>, _>("reset_us").map(at),
            ..Snapshot::new(at(head.get("at_us")), at(head.get("started_us")), Vec::new())
        })
    }
}

/// The key of an object, out of the first column of its row.
trait FromRow {
    fn from_row(row: &PgRow) -> Self;
}

impl FromRow for u32 {
    fn from_row(row: &PgRow) -> u32 {
        row.get::<i64, _>(0) as u32
    }
}

impl FromRow for String {
    fn from_row(row: &PgRow) -> String {
        row.get(0)
    }
}
