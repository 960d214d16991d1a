use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::{Timestamp, Window};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, time};

/// Changes of plan that are kept of a family, the last ones.
const MOST_USES: i64 = 100;

/// A plan of a family, or why there is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlanRow {
    /// When the server first made it.
    pub first_read_at: Timestamp,
    /// When it last made it.
    pub read_at: Timestamp,
    /// The plan with its identity, or why there is none.
    pub plan: std::result::Result<(i64, String), String>,
    /// The database that it was made in, where that was noted.
    pub database: Option<String>,
}

/// That a family came to be run with a plan; it was until the next such time.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct PlanUse {
    /// When.
    pub from: Timestamp,
    /// Identity of the plan.
    pub identity: i64,
}

pub(crate) fn plan_row(row: &PgRow) -> PlanRow {
    let (text, problem): (Option<String>, Option<String>) = (row.get("text"), row.get("problem"));
    PlanRow {
        first_read_at: at(row.get("first_read_at")),
        read_at: at(row.get("read_at")),
        plan: text.map(|text| (row.get("identity"), text)).ok_or(problem.unwrap_or_default()),
        database: row.get("database_name"),
    }
}

impl Store {
    /// Keeps a plan of a family. One that is known is last seen now; its text is the newest. Says whether it
    /// is one that was not known.
    pub async fn write_plan(&self, family_id: i64, plan: &PlanRow) -> Result<bool> {
        let (identity, text) = plan.plan.as_ref().map_or((0, None), |(identity, text)| (*identity, Some(text)));
        let new: bool = sqlx::query_scalar(
            "INSERT INTO plan (family_id, identity, first_read_at, read_at, text, problem, database_name) VALUES ($1, $2, $3, $4, $5, $6, $7)
             ON CONFLICT (family_id, identity) DO UPDATE SET
                first_read_at = least(plan.first_read_at, excluded.first_read_at),
                text = CASE WHEN excluded.read_at >= plan.read_at THEN excluded.text ELSE plan.text END,
                problem = CASE WHEN excluded.read_at >= plan.read_at THEN excluded.problem ELSE plan.problem END,
                database_name = CASE WHEN excluded.read_at >= plan.read_at THEN excluded.database_name ELSE plan.database_name END,
                read_at = greatest(plan.read_at, excluded.read_at)
             RETURNING xmax = 0",
        )
        .bind(family_id)
        .bind(identity)
        .bind(time(plan.first_read_at))
        .bind(time(plan.read_at))
        .bind(text)
        .bind(plan.plan.as_ref().err())
        .bind(&plan.database)
        .fetch_one(&self.pool)
        .await?;
        if text.is_some() {
            self.note_use(family_id, identity, plan).await?;
        }
        Ok(new)
    }

