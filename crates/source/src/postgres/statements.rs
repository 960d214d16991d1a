use std::collections::HashSet;

use hurnix_core::readings::counters::{Counters, NestedCounters, StatementCounters};
use hurnix_core::readings::difference::{Evictions, Snapshot, Trace};
use hurnix_core::readings::statement::{NestedKey, StatementKey, StatementText};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};

use super::quote::quote;
use super::statement_view::StatementView;
use super::{MARK, PostgresSource, at};
use crate::{CountersReading, ReadProblem};

/// Longer texts are cut: what is read of a server is bounded.
const MOST_TEXT_LETTERS: usize = 1_000_000;

/// More than any squares of times come to; below what a number of the repository holds.
const MOST_SQUARED: &str = "9e18";

/// Statements whose text was read already on this connection.
#[derive(Debug, Default)]
pub(super) struct Known {
    texts: HashSet<StatementKey>,
    own: HashSet<StatementKey>,
}

impl Known {
    /// Has the texts of what was taken for Hurnix's own read again.
    pub(super) fn forget_own(&mut self) {
        self.own.clear();
    }
}

impl PostgresSource {
    /// The statement counters, or nothing where the server does not keep them.
    ///
    /// Texts are in a file that the server reads whole, so they are asked for only when there are new
    /// statements. A statement without text (thrown out in the meantime) is asked for again at the next reading.
    /// Counters are told of all statements, also of those without text and of Hurnix's own: one that were left out
    /// now and told later would look new, with all that it ever counted.
    pub(super) async fn read_statements(&mut self) -> Result<Option<CountersReading>, ReadProblem> {
        let Some(view) = self.server.statement_view.clone() else { return Ok(None) };
        let head = self.statement_head(&view).await?;
        let rows = sqlx::query(AssertSqlSafe(counters_sql(&view))).fetch_all(&mut self.connection).await?;
        // Statements of others without their number: the right to see them has gone meanwhile. To leave them out
        // would make them new when it comes back.
        if rows.iter().any(|row| row.get::<Option<i64>, _>("query_id").is_none()) {
            return Err(self.right_is_gone());
        }
        let counters: Vec<(StatementKey, StatementCounters)> = rows.iter().map(read).collect();
        let unknown: Vec<i64> = counters
            .iter()
            .filter(|(key, _)| !self.statements.texts.contains(key) && !self.statements.own.contains(key))
            .map(|(key, _)| key.query_id)
            .collect();
        let texts = if unknown.is_empty() { Vec::new() } else { self.texts(&view, &unknown).await? };
        let traces = rows.iter().map(|row| trace(&view, row)).collect();
        let counters = Snapshot { traces, rows: counters, ..head }.into();
        Ok(Some(CountersReading { counters, texts }))
    }

    /// Counters of what functions and procedures ran, where the server tells it apart. Their texts come with those of all
    /// statements.
    pub(super) async fn read_nested(&mut self) -> Result<Option<Snapshot<NestedKey, NestedCounters>>, ReadProblem> {
        let Some(view) = self.server.statement_view.clone().filter(|view| view.has_top_level) else { return Ok(None) };
        let head = self.statement_head(&view).await?;
        let sql = nested_sql(&view);
        let rows = sqlx::query(AssertSqlSafe(sql)).fetch_all(&mut self.connection).await?;
        if rows.iter().any(|row| row.get::<Option<i64>, _>("query_id").is_none()) {
            return Err(self.right_is_gone());
        }
        let traces = rows.iter().map(|row| trace(&view, row)).collect();
        let read = |row: &PgRow| {
            let key = NestedKey {
                database_oid: row.get::<i64, _>("database_oid") as u32,
                account_oid: row.get::<i64, _>("account_oid") as u32,
                query_id: row.get("query_id"),
            };
            (key, NestedCounters::from_values(&row.get::<Vec<i64>, _>("figures")))
        };
        Ok(Some(Snapshot { traces, rows: rows.iter().map(read).collect(), ..head }))
    }

    /// What is told of the list of statements as a whole.
    async fn statement_head<K, C>(&mut self, view: &StatementView) -> Result<Snapshot<K, C>, ReadProblem> {
        if !view.has_info {
            return Ok(Snapshot { evictions: Evictions::Untold, ..self.snapshot_head("NULL::timestamptz").await? });
        }
        let info = format!("{}.pg_stat_statements_info", quote(&view.schema));
        let head = self.snapshot_head(&format!("(SELECT stats_reset FROM {info})")).await?;
        let sql = AssertSqlSafe(format!("SELECT /* hurnix */ dealloc FROM {info}"));
        let times = sqlx::query_scalar(sql).fetch_one(&mut self.connection).await?;
        Ok(Snapshot { evictions: Evictions::Times(times), ..head })
    }

