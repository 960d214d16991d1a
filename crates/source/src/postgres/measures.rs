use hurnix_core::Named;
use hurnix_core::readings::counters::MeasureCounters;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::{Measure, Metric};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};

use super::{PROGRAM, PostgresSource, marked};
use crate::{MeasureReading, ReadProblem};

/// Where the log has come to: on a replica, where it has been replayed to.
const LOG_POSITION: &str = "CASE WHEN pg_is_in_recovery() THEN pg_last_wal_replay_lsn() ELSE pg_current_wal_lsn() END";

/// What keeps vacuum from removing row versions, as the server itself finds it: the oldest transaction that a session
/// runs or may still see the rows of, one that was prepared, and what slots and replicas still need. Each age only as
/// far as the server has one. From version 18 on a session is seen while it signs in; it has no name then, and is over with
/// its snapshot in a moment.
const XMIN_AGES: &str = "SELECT 'xmin_age' AS metric, format('session of %s in %s', usename, datname) AS object,
            max(greatest(age(backend_xmin), age(backend_xid)))::float8 AS value
     FROM pg_stat_activity
     WHERE backend_type = 'client backend' AND (backend_xmin IS NOT NULL OR backend_xid IS NOT NULL) AND pid <> pg_backend_pid()
       AND usename IS NOT NULL
     GROUP BY 2
     UNION ALL
     SELECT 'xmin_age', format('prepared transaction %s in %s', gid, database), age(transaction)::float8 FROM pg_prepared_xacts
     UNION ALL
     SELECT 'xmin_age', format('slot %s', slot_name), age(xmin)::float8 FROM pg_replication_slots WHERE xmin IS NOT NULL
     UNION ALL
     SELECT 'xmin_age', format('catalog of slot %s', slot_name), age(catalog_xmin)::float8 FROM pg_replication_slots WHERE catalog_xmin IS NOT NULL
     UNION ALL
     SELECT 'xmin_age', format('replica %s', application_name), max(age(backend_xmin))::float8
     FROM pg_stat_replication WHERE backend_xmin IS NOT NULL GROUP BY 2";

/// Sequences by how much of them is used: of their own numbers, or of those that the narrowest column holds that takes
/// them, as its own or by default.
const SEQUENCES: &str = "WITH fed AS (
        SELECT d.objid AS sequence, a.atttypid AS type FROM pg_depend d JOIN pg_attribute a ON a.attrelid = d.refobjid AND a.attnum = d.refobjsubid
        WHERE d.classid = 'pg_class'::regclass AND d.refclassid = 'pg_class'::regclass AND d.deptype IN ('a', 'i')
        UNION
        SELECT d.refobjid, a.atttypid FROM pg_depend d JOIN pg_attrdef f ON f.oid = d.objid
        JOIN pg_attribute a ON a.attrelid = f.adrelid AND a.attnum = f.adnum
        WHERE d.classid = 'pg_attrdef'::regclass AND d.refclassid = 'pg_class'::regclass
     ), ends AS (
        SELECT s.seqrelid, s.seqincrement, s.seqmin::float8 AS first, n.nspname || '.' || c.relname AS name,
               CASE WHEN has_sequence_privilege(c.oid, 'SELECT,USAGE') THEN pg_sequence_last_value(c.oid)::float8 END AS last_value,
               least(s.seqmax::float8, (SELECT min(CASE type WHEN 'int2'::regtype THEN 32767.0 WHEN 'int4'::regtype THEN 2147483647.0 END)
                                        FROM fed WHERE fed.sequence = c.oid)) AS most,
               greatest(s.seqmin::float8, (SELECT max(CASE type WHEN 'int2'::regtype THEN -32768.0 WHEN 'int4'::regtype THEN -2147483648.0 END)
                                           FROM fed WHERE fed.sequence = c.oid)) AS least, s.seqmax::float8 AS seqmax
        FROM pg_sequence s JOIN pg_class c ON c.oid = s.seqrelid JOIN pg_namespace n ON n.oid = c.relnamespace
        WHERE NOT pg_is_other_temp_schema(n.oid)
     )
     SELECT 'sequence_used' AS metric, name AS object,
            least(CASE WHEN seqincrement > 0 THEN (last_value - first) / nullif(most - first, 0)
                       ELSE (seqmax - last_value) / nullif(seqmax - least, 0) END, 1) AS value
     FROM ends WHERE last_value IS NOT NULL";

impl PostgresSource {
    /// Single figures of a kind, or nothing where they cannot be seen.
    pub(super) async fn read_measures(&mut self, of: Figures) -> Result<Option<MeasureReading>, ReadProblem> {
        match of {
            Figures::Standing => self.read_standing().await.map(Some),
            Figures::Replication => self.read_replication().await.map(Some),
            Figures::Space => self.read_space().await.map(Some),
            Figures::Multixacts => self.read_multixacts().await.map(Some),
            Figures::Host => self.read_host().await,
            Figures::Processes => self.read_server_cpu().await,
            _ => Ok(None),
        }
    }

