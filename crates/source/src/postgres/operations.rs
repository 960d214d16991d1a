use hurnix_core::Named;
use hurnix_core::readings::operation::{Operation, OperationKind, Operations, UpkeepTable, WorkUnit};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};

use super::progress::{ALL, Work};
use super::{PROGRAM, PostgresSource, at, marked};
use crate::ReadProblem;

/// Tables of the queue that are read: those that come first by what they reached.
const MOST_TABLES: i64 = 200;

/// Tables with what makes them due, by the server's documented rule and their own settings.
const TABLES: &str = "WITH setting AS (
        SELECT current_setting('autovacuum_vacuum_threshold')::float8 AS vacuum_from, current_setting('autovacuum_vacuum_scale_factor')::float8 AS vacuum_share,
            current_setting('autovacuum_vacuum_insert_threshold')::float8 AS insert_from, current_setting('autovacuum_vacuum_insert_scale_factor')::float8 AS insert_share,
            current_setting('autovacuum_analyze_threshold')::float8 AS analyze_from, current_setting('autovacuum_analyze_scale_factor')::float8 AS analyze_share,
            current_setting('autovacuum_freeze_max_age')::float8 AS freeze_at, current_setting('autovacuum_multixact_freeze_max_age')::float8 AS multixact_at
     ), own AS (
        SELECT c.oid, n.nspname || '.' || c.relname AS name, c.relpages::float8 * current_setting('block_size')::float8 AS size_bytes,
            greatest(c.reltuples, 0)::float8 AS rows, age(nullif(c.relfrozenxid, '0'))::float8 AS age, mxid_age(nullif(c.relminmxid, '0'))::float8 AS multixact_age,
            coalesce((SELECT jsonb_object_agg(option_name, option_value) FROM pg_options_to_table(c.reloptions)), '{}') AS option
        FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE c.relkind IN ('r', 'm') AND c.relpersistence <> 't'
     ), due AS (
        SELECT own.name, own.size_bytes, coalesce((option->>'autovacuum_enabled') NOT IN ('false', 'off', 'no', '0'), true) AS is_automatic,
            s.n_dead_tup::float8 AS dead,
            coalesce((option->>'autovacuum_vacuum_threshold')::float8, vacuum_from) + coalesce((option->>'autovacuum_vacuum_scale_factor')::float8, vacuum_share) * rows AS dead_at,
            s.n_ins_since_vacuum::float8 AS inserted,
            coalesce((option->>'autovacuum_vacuum_insert_threshold')::float8, insert_from) AS insert_base,
            coalesce((option->>'autovacuum_vacuum_insert_threshold')::float8, insert_from) + coalesce((option->>'autovacuum_vacuum_insert_scale_factor')::float8, insert_share) * rows AS inserted_at,
            -- The planner's statistics of the table that holds them are never collected.
            CASE WHEN own.oid <> 'pg_statistic'::regclass THEN s.n_mod_since_analyze::float8 END AS changed,
            coalesce((option->>'autovacuum_analyze_threshold')::float8, analyze_from) + coalesce((option->>'autovacuum_analyze_scale_factor')::float8, analyze_share) * rows AS changed_at,
            CASE WHEN multixact_age / multixact_at > age / freeze_at THEN multixact_age ELSE age END AS age,
            CASE WHEN multixact_age / multixact_at > age / freeze_at THEN multixact_at
                 ELSE least(coalesce((option->>'autovacuum_freeze_max_age')::float8, freeze_at), freeze_at) END AS age_at
        FROM own CROSS JOIN setting JOIN pg_stat_all_tables s ON s.relid = own.oid
     )
     SELECT * FROM due ORDER BY greatest(dead / dead_at, inserted / nullif(inserted_at, 0), changed / changed_at, age / age_at) DESC NULLS LAST LIMIT $1";

impl PostgresSource {
    /// Long work that goes on, of the whole server, and what its own vacuum takes next of the connected database.
    pub(super) async fn read_operations(&mut self) -> Result<Operations, ReadProblem> {
        let version = self.server.version_number;
        let parts: Vec<String> = ALL.iter().filter(|work| version >= work.since).map(Work::live_sql).collect();
        let sql = format!(
            "SELECT w.*, a.usename::text AS account, a.backend_type, CASE WHEN a.wait_event_type = 'Lock' THEN pg_blocking_pids(w.pid) ELSE '{{}}' END AS blocked_by,
                (extract(epoch FROM a.backend_start) * 1000000)::bigint AS started_us,
                (extract(epoch FROM coalesce(a.query_start, a.xact_start, a.backend_start)) * 1000000)::bigint AS began_us
             FROM ({}) w JOIN pg_stat_activity a ON a.pid = w.pid WHERE a.application_name <> '{PROGRAM}' ORDER BY began_us",
            parts.join(" UNION ALL ")
        );
        let rows = sqlx::query(AssertSqlSafe(marked(&sql))).fetch_all(&mut self.connection).await?;
        let tables =
            sqlx::query(AssertSqlSafe(marked(TABLES))).bind(MOST_TABLES).fetch_all(&mut self.connection).await?;
        let own = sqlx::query(
            "SELECT /* hurnix */ (extract(epoch FROM clock_timestamp()) * 1000000)::bigint AS at_us, current_setting('autovacuum')::bool AS is_automatic,
                (SELECT count(*)::int FROM pg_stat_activity WHERE backend_type = 'autovacuum worker') AS working,
                current_setting('autovacuum_max_workers')::int AS most",
        )
        .fetch_one(&mut self.connection)
        .await?;
        Ok(Operations {
            at: at(own.get("at_us")),
            operations: rows.iter().filter_map(operation).collect(),
            tables: tables.iter().map(table).collect(),
            workers: (own.get("working"), own.get("most")),
            is_automatic: own.get("is_automatic"),
        })
    }
}

fn operation(row: &PgRow) -> Option<Operation> {
    let total: Option<f64> = row.get("total");
    Some(Operation {
        process: row.get("pid"),
        started_at: at(row.get("started_us")),
        kind: OperationKind::named(row.get("kind"))?,
        is_automatic: row.get::<String, _>("backend_type") == "autovacuum worker",
        table: row.get("table_name"),
        database: row.get("database"),
        account: row.get::<Option<String>, _>("account").unwrap_or_default(),
        phase: row.get("phase"),
        done: row.get("done"),
        total: total.filter(|total| *total > 0.0),
        unit: WorkUnit::named(row.get("unit"))?,
        began_at: at(row.get("began_us")),
        blocked_by: row.get("blocked_by"),
    })
}

fn table(row: &PgRow) -> UpkeepTable {
    let known = |column: &str| row.get::<Option<f64>, _>(column).unwrap_or_default();
    let inserts: f64 = known("insert_base");
    UpkeepTable {
        table: row.get("name"),
        size_bytes: row.get("size_bytes"),
        is_automatic: row.get("is_automatic"),
        dead_rows: (known("dead"), known("dead_at")),
        // Less than none means never.
        inserted_rows: (inserts >= 0.0).then(|| (known("inserted"), known("inserted_at"))),
        changed_rows: (known("changed"), known("changed_at")),
        age: (known("age"), known("age_at")),
    }
}
