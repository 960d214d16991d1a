//! Single executions that the looks at the sessions saw.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::readings::load::Load;
use hurnix_core::{Timestamp, WaitKind, Window};
use sqlx::postgres::PgRow;
use sqlx::{QueryBuilder, Row};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::activity::{OnlyPart, push_only};
use crate::{Result, Store, at, time};

/// One execution as far as it was seen.
#[derive(Debug, Clone, PartialEq)]
pub struct ExecutionSeen {
    /// Process number of its session.
    pub process: i32,
    /// When that process began.
    pub process_started_at: Timestamp,
    /// Family of the statement, and its text.
    pub family: (i64, String),
    /// Account that ran it.
    pub account: String,
    /// What its program calls itself.
    pub program: String,
    /// Where it came from.
    pub client: String,
    /// Database that it ran in.
    pub database: String,
    /// When it began.
    pub began_at: Timestamp,
    /// When it was last seen going on.
    pub last_seen_at: Timestamp,
    /// What it was busy with, in looks: as many samples as it was seen in.
    pub busy: Load,
}

impl ExecutionSeen {
    /// So many seconds it took at least.
    pub fn seconds(&self) -> f64 {
        self.last_seen_at.seconds_since(self.began_at).max(0.0)
    }
}

/// What executions are told in first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum ExecutionOrder {
    /// Those seen last, of these the longest.
    Newest,
    /// The longest.
    Longest,
}

impl Store {
    /// Executions seen in a window, of one family or of all, with the last look in the window. Only what is kept as it was
    /// read tells of single ones.
    pub async fn executions(
        &self,
        instance_id: i32,
        window: Window,
        family_id: Option<i64>,
        order: ExecutionOrder,
        most: i64,
    ) -> Result<(Option<Timestamp>, Vec<ExecutionSeen>)> {
        let last_look: Option<DateTime<Utc>> = sqlx::query_scalar(
            "SELECT max(sampled_at) FROM activity_sample WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_one(&self.pool)
        .await?;
        let rows = sqlx::query(
            "WITH seen AS (
                SELECT process, process_started_at, statement_started_at, family_id, account_id, program_id, client_id, database_id,
                       max(sampled_at) AS last_seen_at, array_agg(wait_kind) AS kinds
                FROM activity
                WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3 AND wait_kind IS NOT NULL
                  AND statement_started_at IS NOT NULL AND family_id IS NOT NULL AND ($4::bigint IS NULL OR family_id = $4)
                GROUP BY 1, 2, 3, 4, 5, 6, 7, 8
                ORDER BY CASE WHEN $5 THEN max(sampled_at) END DESC NULLS LAST,
                         max(sampled_at) - statement_started_at DESC, process LIMIT $6
             )
             SELECT seen.*, f.text, a.name AS account, p.name AS program, c.name AS client, d.name AS database
             FROM seen JOIN family f USING (family_id) JOIN name a ON a.name_id = account_id JOIN name p ON p.name_id = program_id
             JOIN name c ON c.name_id = client_id JOIN name d ON d.name_id = database_id
             ORDER BY CASE WHEN $5 THEN seen.last_seen_at END DESC NULLS LAST, seen.last_seen_at - statement_started_at DESC, process",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .bind(family_id)
        .bind(order == ExecutionOrder::Newest)
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        let moment = |row: &PgRow, column: &str| at(row.get::<DateTime<Utc>, _>(column));
        let seen = |row: &PgRow| {
            let mut busy = Load::default();
            for kind in row.get::<Vec<i16>, _>("kinds") {
                busy.samples += 1;
                if let Some(kind) = WaitKind::at_position(kind as usize) {
                    busy.busy[kind.position()] += 1;
                }
            }
            ExecutionSeen {
                process: row.get("process"),
                process_started_at: moment(row, "process_started_at"),
                family: (row.get("family_id"), row.get("text")),
                account: row.get("account"),
                program: row.get("program"),
                client: row.get("client"),
                database: row.get("database"),
                began_at: moment(row, "statement_started_at"),
                last_seen_at: moment(row, "last_seen_at"),
                busy,
            }
        };
        Ok((last_look.map(at), rows.iter().map(seen).collect()))
    }

    /// How long the longest execution of each family was seen to take, in seconds, of these parts only. Only what is kept as
    /// it was read tells it.
    pub async fn longest_seen(&self, instance_id: i32, window: Window, only: &[OnlyPart]) -> Result<HashMap<i64, f64>> {
        let mut sql = QueryBuilder::new(
            "SELECT family_id, max(extract(epoch FROM sampled_at - statement_started_at))::float8 AS seconds FROM activity
             WHERE wait_kind IS NOT NULL AND statement_started_at IS NOT NULL AND family_id IS NOT NULL AND instance_id = ",
        );
        sql.push_bind(instance_id).push(" AND sampled_at > ").push_bind(time(window.from));
        sql.push(" AND sampled_at <= ").push_bind(time(window.to));
        push_only(&mut sql, only);
        sql.push(" GROUP BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok(rows.iter().map(|row| (row.get("family_id"), f64::max(row.get("seconds"), 0.0))).collect())
    }
}
