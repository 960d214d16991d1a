use hurnix_core::counters::{CheckpointCounters, Counters, DatabaseCounters, IndexCounters, TableCounters};
use hurnix_core::difference::Snapshot;
use sqlx::{AssertSqlSafe, Row};

use super::{PostgresSource, at};
use crate::ReadProblem;

/// Head of each reading: its time, the server's start, and the reset of the counters of the database.
const HEAD: &str = "(extract(epoch FROM clock_timestamp()) * 1000000)::bigint AS at_us,
    (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint AS started_us";

/// When counters of the connected database were set back. A crash sets all to zero, and only the reset time of the
/// background writer tells.
const RESET_HERE: &str = "greatest((SELECT stats_reset FROM pg_stat_database WHERE datname = current_database()),
    (SELECT stats_reset FROM pg_stat_bgwriter))";

impl PostgresSource {
    /// Table counters of the connected database.
    pub(super) async fn read_tables(&mut self) -> Result<Snapshot<u32, TableCounters>, ReadProblem> {
        self.read(
            RESET_HERE,
            "SELECT t.relid::bigint, ARRAY[t.seq_scan, t.seq_tup_read, t.idx_scan, t.idx_tup_fetch, t.n_tup_ins, t.n_tup_upd,
                    t.n_tup_hot_upd, t.n_tup_del, i.heap_blks_read, i.heap_blks_hit]
             FROM pg_stat_user_tables t JOIN pg_statio_user_tables i USING (relid)",
        )
        .await
    }

    /// Index counters of the connected database.
    pub(super) async fn read_indexes(&mut self) -> Result<Snapshot<u32, IndexCounters>, ReadProblem> {
        self.read(
            RESET_HERE,
            "SELECT t.indexrelid::bigint, ARRAY[t.idx_scan, t.idx_tup_read, t.idx_tup_fetch, i.idx_blks_read, i.idx_blks_hit]
             FROM pg_stat_user_indexes t JOIN pg_statio_user_indexes i USING (indexrelid)",
        )
        .await
    }

    /// Counters of all databases. A reset of one of them counts as a reset of all.
    pub(super) async fn read_databases(&mut self) -> Result<Snapshot<u32, DatabaseCounters>, ReadProblem> {
        const RESET: &str =
            "greatest((SELECT max(stats_reset) FROM pg_stat_database), (SELECT stats_reset FROM pg_stat_bgwriter))";
        macro_rules! rows {
            ($sessions:literal) => {
                concat!(
                    "SELECT datid::bigint, ARRAY[xact_commit, xact_rollback, blks_read, blks_hit, tup_returned, tup_fetched, tup_inserted,
                            tup_updated, tup_deleted, deadlocks, temp_files, temp_bytes,
                            round(blk_read_time * 1000)::bigint, round(blk_write_time * 1000)::bigint",
                    $sessions,
                    "] FROM pg_stat_database WHERE datname IS NOT NULL"
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
    pub(super) async fn read_checkpoints(&mut self) -> Result<Snapshot<u32, CheckpointCounters>, ReadProblem> {
        if self.server.version_number >= 170_000 {
            self.read(
                "(SELECT stats_reset FROM pg_stat_checkpointer)",
                "SELECT 0::bigint, ARRAY[c.num_timed, c.num_requested, round(c.write_time * 1000)::bigint,
                        round(c.sync_time * 1000)::bigint, c.buffers_written, b.buffers_clean, b.buffers_alloc]
                 FROM pg_stat_checkpointer c, pg_stat_bgwriter b",
            )
            .await
        } else {
            self.read(
                "(SELECT stats_reset FROM pg_stat_bgwriter)",
                "SELECT 0::bigint, ARRAY[checkpoints_timed, checkpoints_req, round(checkpoint_write_time * 1000)::bigint,
                        round(checkpoint_sync_time * 1000)::bigint, buffers_checkpoint, buffers_clean, buffers_alloc]
                 FROM pg_stat_bgwriter",
            )
            .await
        }
    }

    /// Reads rows of (number, figures in the order of the counters' names).
    async fn read<C: Counters>(
        &mut self,
        reset: &'static str,
        rows: &'static str,
    ) -> Result<Snapshot<u32, C>, ReadProblem> {
        let head = sqlx::query(AssertSqlSafe(format!(
            "/* hurnix */ SELECT {HEAD}, (extract(epoch FROM {reset}) * 1000000)::bigint AS reset_us"
        )))
        .fetch_one(&mut self.connection)
        .await?;
        let rows = sqlx::query(AssertSqlSafe(format!("/* hurnix */ {rows}"))).fetch_all(&mut self.connection).await?;
        Ok(Snapshot {
            at: at(head.get("at_us")),
            server_started_at: at(head.get("started_us")),
            reset_at: head.get::<Option<i64>, _>("reset_us").map(at),
            evictions: None,
            rows: rows
                .iter()
                .map(|row| {
                    // Tables without index have no index counters at all.
                    let figures: Vec<Option<i64>> = row.get(1);
                    let figures: Vec<i64> = figures.into_iter().map(Option::unwrap_or_default).collect();
                    (row.get::<i64, _>(0) as u32, C::from_values(&figures))
                })
                .collect(),
        })
    }
}