    /// Sessions, transactions and locks as they stand.
    async fn read_standing(&mut self) -> Result<MeasureReading, ReadProblem> {
        let mut reading = self.head("NULL::timestamptz").await?;
        let others =
            format!("backend_type = 'client backend' AND application_name <> '{PROGRAM}' AND pid <> pg_backend_pid()");
        let sql = format!(
            "SELECT 'connections' AS metric, coalesce(state, 'unknown') AS object, count(*)::float8 AS value
             FROM pg_stat_activity WHERE {others} GROUP BY 2
             UNION ALL
             SELECT 'connections_kept', '', count(*)::float8
             FROM pg_stat_activity WHERE {others} AND backend_start < now() - interval '1 minute'
             UNION ALL
             SELECT 'connections_allowed', '', current_setting('max_connections')::float8 - current_setting('superuser_reserved_connections')::float8
             UNION ALL
             SELECT 'oldest_transaction', datname, max(extract(epoch FROM clock_timestamp() - xact_start))::float8
             FROM pg_stat_activity WHERE {others} AND xact_start IS NOT NULL AND datname IS NOT NULL GROUP BY 2
             UNION ALL
             SELECT CASE WHEN granted THEN 'locks_held' ELSE 'locks_awaited' END, mode, count(*)::float8
             FROM pg_locks WHERE pid IS DISTINCT FROM pg_backend_pid() GROUP BY 1, 2
             UNION ALL
             SELECT 'prepared_transactions', '', count(*)::float8 FROM pg_prepared_xacts
             UNION ALL
             SELECT 'oldest_prepared', '', max(extract(epoch FROM clock_timestamp() - prepared))::float8 FROM pg_prepared_xacts HAVING count(*) > 0"
        );
        self.add(&mut reading, sql).await?;
        self.add(&mut reading, XMIN_AGES.to_owned()).await?;
        self.add(&mut reading, self.server.progress_sql()).await?;
        reading.measures.extend(self.connecting.measure().await);
        Ok(reading)
    }

    /// The write-ahead log: written, archived, kept for slots, and replayed by replicas.
    async fn read_replication(&mut self) -> Result<MeasureReading, ReadProblem> {
        let mut reading = self.head("(SELECT stats_reset FROM pg_stat_archiver)").await?;
        let archiving = "current_setting('archive_mode') <> 'off'";
        let sql = format!(
            "SELECT 'recovering' AS metric, '' AS object, pg_is_in_recovery()::int::float8 AS value
             UNION ALL
             SELECT 'log_written', '', pg_wal_lsn_diff({LOG_POSITION}, '0/0')::float8
             UNION ALL
             SELECT 'log_archived', '', archived_count::float8 FROM pg_stat_archiver WHERE {archiving}
             UNION ALL
             SELECT 'log_archive_failed', '', failed_count::float8 FROM pg_stat_archiver WHERE {archiving}
             UNION ALL
             SELECT 'log_archived_ago', '', extract(epoch FROM clock_timestamp() - last_archived_time)::float8
             FROM pg_stat_archiver WHERE {archiving}
             UNION ALL
             SELECT 'replicas_connected', '', count(*)::float8 FROM pg_stat_replication
             UNION ALL
             SELECT 'replica_lag_bytes', application_name, max(pg_wal_lsn_diff({LOG_POSITION}, replay_lsn))::float8
             FROM pg_stat_replication WHERE replay_lsn IS NOT NULL GROUP BY 2
             UNION ALL
             SELECT 'replica_lag', application_name, max(extract(epoch FROM coalesce(replay_lag, interval '0')))::float8
             FROM pg_stat_replication WHERE replay_lsn IS NOT NULL GROUP BY 2
             UNION ALL
             SELECT 'replay_lag', '', CASE WHEN pg_last_wal_receive_lsn() = pg_last_wal_replay_lsn() THEN 0
                 ELSE extract(epoch FROM clock_timestamp() - pg_last_xact_replay_timestamp()) END::float8
             WHERE pg_is_in_recovery()
             UNION ALL
             SELECT 'slot_kept', slot_name, greatest(pg_wal_lsn_diff({LOG_POSITION}, restart_lsn), 0)::float8
             FROM pg_replication_slots
             UNION ALL
             SELECT 'slot_active', slot_name, active::int::float8 FROM pg_replication_slots"
        );
        self.add(&mut reading, sql).await?;
        Ok(reading)
    }