    /// Notes that a plan was made: it is still the one that it was, or it took the place of another.
    async fn note_use(&self, family_id: i64, identity: i64, plan: &PlanRow) -> Result<()> {
        sqlx::query(
            "WITH last AS (
                SELECT from_at, identity FROM plan_use WHERE family_id = $1 AND from_at <= $3 ORDER BY from_at DESC LIMIT 1
             ), goes_on AS (
                UPDATE plan_use SET to_at = greatest(to_at, $4) FROM last
                WHERE family_id = $1 AND plan_use.from_at = last.from_at AND last.identity = $2 RETURNING 1
             )
             INSERT INTO plan_use (family_id, from_at, to_at, identity)
             SELECT $1, $3, $4, $2 WHERE NOT EXISTS (SELECT FROM goes_on) ON CONFLICT DO NOTHING",
        )
        .bind(family_id)
        .bind(identity)
        .bind(time(plan.first_read_at))
        .bind(time(plan.read_at))
        .execute(&self.pool)
        .await?;
        // A plan that changes from one reading to the next would fill the table.
        sqlx::query(
            "DELETE FROM plan_use WHERE family_id = $1 AND from_at <
                (SELECT from_at FROM plan_use WHERE family_id = $1 ORDER BY from_at DESC OFFSET $2 LIMIT 1)",
        )
        .bind(family_id)
        .bind(MOST_USES - 1)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The last times that a family came to be run with another plan, in order of time.
    pub async fn plan_uses(&self, family_id: i64, most: i64) -> Result<Vec<PlanUse>> {
        let rows: Vec<(DateTime<Utc>, i64)> = sqlx::query_as(
            "SELECT from_at, identity FROM plan_use WHERE family_id = $1 ORDER BY from_at DESC LIMIT $2",
        )
        .bind(family_id)
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().rev().map(|(from, identity)| PlanUse { from: at(from), identity }).collect())
    }

    /// All plans of a family, the newest first.
    pub async fn plans(&self, family_id: i64) -> Result<Vec<PlanRow>> {
        let rows = sqlx::query("SELECT * FROM plan WHERE family_id = $1 ORDER BY read_at DESC, identity")
            .bind(family_id)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(plan_row).collect())
    }

    /// The newest plan of each of these families, as the server told it.
    pub async fn newest_plans(&self, families: &[i64]) -> Result<HashMap<i64, String>> {
        let rows = sqlx::query_as(
            "SELECT DISTINCT ON (family_id) family_id, text FROM plan
             WHERE family_id = ANY($1) AND text IS NOT NULL ORDER BY family_id, read_at DESC, identity",
        )
        .bind(families)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().collect())
    }

    /// Families that came to be run with another plan in a window, with when they last did; those that never had another
    /// are left out.
    pub async fn new_plans(&self, instance_id: i32, window: Window) -> Result<Vec<(i64, Timestamp)>> {
        let rows: Vec<(i64, DateTime<Utc>)> = sqlx::query_as(
            "SELECT family_id, max(new.from_at) FROM plan_use new JOIN family USING (family_id)
             WHERE instance_id = $1 AND new.from_at > $2 AND new.from_at <= $3
               AND EXISTS (SELECT FROM plan_use old WHERE old.family_id = new.family_id AND old.from_at < new.from_at)
             GROUP BY 1",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|(family, first)| (family, at(first))).collect())
    }

    /// Families that are to be planned, of those that ran in the database that the instance is connected to: those found to have changed within a day and not planned since, and
    /// the costliest of a window that were never planned, or before `stale_before`. In this order, the costliest
    /// and those never planned first.
    pub async fn families_without_plan(
        &self,
        instance_id: i32,
        window: Window,
        stale_before: Timestamp,
        most: i64,
    ) -> Result<Vec<(i64, String)>> {
        let rows = sqlx::query(
            "WITH here AS (
                SELECT name_id FROM name JOIN instance USING (instance_id) WHERE instance_id = $1 AND name = database_name
             ), ran AS (
                SELECT family_id, sum(exec_us) AS cost FROM
                    (SELECT unnest(family_id) AS family_id, unnest(exec_us) AS exec_us, unnest(database_id) AS database_id
                     FROM statement_period WHERE instance_id = $1 AND to_at > $2 AND to_at <= $3) period
                WHERE database_id IN (SELECT name_id FROM here) OR NOT EXISTS (SELECT FROM here) GROUP BY 1
             ), costly AS (
                SELECT family_id, cost FROM ran ORDER BY cost DESC LIMIT 20
             ), changed AS (
                SELECT family_id, max(found_at) AS found_at FROM lasting_change JOIN ran USING (family_id)
                WHERE instance_id = $1 AND found_at > $3 - interval '1 day' AND NOT withdrawn GROUP BY 1
             )
             SELECT family_id, sample FROM family
             LEFT JOIN costly USING (family_id) LEFT JOIN changed USING (family_id)
             CROSS JOIN LATERAL (SELECT coalesce(max(read_at), '-infinity') AS read_at FROM plan
                WHERE plan.family_id = family.family_id) planned
             CROSS JOIN LATERAL (SELECT coalesce(changed.found_at > planned.read_at, false) AS since) change
             WHERE instance_id = $1 AND (change.since OR cost IS NOT NULL AND planned.read_at < $4)
             ORDER BY change.since DESC, planned.read_at, cost DESC NULLS LAST LIMIT $5",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .bind(time(stale_before))
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(|row| (row.get("family_id"), row.get("sample"))).collect())
    }
}
