use std::collections::HashMap;

use hurnix_core::readings::activity::{ActivitySample, AwaitedLock, PREPARED, Session};
use hurnix_core::readings::unasked::{MOST_ASKED, Waiting, held_up_alike};
use serde::Deserialize;
use sqlx::types::Json;
use sqlx::{AssertSqlSafe, Row};

use super::waits::wait_kind;
use super::{PROGRAM, PostgresSource, at};
use crate::ReadProblem;

/// Longer texts are cut: what is read of a server is bounded.
const MOST_TEXT_LETTERS: usize = 20_000;

/// A session as the query below writes it.
#[derive(Deserialize)]
struct Seen {
    process: i32,
    started_us: i64,
    working: bool,
    event_type: Option<String>,
    event: Option<String>,
    query_id: Option<i64>,
    text: Option<String>,
    account: Option<String>,
    program: Option<String>,
    client: Option<String>,
    database: Option<String>,
    transaction_us: Option<i64>,
    statement_us: Option<i64>,
    /// Nothing where the server was not asked.
    blocked_by: Option<Vec<i32>>,
    /// The lock that it waits for, the same for all who do.
    lock: Option<String>,
    awaited: Option<AwaitedLock>,
}

impl PostgresSource {
    /// What every session that is not idle does right now, without Hurnix's own.
    pub(super) async fn read_activity(&mut self) -> Result<ActivitySample, ReadProblem> {
        let query_id = if self.server.has_query_id { "query_id" } else { "NULL" };
        // One row always comes back, so that "nobody is busy" is an answer, not silence. Who blocks
        // whom, and for what, is asked only for those who wait for a lock, and for a bounded number of them, of each
        // lock one before any second: each stops all work on the server's lock table for a moment. Whoever came to
        // wait since the locks were read is asked as well. Whoever waits for another's row holds a lock on the row's
        // place in its table.
        let sql = format!(
            "WITH /* hurnix */ awaited AS MATERIALIZED (
                SELECT DISTINCT ON (l.pid) l.pid, l.tag, json_build_object('mode', l.mode, 'kind', l.locktype, 'object', coalesce(n.nspname || '.' || c.relname, '')) AS lock
                FROM (SELECT pid, granted, mode, locktype,
                             concat_ws(' ', locktype, database, relation, page, tuple, virtualxid, transactionid, classid, objid, objsubid) AS tag, coalesce(relation, first_value(relation) OVER (PARTITION BY pid ORDER BY relation)) AS relation,
                             coalesce(database, first_value(database) OVER (PARTITION BY pid ORDER BY relation)) AS database
                      FROM pg_locks WHERE NOT granted OR locktype = 'tuple') l
                LEFT JOIN pg_class c ON c.oid = l.relation AND l.database IN (0, (SELECT oid FROM pg_database WHERE datname = current_database()))
                LEFT JOIN pg_namespace n ON n.oid = c.relnamespace
                WHERE NOT l.granted ORDER BY l.pid
             ), asked AS MATERIALIZED (
                SELECT pid FROM (SELECT pid, row_number() OVER (PARTITION BY tag ORDER BY pid) AS nth FROM awaited) w ORDER BY nth, pid LIMIT {MOST_ASKED}
             ), by_process AS MATERIALIZED (
                SELECT jsonb_object_agg(pid, lock) AS lock, jsonb_object_agg(pid, tag) AS tag FROM awaited
             )
             SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::bigint AS at_us,
                pg_has_role(current_user, 'pg_read_all_stats', 'USAGE') AS reads_all,
                count(*) FILTER (WHERE backend_type = 'client backend')::int AS sessions,
                coalesce(json_agg(json_build_object(
                    'process', pid,
                    'started_us', (extract(epoch FROM backend_start) * 1000000)::bigint,
                    'working', state IN ('active', 'fastpath function call'),
                    'event_type', wait_event_type, 'event', wait_event,
                    'query_id', {query_id}, 'text', left(query, {MOST_TEXT_LETTERS}),
                    'account', usename, 'program', application_name,
                    'client', host(client_addr), 'database', datname,
                    'transaction_us', (extract(epoch FROM xact_start) * 1000000)::bigint,
                    'statement_us', (extract(epoch FROM query_start) * 1000000)::bigint,
                    'blocked_by', CASE WHEN wait_event_type IS DISTINCT FROM 'Lock' THEN '{{}}'
                        WHEN pid IN (SELECT pid FROM asked) OR pid NOT IN (SELECT pid FROM awaited) THEN pg_blocking_pids(pid) END,
                    'lock', CASE WHEN wait_event_type = 'Lock' THEN (SELECT tag FROM by_process) ->> pid::text END,
                    'awaited', CASE WHEN wait_event_type = 'Lock' THEN (SELECT lock FROM by_process) -> pid::text END
                )) FILTER (WHERE state NOT IN ('idle', 'disabled', 'starting')), '[]') AS active
             FROM pg_stat_activity
             WHERE application_name <> '{PROGRAM}' AND pid <> pg_backend_pid()
               AND backend_type IN ('client backend', 'parallel worker', 'autovacuum worker')"
        );
        let row = sqlx::query(AssertSqlSafe(sql)).fetch_one(&mut self.connection).await?;
        if !row.get::<bool, _>("reads_all") {
            return Err(self.right_is_gone());
        }
        let Json(active): Json<Vec<Seen>> = row.get("active");
        let waits = |seen: &&Seen| seen.event_type.as_deref() == Some("Lock");
        let waiting: Vec<Waiting> = active.iter().filter(waits).filter_map(waiting).collect();
        let alike = held_up_alike(&waiting);
        let mut active: Vec<Session> = active.into_iter().map(|seen| session(seen, &alike)).collect();
        if active.iter().any(|session| session.blocked_by.contains(&PREPARED)) {
            active.extend(self.prepared_holders().await?);
        }
        Ok(ActivitySample { at: at(row.get("at_us")), sessions: row.get("sessions"), active })
    }

    /// The prepared transactions that somebody waits for, as one holder: the server does not tell them apart.
    async fn prepared_holders(&mut self) -> Result<Option<Session>, ReadProblem> {
        let rows = sqlx::query(
            "SELECT /* hurnix */ DISTINCT p.gid, p.owner::text AS owner, p.database::text AS database,
                    (extract(epoch FROM p.prepared) * 1000000)::bigint AS prepared_us
             FROM pg_prepared_xacts p
             JOIN pg_locks own ON own.pid IS NULL AND own.locktype = 'transactionid' AND own.transactionid = p.transaction
             JOIN pg_locks h ON h.pid IS NULL AND h.virtualtransaction = own.virtualtransaction
             JOIN pg_locks w ON NOT w.granted AND h.granted AND w.locktype = h.locktype
              AND (w.database, w.relation, w.page, w.tuple, w.transactionid, w.classid, w.objid, w.objsubid)
                  IS NOT DISTINCT FROM (h.database, h.relation, h.page, h.tuple, h.transactionid, h.classid, h.objid, h.objsubid)
             ORDER BY prepared_us",
        )
        .fetch_all(&mut self.connection)
        .await?;
        let names: Vec<String> = rows.iter().map(|row| row.get("gid")).collect();
        Ok(rows.first().map(|oldest| Session {
            process: PREPARED,
            started_at: at(oldest.get("prepared_us")),
            wait_kind: None,
            event: None,
            query_id: None,
            text: String::new(),
            account: oldest.get("owner"),
            program: format!("prepared transaction {}", names.join(", ")),
            client: String::new(),
            database: oldest.get("database"),
            transaction_started_at: Some(at(oldest.get("prepared_us"))),
            statement_started_at: None,
            blocked_by: Vec::new(),
            awaited: None,
        }))
    }
}

fn waiting(seen: &Seen) -> Option<Waiting<'_>> {
    Some(Waiting { process: seen.process, lock: seen.lock.as_deref()?, blocked_by: seen.blocked_by.as_deref() })
}

/// `alike` are holders of those of which the server was not asked.
fn session(seen: Seen, alike: &HashMap<i32, Vec<i32>>) -> Session {
    let (event_type, event) = (seen.event_type.as_deref(), seen.event.as_deref());
    Session {
        process: seen.process,
        started_at: at(seen.started_us),
        wait_kind: seen.working.then(|| wait_kind(event_type, event)),
        event: event_type.map(|event_type| format!("{event_type}:{}", event.unwrap_or_default())),
        query_id: seen.query_id.filter(|id| *id != 0),
        text: seen.text.unwrap_or_default(),
        account: seen.account.unwrap_or_default(),
        program: seen.program.unwrap_or_default(),
        client: seen.client.unwrap_or_default(),
        database: seen.database.unwrap_or_default(),
        transaction_started_at: seen.transaction_us.map(at),
        statement_started_at: seen.statement_us.map(at),
        blocked_by: seen.blocked_by.or_else(|| alike.get(&seen.process).cloned()).unwrap_or_default(),
        awaited: seen.awaited,
    }
}
