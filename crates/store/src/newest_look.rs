use chrono::{DateTime, Utc};
use hurnix_core::{At, WaitKind};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, time};

/// A session that was not idle when the server was last looked at.
#[derive(Debug, Clone, PartialEq)]
pub struct SessionSeen {
    /// Process number.
    pub process: i32,
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
    /// When its transaction began.
    pub transaction_started_at: Option<At>,
    /// Processes that hold the lock it waits for.
    pub blocked_by: Vec<i32>,
}

impl Store {
    /// The sessions that were not idle when an instance was last looked at, if that was since a moment.
    pub async fn newest_look(&self, instance_id: i32, since: At) -> Result<Vec<SessionSeen>> {
        let rows = sqlx::query(
            "SELECT process, wait_kind, transaction_started_at, blocked_by, a.name AS account, p.name AS program, c.name AS client, d.name AS database
             FROM activity s JOIN name a ON a.name_id = account_id JOIN name p ON p.name_id = program_id
             JOIN name c ON c.name_id = client_id JOIN name d ON d.name_id = database_id
             WHERE s.instance_id = $1 AND sampled_at > $2
               AND sampled_at = (SELECT max(sampled_at) FROM activity_sample WHERE instance_id = $1 AND sampled_at > $2)
             ORDER BY process",
        )
        .bind(instance_id)
        .bind(time(since))
        .fetch_all(&self.pool)
        .await?;
        let seen = |row: &PgRow| SessionSeen {
            process: row.get("process"),
            wait_kind: row.get::<Option<i16>, _>("wait_kind").and_then(|kind| WaitKind::at_position(kind as usize)),
            account: row.get("account"),
            program: row.get("program"),
            client: row.get("client"),
            database: row.get("database"),
            transaction_started_at: row.get::<Option<DateTime<Utc>>, _>("transaction_started_at").map(at),
            blocked_by: row.get("blocked_by"),
        };
        Ok(rows.iter().map(seen).collect())
    }
}
