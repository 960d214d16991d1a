//! Plans that servers wrote to their logs.

use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;

use crate::{Result, Store, at, time};

/// Plans of a family at most: past that, those not seen for longest go.
const MOST_OF_FAMILY: i64 = 20;

/// A plan that the log told of, over all executions with it that the log told of.
#[derive(Debug, Clone, PartialEq)]
pub struct LoggedPlanRow {
    /// What tells it from others.
    pub identity: i64,
    /// When it was first written.
    pub first_at: Timestamp,
    /// And last.
    pub last_at: Timestamp,
    /// Executions that were written.
    pub times: i64,
    /// Time that these took, in milliseconds.
    pub total_ms: f64,
    /// The longest of them.
    pub most_ms: f64,
    /// The last one.
    pub text: String,
    /// Database that it ran in.
    pub database: String,
}

impl LoggedPlanRow {
    /// Adds further executions with the same plan.
    pub fn join(&mut self, other: LoggedPlanRow) {
        self.first_at = self.first_at.min(other.first_at);
        self.times += other.times;
        self.total_ms += other.total_ms;
        self.most_ms = self.most_ms.max(other.most_ms);
        if other.last_at >= self.last_at {
            (self.last_at, self.text, self.database) = (other.last_at, other.text, other.database);
        }
    }
}

impl Store {
    /// Adds what a reading of the log told, by family. Writing what was written before counts it again: the position of the
    /// log keeps that from happening.
    pub async fn write_logged_plans(&self, plans: &[(i64, LoggedPlanRow)]) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        for (family_id, plan) in plans {
            sqlx::query(
                "INSERT INTO logged_plan VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
                 ON CONFLICT (family_id, identity) DO UPDATE SET
                    first_at = least(logged_plan.first_at, excluded.first_at),
                    text = CASE WHEN excluded.last_at >= logged_plan.last_at THEN excluded.text ELSE logged_plan.text END,
                    database_name = CASE WHEN excluded.last_at >= logged_plan.last_at THEN excluded.database_name ELSE logged_plan.database_name END,
                    last_at = greatest(logged_plan.last_at, excluded.last_at),
                    times = logged_plan.times + excluded.times,
                    total_ms = logged_plan.total_ms + excluded.total_ms,
                    most_ms = greatest(logged_plan.most_ms, excluded.most_ms)",
            )
            .bind(family_id)
            .bind(plan.identity)
            .bind(time(plan.first_at))
            .bind(time(plan.last_at))
            .bind(plan.times)
            .bind(plan.total_ms)
            .bind(plan.most_ms)
            .bind(&plan.text)
            .bind(&plan.database)
            .execute(&mut *transaction)
            .await?;
        }
        let mut families: Vec<i64> = plans.iter().map(|(family, _)| *family).collect();
        families.sort_unstable();
        families.dedup();
        sqlx::query(
            "DELETE FROM logged_plan USING (
                SELECT family_id, identity, row_number() OVER (PARTITION BY family_id ORDER BY last_at DESC) AS place
                FROM logged_plan WHERE family_id = ANY($1)) ranked
             WHERE logged_plan.family_id = ranked.family_id AND logged_plan.identity = ranked.identity AND place > $2",
        )
        .bind(families)
        .bind(MOST_OF_FAMILY)
        .execute(&mut *transaction)
        .await?;
        Ok(transaction.commit().await?)
    }

    /// Those of a family, the last seen first.
    pub async fn logged_plans(&self, family_id: i64) -> Result<Vec<LoggedPlanRow>> {
        type Row = (i64, DateTime<Utc>, DateTime<Utc>, i64, f64, f64, String, String);
        let rows: Vec<Row> = sqlx::query_as(
            "SELECT identity, first_at, last_at, times, total_ms, most_ms, text, database_name FROM logged_plan
             WHERE family_id = $1 ORDER BY last_at DESC, identity",
        )
        .bind(family_id)
        .fetch_all(&self.pool)
        .await?;
        let row = |(identity, first_at, last_at, times, total_ms, most_ms, text, database): Row| LoggedPlanRow {
            identity,
            first_at: at(first_at),
            last_at: at(last_at),
            times,
            total_ms,
            most_ms,
            text,
            database,
        };
        Ok(rows.into_iter().map(row).collect())
    }
}
