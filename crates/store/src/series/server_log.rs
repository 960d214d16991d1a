use std::collections::{HashMap, HashSet};

use chrono::{DateTime, Utc};
use hurnix_core::readings::server_log::{LogKind, LogLine, LogPosition};
use hurnix_core::{Named, Timestamp, Window};
use sqlx::postgres::{PgArguments, PgRow};
use sqlx::query::Query;
use sqlx::{Postgres, Row, Transaction};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::statements::escape_pattern;
use crate::{Result, Store, StoreProblem, at, time, to_json, word};

/// An entry of a server's log as it is kept.
#[derive(Debug, Clone, PartialEq)]
pub struct LogRow<'a> {
    /// The line, masked if the instance says so.
    pub line: &'a LogLine,
    /// What it tells.
    pub kind: LogKind,
    /// How many lines it stands for.
    pub times: i64,
    /// What its kind says.
    pub value: Option<f64>,
    /// Numbers of account, program, client and database.
    pub names: [i32; 4],
    /// Family of its statement.
    pub family_id: Option<i64>,
    /// Its statement with its literals, where those are kept.
    pub statement: Option<&'a str>,
}

/// An entry as it is read back.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptLogEntry {
    /// The line; its statement is the family's text, or what was kept with its literals.
    pub line: LogLine,
    /// What it tells.
    pub kind: LogKind,
    /// How many lines it stands for.
    pub times: i64,
    /// What its kind says.
    pub value: Option<f64>,
    /// Family of its statement.
    pub family_id: Option<i64>,
    /// Whether its statement has its literals.
    pub has_literals: bool,
}

/// What entries can be sorted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum LogOrder {
    /// When they were written.
    #[default]
    Time,
    /// Name of their kind.
    Kind,
    /// Lines of one reading that say the same.
    Times,
    /// What they say.
    Message,
    /// Name of the account.
    Account,
}

impl LogOrder {
    fn column(self) -> &'static str {
        match self {
            LogOrder::Time => "e.logged_at",
            LogOrder::Kind => "e.kind",
            LogOrder::Times => "e.times",
            LogOrder::Message => "e.message",
            LogOrder::Account => "a.name",
        }
    }
}

/// Which entries to list.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct LogFilter {
    /// Only of these kinds; of all where there is none.
    pub kinds: Vec<LogKind>,
    /// Only those whose message, account or statement contains this, whatever its case.
    pub search: Option<String>,
    /// Only about statements of this family.
    pub family_id: Option<i64>,
    /// Only entries of this account.
    pub account: Option<String>,
    /// What they are sorted by; those alike by their time, the newest first.
    pub order: LogOrder,
    /// Smallest (or oldest) first.
    pub ascending: bool,
    /// Entries to pass over.
    pub offset: i64,
    /// Entries to return.
    pub limit: i64,
}

/// Entries of one kind.
#[derive(Debug, Clone, PartialEq)]
pub struct LogCount {
    /// The kind.
    pub kind: LogKind,
    /// Lines.
    pub times: i64,
    /// Their figures, summed.
    pub value: Option<f64>,
}

const ENTRY: &str = "e.*, a.name AS account, p.name AS program, c.name AS client, d.name AS database, f.text AS family
     FROM server_log e JOIN name a ON a.name_id = e.account_id JOIN name p ON p.name_id = e.program_id
     JOIN name c ON c.name_id = e.client_id JOIN name d ON d.name_id = e.database_id
     LEFT JOIN family f ON f.family_id = e.family_id
     WHERE e.instance_id = $1 AND e.logged_at > $2 AND e.logged_at <= $3";

/// Entries of a window where only account and statement matter.
const OF_WINDOW: &str = "FROM server_log e LEFT JOIN name a ON a.name_id = e.account_id
     LEFT JOIN family f ON f.family_id = e.family_id
     WHERE e.instance_id = $1 AND e.logged_at > $2 AND e.logged_at <= $3";

/// What [`narrowed`] gives values for.
const NARROWED: &str =
    "AND ($4::text IS NULL OR concat_ws(' ', e.message, a.name, coalesce(e.statement, f.text)) ILIKE '%' || $4 || '%')
     AND ($5::bigint IS NULL OR e.family_id = $5) AND ($6::text IS NULL OR a.name = $6)";

/// Gives the first six parameters: instance, window, and what the filter says besides kinds and pages.
fn narrowed<'q>(
    query: Query<'q, Postgres, PgArguments>,
    instance_id: i32,
    window: Window,
    filter: &'q LogFilter,
) -> Query<'q, Postgres, PgArguments> {
    query
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .bind(filter.search.as_deref().map(escape_pattern))
        .bind(filter.family_id)
        .bind(&filter.account)
}

