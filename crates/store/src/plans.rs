use hurnix_core::At;
use sqlx::Row;

use crate::{Result, Store, at, time};

/// The newest plan of a family, or why there is none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PlanRow {
    /// When the server made it.
    pub read_at: At,
    /// The plan, or why there is none.
    pub plan: std::result::Result<String, String>,
}

impl Store {
    /// Keeps the newest plan of a family.
    pub async fn write_plan(&self, family_id: i64, plan: &PlanRow) -> Result<()> {
        sqlx::query(
            "INSERT INTO plan (family_id, read_at, text, problem) VALUES ($1, $2, $3, $4)
             ON CONFLICT (family_id) DO UPDATE SET read_at = excluded.read_at, text = excluded.text, problem = excluded.problem",
        )
        .bind(family_id)
        .bind(time(plan.read_at))
        .bind(plan.plan.as_ref().ok())
        .bind(plan.plan.as_ref().err())
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest plan of a family.
    pub async fn plan(&self, family_id: i64) -> Result<Option<PlanRow>> {
        let row = sqlx::query("SELECT read_at, text, problem FROM plan WHERE family_id = $1")
            .bind(family_id)
            .fetch_optional(&self.pool)
            .await?;
        Ok(row.map(|row| {
            let (text, problem): (Option<String>, Option<String>) = (row.get("text"), row.get("problem"));
            PlanRow { read_at: at(row.get("read_at")), plan: text.ok_or(problem.unwrap_or_default()) }
        }))
    }

    /// The costliest families of a window whose plan is missing or was read before `stale_before`.
    pub async fn families_without_plan(
        &self,
        instance_id: i32,
        window: hurnix_core::Window,
        stale_before: At,
        most: i64,
    ) -> Result<Vec<(i64, String)>> {
        let rows = sqlx::query(
            "SELECT family_id, sample FROM
                (SELECT family_id, sum(exec_us) AS cost FROM
                    (SELECT unnest(family_id) AS family_id, unnest(exec_us) AS exec_us FROM statement_period
                     WHERE instance_id = $1 AND to_at > $2 AND to_at <= $3) period GROUP BY 1 ORDER BY 2 DESC LIMIT 20) costly
             JOIN family USING (family_id) LEFT JOIN plan USING (family_id)
             WHERE plan.read_at IS NULL OR plan.read_at < $4
             ORDER BY plan.read_at NULLS FIRST, cost DESC LIMIT $5",
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
