use hurnix_core::readings::activity::PREPARED;
use hurnix_core::readings::held_lock::{HeldLock, HeldLocks};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};

use super::{PROGRAM, PostgresSource, at};
use crate::ReadProblem;

/// Longest text of a statement that is read.
const MOST_TEXT_LETTERS: usize = 2_000;

/// Lock modes from the strongest on, as the server's documentation orders them.
const BY_STRENGTH: &str =
    "array_position(ARRAY['AccessExclusiveLock', 'ExclusiveLock', 'ShareRowExclusiveLock', 'ShareLock',
    'ShareUpdateExclusiveLock', 'RowExclusiveLock', 'RowShareLock', 'AccessShareLock'], mode)";

impl PostgresSource {
    /// The locks that are held or waited for, of things whose name contains a text, whatever its case; of all where it is
    /// empty. The lock that each session holds on its own number says nothing and is left out, and so are Hurnix's.
    pub(super) async fn read_held_locks(&mut self, search: &str, most: i64) -> Result<HeldLocks, ReadProblem> {
        let sql = format!(
            "WITH /* hurnix */ lock AS MATERIALIZED (
                SELECT l.*, coalesce(n.nspname || '.' || c.relname, l.relation::text, '') AS object
                FROM pg_locks l
                LEFT JOIN pg_class c ON c.oid = l.relation AND l.database IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
                LEFT JOIN pg_namespace n ON n.oid = c.relnamespace
                WHERE l.pid IS DISTINCT FROM pg_backend_pid() AND NOT (l.locktype = 'virtualxid' AND l.granted)
             ), awaited AS (
                SELECT locktype, database, relation, page, tuple, virtualxid, transactionid, classid, objid, objsubid, count(*)::int AS waiting
                FROM lock WHERE NOT granted GROUP BY 1, 2, 3, 4, 5, 6, 7, 8, 9, 10
             ), told AS (
                SELECT l.pid, l.mode, l.locktype, l.granted, l.object, coalesce(d.datname::text, '') AS database, coalesce(w.waiting, 0) AS waiting,
                    a.backend_start, coalesce(a.usename::text, x.owner::text, '') AS account,
                    CASE WHEN x.gid IS NOT NULL THEN 'prepared transaction ' || x.gid ELSE coalesce(nullif(a.application_name, ''), a.backend_type, '') END AS program,
                    coalesce(host(a.client_addr), '') AS client, coalesce(a.state LIKE 'idle in transaction%', false) AS is_idle,
                    coalesce(a.xact_start, x.prepared) AS began, x.prepared, left(coalesce(a.query, ''), {MOST_TEXT_LETTERS}) AS text
                FROM lock l
                LEFT JOIN awaited w ON (w.locktype, w.database, w.relation, w.page, w.tuple, w.virtualxid, w.transactionid, w.classid, w.objid, w.objsubid)
                    IS NOT DISTINCT FROM (l.locktype, l.database, l.relation, l.page, l.tuple, l.virtualxid, l.transactionid, l.classid, l.objid, l.objsubid)
                LEFT JOIN pg_stat_activity a ON a.pid = l.pid
                LEFT JOIN pg_locks own ON l.pid IS NULL AND own.pid IS NULL AND own.locktype = 'transactionid' AND own.virtualtransaction = l.virtualtransaction
                LEFT JOIN pg_prepared_xacts x ON x.transaction = own.transactionid
                LEFT JOIN pg_database d ON d.oid = l.database
                WHERE a.application_name IS DISTINCT FROM '{PROGRAM}' AND ($1 = '' OR position(lower($1) IN lower(l.object)) > 0)
             )
             SELECT *, count(*) OVER () AS count, (SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::bigint) AS at_us,
                (extract(epoch FROM coalesce(backend_start, prepared)) * 1000000)::bigint AS started_us,
                (extract(epoch FROM began) * 1000000)::bigint AS began_us
             FROM told ORDER BY waiting DESC, object = '', {BY_STRENGTH} NULLS LAST, object, pid LIMIT $2"
        );
        let rows = sqlx::query(AssertSqlSafe(sql)).bind(search).bind(most).fetch_all(&mut self.connection).await?;
        let now = match rows.first() {
            Some(row) => at(row.get("at_us")),
            None => self.read_now().await?,
        };
        let count = rows.first().map_or(0, |row| row.get("count"));
        Ok(HeldLocks { at: now, count, locks: rows.iter().map(held).collect() })
    }
}

fn held(row: &PgRow) -> HeldLock {
    let moment = |column: &str| row.get::<Option<i64>, _>(column).map(at);
    HeldLock {
        process: row.get::<Option<i32>, _>("pid").unwrap_or(PREPARED),
        started_at: moment("started_us"),
        account: row.get("account"),
        program: row.get("program"),
        client: row.get("client"),
        is_idle: row.get("is_idle"),
        transaction_started_at: moment("began_us"),
        text: row.get("text"),
        mode: row.get("mode"),
        kind: row.get("locktype"),
        object: row.get("object"),
        database: row.get("database"),
        is_held: row.get("granted"),
        waiting: row.get("waiting"),
    }
}