fn entry(row: &PgRow) -> Result<KeptLogEntry> {
    let statement: Option<String> = row.get("statement");
    Ok(KeptLogEntry {
        has_literals: statement.is_some(),
        line: LogLine {
            at: at(row.get("logged_at")),
            severity: row.get("severity"),
            state: row.get("state"),
            message: row.get("message"),
            detail: row.get("detail"),
            statement: statement.or_else(|| row.get("family")).unwrap_or_default(),
            account: row.get("account"),
            database: row.get("database"),
            program: row.get("program"),
            client: row.get("client"),
            process: row.get("process"),
            session: row.get("session"),
            number: row.get("line"),
        },
        kind: word(row, "kind")?,
        times: row.get("times"),
        value: row.get("value"),
        family_id: row.get("family_id"),
    })
}

impl Store {
    /// Writes what was read of a log up to a position, in one transaction with the position. `before` is
    /// where the writer believes it to stand: when another process has read on meanwhile, nothing is
    /// written. One that is there already stays.
    pub async fn write_log(
        &self,
        instance_id: i32,
        rows: &[LogRow<'_>],
        before: Option<&LogPosition>,
        position: &LogPosition,
    ) -> Result<()> {
        self.make_room_for_log(rows).await?;
        let json = |position| to_json("position in a log", position);
        let mut transaction = self.pool.begin().await?;
        let moved = sqlx::query(
            "UPDATE instance SET log_position = $3 WHERE instance_id = $1 AND (log_position IS NOT DISTINCT FROM $2 OR log_position = $3)",
        )
        .bind(instance_id)
        .bind(before.map(json).transpose()?)
        .bind(json(position)?)
        .execute(&mut *transaction)
        .await?;
        if moved.rows_affected() == 0 {
            return Err(StoreProblem::Overtaken);
        }
        insert(&mut transaction, instance_id, rows).await?;
        transaction.commit().await?;
        Ok(())
    }

    /// Writes entries of the past, and answers how many were new.
    pub async fn backfill_log(&self, instance_id: i32, rows: &[LogRow<'_>]) -> Result<usize> {
        self.make_room_for_log(rows).await?;
        let mut transaction = self.pool.begin().await?;
        let new = insert(&mut transaction, instance_id, rows).await?;
        transaction.commit().await?;
        Ok(new as usize)
    }

    async fn make_room_for_log(&self, rows: &[LogRow<'_>]) -> Result<()> {
        let mut days = HashSet::new();
        for row in rows {
            if days.insert(time(row.line.at).date_naive()) {
                let moment = Window { from: row.line.at, to: row.line.at };
                self.make_partitions_of(moment, |table| table == "server_log").await?;
            }
        }
        Ok(())
    }

    /// Entries of a window in the order of the filter, and how many match in all.
    pub async fn log_entries(
        &self,
        instance_id: i32,
        window: Window,
        filter: &LogFilter,
    ) -> Result<(Vec<KeptLogEntry>, i64)> {
        let (column, direction) = (filter.order.column(), if filter.ascending { "ASC" } else { "DESC" });
        let of_time = if filter.order == LogOrder::Time { direction } else { "DESC" };
        let sql = format!(
            "SELECT count(*) OVER () AS matching, {ENTRY} {NARROWED} AND ($7 = '{{}}' OR e.kind = ANY($7))
             ORDER BY {column} {direction} NULLS LAST, e.logged_at {of_time}, e.session, e.line {of_time}
             LIMIT $8 OFFSET $9"
        );
        let rows = narrowed(sqlx::query(sqlx::AssertSqlSafe(sql)), instance_id, window, filter)
            .bind(filter.kinds.iter().map(|kind| kind.name()).collect::<Vec<_>>())
            .bind(filter.limit)
            .bind(filter.offset)
            .fetch_all(&self.pool)
            .await?;
        let matching = match rows.first() {
            Some(row) => row.get("matching"),
            None if filter.offset == 0 => 0,
            // Past the end: the first entry knows how many there are.
            None => {
                let first = LogFilter { offset: 0, limit: 1, ..filter.clone() };
                Box::pin(self.log_entries(instance_id, window, &first)).await?.1
            }
        };
        Ok((rows.iter().map(entry).collect::<Result<_>>()?, matching))
    }

    /// What a window holds, by kind; of entries of all kinds that pass the rest of the filter.
    pub async fn log_counts(&self, instance_id: i32, window: Window, filter: &LogFilter) -> Result<Vec<LogCount>> {
        let sql = format!(
            "SELECT e.kind, sum(e.times)::bigint AS times, sum(e.value) AS value {OF_WINDOW} {NARROWED} GROUP BY e.kind"
        );
        let rows =
            narrowed(sqlx::query(sqlx::AssertSqlSafe(sql)), instance_id, window, filter).fetch_all(&self.pool).await?;
        let count =
            |row: &PgRow| Ok(LogCount { kind: word(row, "kind")?, times: row.get("times"), value: row.get("value") });
        rows.iter().map(count).collect()
    }

    /// How many lines of each kind a window holds, by cells of a width in seconds that are aligned to the epoch; of
    /// entries of all kinds that pass the rest of the filter.
    pub async fn log_cells(
        &self,
        instance_id: i32,
        window: Window,
        filter: &LogFilter,
        cell_seconds: i64,
    ) -> Result<HashMap<(LogKind, Timestamp), i64>> {
        let sql = format!(
            "SELECT e.kind, to_timestamp(floor(extract(epoch FROM e.logged_at) / $7) * $7) AS cell,
               sum(e.times)::bigint AS times {OF_WINDOW} {NARROWED} GROUP BY e.kind, cell"
        );
        let rows = narrowed(sqlx::query(sqlx::AssertSqlSafe(sql)), instance_id, window, filter)
            .bind(cell_seconds)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(|row| Ok(((word(row, "kind")?, at(row.get("cell"))), row.get("times")))).collect()
    }

    /// When the oldest entry kept of an instance's log was written.
    pub async fn oldest_log_entry(&self, instance_id: i32) -> Result<Option<Timestamp>> {
        let oldest: Option<DateTime<Utc>> =
            sqlx::query_scalar("SELECT min(logged_at) FROM server_log WHERE instance_id = $1")
                .bind(instance_id)
                .fetch_one(&self.pool)
                .await?;
        Ok(oldest.map(at))
    }

    /// Families of statements with what entries of one kind add up to over a window, the largest first: number,
    /// text, figure.
    pub async fn log_families(
        &self,
        instance_id: i32,
        window: Window,
        kind: LogKind,
        limit: i64,
    ) -> Result<Vec<(i64, String, f64)>> {
        let rows = sqlx::query_as(
            "SELECT family_id, f.text, sum(value) FROM server_log e JOIN family f USING (family_id)
             WHERE e.instance_id = $1 AND logged_at > $2 AND logged_at <= $3 AND e.kind = $4 AND value IS NOT NULL
             GROUP BY 1, 2 ORDER BY 3 DESC LIMIT $5",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .bind(kind.name())
        .bind(limit)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows)
    }

    /// All entries of a window, in order of time.
    pub async fn kept_log(&self, instance_id: i32, window: Window) -> Result<Vec<KeptLogEntry>> {
        let sql = format!("SELECT {ENTRY} ORDER BY e.logged_at, e.session, e.line");
        let rows = sqlx::query(sqlx::AssertSqlSafe(sql))
            .bind(instance_id)
            .bind(time(window.from))
            .bind(time(window.to))
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(entry).collect()
    }
}

async fn insert(transaction: &mut Transaction<'_, Postgres>, instance_id: i32, rows: &[LogRow<'_>]) -> Result<u64> {
    if rows.is_empty() {
        return Ok(0);
    }
    fn column<'a, T>(rows: &'a [LogRow<'a>], of: impl Fn(&'a LogRow<'a>) -> T) -> Vec<T> {
        rows.iter().map(of).collect()
    }
    let moments: Vec<DateTime<Utc>> = column(rows, |row| time(row.line.at));
    let written = sqlx::query(
        "INSERT INTO server_log (instance_id, logged_at, session, line, kind, severity, state, message, detail, statement, family_id,
                                 account_id, program_id, client_id, database_id, process, times, value)
         SELECT $1, * FROM unnest($2::timestamptz[], $3::text[], $4::bigint[], $5::text[], $6::text[], $7::text[], $8::text[], $9::text[],
                                  $10::text[], $11::bigint[], $12::int[], $13::int[], $14::int[], $15::int[], $16::int[], $17::bigint[], $18::float8[])
         ON CONFLICT DO NOTHING",
    )
    .bind(instance_id)
    .bind(moments)
    .bind(column(rows, |row| row.line.session.as_str()))
    .bind(column(rows, |row| row.line.number))
    .bind(column(rows, |row| row.kind.name()))
    .bind(column(rows, |row| row.line.severity.as_str()))
    .bind(column(rows, |row| row.line.state.as_str()))
    .bind(column(rows, |row| row.line.message.as_str()))
    .bind(column(rows, |row| row.line.detail.as_str()))
    .bind(column(rows, |row| row.statement))
    .bind(column(rows, |row| row.family_id))
    .bind(column(rows, |row| row.names[0]))
    .bind(column(rows, |row| row.names[1]))
    .bind(column(rows, |row| row.names[2]))
    .bind(column(rows, |row| row.names[3]))
    .bind(column(rows, |row| row.line.process))
    .bind(column(rows, |row| row.times))
    .bind(column(rows, |row| row.value))
    .execute(&mut **transaction)
    .await?;
    Ok(written.rows_affected())
}
