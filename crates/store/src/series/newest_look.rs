use chrono::{DateTime, Utc};
use hurnix_core::{Timestamp, WaitKind, Window};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, time};

/// A session that was not idle when the server was last looked at.
#[derive(Debug, Clone, PartialEq)]
pub struct SessionSeen {
    /// Process number.
    pub process: i32,
    /// When the server was looked at, by its own clock.
    pub looked_at: Timestamp,
    /// When the process began.
    pub process_started_at: Timestamp,
    /// What it spends its time on; nothing when it holds a transaction open without working.
    pub wait_kind: Option<WaitKind>,
    /// Account that signed in.
    pub account: String,
    /// What the program calls itself.
    pub program: String,
    /// Where it comes from.
    pub client: String,
    /// Database that it works in.
    pub database: String,
    /// Family of its statement, and the family's text; nothing where it is not known.
    pub family: Option<(i64, String)>,
    /// When its statement began.
    pub statement_started_at: Option<Timestamp>,
    /// Name of the wait, by the server's own name; nothing while it runs.
    pub event: Option<String>,
    /// When its transaction began.
    pub transaction_started_at: Option<Timestamp>,
    /// Processes that hold the lock it waits for.
    pub blocked_by: Vec<i32>,
}

impl Store {
    /// The sessions that were not idle when an instance was last looked at in a window, if it was.
    pub async fn newest_look(&self, instance_id: i32, window: Window) -> Result<Vec<SessionSeen>> {
        let rows = sqlx::query(
            "SELECT sampled_at, process, process_started_at, wait_kind, transaction_started_at, statement_started_at, blocked_by, s.family_id, f.text, e.name AS event, a.name AS account, p.name AS program, c.name AS client, d.name AS database
             FROM activity s JOIN name a ON a.name_id = account_id JOIN name p ON p.name_id = program_id
             JOIN name c ON c.name_id = client_id JOIN name d ON d.name_id = database_id
             LEFT JOIN name e ON e.name_id = event_id LEFT JOIN family f ON f.family_id = s.family_id
             WHERE s.instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3
               AND sampled_at = (SELECT max(sampled_at) FROM activity_sample WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3)
             ORDER BY process",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let moment = |row: &PgRow, column: &str| row.get::<Option<DateTime<Utc>>, _>(column).map(at);
        let seen = |row: &PgRow| SessionSeen {
            process: row.get("process"),
            looked_at: at(row.get("sampled_at")),
            process_started_at: at(row.get("process_started_at")),
            family: row.get::<Option<i64>, _>("family_id").zip(row.get("text")),
            statement_started_at: moment(row, "statement_started_at"),
            event: row.get("event"),
            wait_kind: row.get::<Option<i16>, _>("wait_kind").and_then(|kind| WaitKind::at_position(kind as usize)),
            account: row.get("account"),
            program: row.get("program"),
            client: row.get("client"),
            database: row.get("database"),
            transaction_started_at: moment(row, "transaction_started_at"),
            blocked_by: row.get("blocked_by"),
        };
        Ok(rows.iter().map(seen).collect())
    }
}