    /// Shared row locks. The next number is that of a database's oldest and its age together, which stays right where the
    /// numbers begin anew; the pages are in caches of their own, which have resets of their own.
    async fn read_multixacts(&mut self) -> Result<MeasureReading, ReadProblem> {
        let mut reading = self.head("(SELECT max(stats_reset) FROM pg_stat_slru)").await?;
        let sql = "WITH pages AS (
                SELECT CASE WHEN name ILIKE '%member%' THEN 'members' ELSE 'offsets' END AS object, blks_zeroed, blks_read
                FROM pg_stat_slru WHERE name ILIKE 'multixact%'
             )
             SELECT 'multixacts_made' AS metric, '' AS object, max(datminmxid::text::bigint + mxid_age(datminmxid))::float8 AS value
             FROM pg_database
             UNION ALL
             SELECT 'oldest_multixact', '', max(mxid_age(datminmxid))::float8 FROM pg_database
             UNION ALL
             SELECT 'multixact_pages_made', object, blks_zeroed::float8 FROM pages
             UNION ALL
             SELECT 'multixact_pages_read', object, blks_read::float8 FROM pages";
        self.add(&mut reading, sql.into()).await?;
        Ok(reading)
    }

    /// Sizes, ages and the state of upkeep: of databases, tablespaces, tables and sequences.
    async fn read_space(&mut self) -> Result<MeasureReading, ReadProblem> {
        let mut reading = self.head("NULL::timestamptz").await?;
        // Sizes of tables are those of the server's last count: asking the disk would lock each of them.
        let sql = "WITH tables AS (
                SELECT c.oid, n.nspname || '.' || c.relname AS name,
                       greatest(age(nullif(c.relfrozenxid, '0')), age(nullif(t.relfrozenxid, '0')))::float8 AS age,
                       greatest(mxid_age(nullif(c.relminmxid, '0')), mxid_age(nullif(t.relminmxid, '0')))::float8 AS multixact_age, current_setting('block_size')::float8 AS page_bytes,
                       c.relpages + coalesce(t.relpages, 0) AS pages,
                       (SELECT coalesce(sum(i.relpages), 0) FROM pg_index x JOIN pg_class i ON i.oid = x.indexrelid WHERE x.indrelid = c.oid) AS index_pages
                FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace LEFT JOIN pg_class t ON t.oid = c.reltoastrelid
                WHERE c.relkind IN ('r', 'm') AND c.relpersistence <> 't'
                  AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
             ), counted AS (
                SELECT tables.name, s.n_live_tup, s.n_dead_tup, s.n_mod_since_analyze,
                       greatest(s.last_vacuum, s.last_autovacuum) AS vacuumed, greatest(s.last_analyze, s.last_autoanalyze) AS analyzed
                FROM tables JOIN pg_stat_user_tables s ON s.relid = tables.oid
             )
             SELECT 'database_size' AS metric, datname::text AS object, pg_database_size(oid)::float8 AS value FROM pg_database WHERE datallowconn
             UNION ALL SELECT 'transaction_age', datname, age(datfrozenxid)::float8 FROM pg_database WHERE datallowconn
             UNION ALL SELECT 'multixact_age', datname, mxid_age(datminmxid)::float8 FROM pg_database WHERE datallowconn
             UNION ALL SELECT 'tablespace_size', spcname, pg_tablespace_size(oid)::float8 FROM pg_tablespace
             UNION ALL SELECT 'table_size', name, pages * page_bytes FROM tables
             UNION ALL SELECT 'table_index_size', name, index_pages * page_bytes FROM tables
             UNION ALL SELECT 'table_age', name, age FROM tables
             UNION ALL SELECT 'table_multixact_age', name, multixact_age FROM tables
             UNION ALL SELECT 'live_rows', name, n_live_tup::float8 FROM counted
             UNION ALL SELECT 'dead_rows', name, n_dead_tup::float8 FROM counted
             UNION ALL SELECT 'rows_since_analyze', name, n_mod_since_analyze::float8 FROM counted
             UNION ALL SELECT 'vacuumed_ago', name, extract(epoch FROM clock_timestamp() - vacuumed)::float8 FROM counted
             UNION ALL SELECT 'analyzed_ago', name, extract(epoch FROM clock_timestamp() - analyzed)::float8 FROM counted";
        self.add(&mut reading, sql.to_owned()).await?;
        // Only those whose numbers the account may see; one that is locked just now is told next time.
        match self.add(&mut reading, SEQUENCES.to_owned()).await {
            Ok(()) | Err(ReadProblem::Refused(_)) => Ok(reading),
            Err(problem) => Err(problem),
        }
    }

    /// A reading without figures yet. `reset` is when what is counted was last reset.
    pub(super) async fn head(&mut self, reset: &'static str) -> Result<MeasureReading, ReadProblem> {
        Ok(MeasureReading { measures: Vec::new(), counted: self.snapshot_head(reset).await? })
    }

    /// Adds rows of (metric, object, value); those without value are absent.
    async fn add(&mut self, reading: &mut MeasureReading, sql: String) -> Result<(), ReadProblem> {
        let sql = AssertSqlSafe(marked(&sql));
        let rows = sqlx::query(sql).fetch_all(&mut self.connection).await?;
        for (metric, object, value) in rows.iter().filter_map(measured) {
            if metric.is_counted() {
                reading.counted.rows.push(((metric, object), MeasureCounters { counted: value as i64 }));
            } else {
                reading.measures.push(Measure { metric, object, value });
            }
        }
        Ok(())
    }
}

fn measured(row: &PgRow) -> Option<(Metric, String, f64)> {
    let metric = Metric::named(row.get("metric"))?;
    let value: Option<f64> = row.get("value");
    Some((metric, row.get::<Option<String>, _>("object").unwrap_or_default(), value.filter(|value| value.is_finite())?))
}