    async fn texts(&mut self, view: &StatementView, query_ids: &[i64]) -> Result<Vec<StatementText>, ReadProblem> {
        let top_level = top_level(view);
        let rows = sqlx::query(AssertSqlSafe(format!(
            "SELECT /* hurnix */ s.userid::bigint AS account_oid, s.dbid::bigint AS database_oid, s.queryid AS query_id,
                    {top_level} AS top_level, left(coalesce(s.query, ''), {MOST_TEXT_LETTERS}) AS text,
                    coalesce(r.rolname::text, '') AS account, coalesce(d.datname::text, '') AS database
             FROM {}.pg_stat_statements(true) s
             LEFT JOIN pg_roles r ON r.oid = s.userid LEFT JOIN pg_database d ON d.oid = s.dbid
             WHERE s.queryid = ANY($1)",
            quote(&view.schema)
        )))
        .bind(query_ids)
        .fetch_all(&mut self.connection)
        .await?;
        let mut texts = Vec::new();
        for row in &rows {
            let (text, account): (String, String) = (row.get("text"), row.get("account"));
            let key = key(row);
            // The driver's own, such as those that begin a transaction, are known by the account alone.
            let is_own = text.contains(MARK) || self.server.has_account_alone && account == self.server.account;
            if is_own {
                self.statements.own.insert(key);
            } else if self.statements.texts.insert(key) {
                texts.push(StatementText { key, text, account, database: row.get("database") });
            }
        }
        Ok(texts)
    }
}

fn top_level(view: &StatementView) -> &'static str {
    if view.has_top_level { "s.toplevel" } else { "true" }
}

/// By what a statement is known as the one that it was.
fn trace_sql(view: &StatementView) -> &'static str {
    if view.has_begin {
        "(extract(epoch FROM s.stats_since) * 1000000)::bigint AS began_us"
    } else {
        "round(s.max_exec_time * 1000000)::bigint AS longest"
    }
}

fn trace(view: &StatementView, row: &PgRow) -> Trace {
    if view.has_begin { Trace::Began(at(row.get("began_us"))) } else { Trace::Largest(row.get("longest")) }
}

fn nested_sql(view: &StatementView) -> String {
    format!(
        "SELECT /* hurnix */ s.userid::bigint AS account_oid, s.dbid::bigint AS database_oid, s.queryid AS query_id,
                ARRAY[s.calls, round(s.total_exec_time * 1000)::bigint, s.rows, s.shared_blks_hit, s.shared_blks_read,
                      s.shared_blks_dirtied, s.temp_blks_written, s.wal_bytes::bigint] AS figures, {}
         FROM {}.pg_stat_statements(false) s WHERE NOT s.toplevel",
        trace_sql(view),
        quote(&view.schema)
    )
}

fn counters_sql(view: &StatementView) -> String {
    let StatementView { schema, read_time, write_time, .. } = view;
    let trace = trace_sql(view);
    // Times are kept in milliseconds with fractions; whole microseconds add up exactly.
    format!(
        "SELECT /* hurnix */ s.userid::bigint AS account_oid, s.dbid::bigint AS database_oid, s.queryid AS query_id,
                {} AS top_level, s.calls, round(s.total_exec_time * 1000)::bigint AS exec_us,
                round(s.total_plan_time * 1000)::bigint AS plan_us, s.rows,
                s.shared_blks_hit, s.shared_blks_read, s.shared_blks_dirtied, s.shared_blks_written,
                s.temp_blks_read, s.temp_blks_written,
                round(s.{read_time} * 1000)::bigint AS read_us, round(s.{write_time} * 1000)::bigint AS write_us,
                s.wal_bytes::bigint AS log_bytes,
                least(s.calls * (s.stddev_exec_time ^ 2 + s.mean_exec_time ^ 2), {MOST_SQUARED})::bigint AS squared_ms, {trace}
         FROM {}.pg_stat_statements(false) s",
        top_level(view),
        quote(schema)
    )
}

fn key(row: &PgRow) -> StatementKey {
    StatementKey {
        database_oid: row.get::<i64, _>("database_oid") as u32,
        account_oid: row.get::<i64, _>("account_oid") as u32,
        query_id: row.get("query_id"),
        top_level: row.get("top_level"),
    }
}

fn read(row: &PgRow) -> (StatementKey, StatementCounters) {
    // By position: thousands of rows are read at a time.
    let counters = StatementCounters {
        calls: row.get(4),
        exec_us: row.get(5),
        plan_us: row.get(6),
        rows: row.get(7),
        hit_pages: row.get(8),
        read_pages: row.get(9),
        dirtied_pages: row.get(10),
        written_pages: row.get(11),
        temp_read_pages: row.get(12),
        temp_written_pages: row.get(13),
        read_us: row.get(14),
        write_us: row.get(15),
        log_bytes: row.get(16),
        squared_ms: row.get(17),
    };
    (key(row), counters)
}
