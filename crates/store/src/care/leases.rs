use sqlx::AssertSqlSafe;

use crate::care::instances::instance;
use crate::{Instance, Result, Store};

/// The instances that a process is to collect.
#[derive(Debug, Clone, PartialEq)]
pub struct Leases {
    /// Those it holds, by label.
    pub held: Vec<Instance>,
    /// How many of them it should give back, since other processes hold too few.
    pub surplus: usize,
}

/// Which instances are collected: not those brought in by bundles, nor those that still learn their past.
pub(crate) const COLLECTED: &str =
    "engine <> 'bundle' AND instance_id NOT IN (SELECT instance_id FROM simulated_instance WHERE NOT ready)";

impl Store {
    /// Gives a sign of life, renews the leases that a process holds, and takes instances that nobody
    /// holds any more up to a fair share. Leases end by themselves after `lease_seconds`, by the
    /// repository's clock, so that those of a dead process are taken over.
    pub async fn lease(&self, collector_id: &str, lease_seconds: f64) -> Result<Leases> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO collector (collector_id) VALUES ($1) ON CONFLICT (collector_id) DO UPDATE SET beat_at = now()",
        )
        .bind(collector_id)
        .execute(&mut *transaction)
        .await?;
        let held =
            sqlx::query("UPDATE instance SET leased_until = now() + make_interval(secs => $2) WHERE collector_id = $1")
                .bind(collector_id)
                .bind(lease_seconds)
                .execute(&mut *transaction)
                .await?
                .rows_affected() as i64;
        let share: i64 = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT ceil(count(*)::numeric / (SELECT count(*) FROM collector WHERE beat_at >= now() - make_interval(secs => $1)))::bigint
             FROM instance WHERE {COLLECTED}",
        )))
        .bind(lease_seconds)
        .fetch_one(&mut *transaction)
        .await?;
        sqlx::query(AssertSqlSafe(format!(
            "UPDATE instance SET collector_id = $1, leased_until = now() + make_interval(secs => $2)
             WHERE instance_id IN (
                SELECT instance_id FROM instance WHERE {COLLECTED} AND collector_id IS DISTINCT FROM $1 AND (leased_until IS NULL OR leased_until < now())
                ORDER BY instance_id LIMIT $3 FOR UPDATE SKIP LOCKED)",
        )))
        .bind(collector_id)
        .bind(lease_seconds)
        .bind((share - held).max(0))
        .execute(&mut *transaction)
        .await?;
        let rows = sqlx::query("SELECT * FROM instance WHERE collector_id = $1 ORDER BY label")
            .bind(collector_id)
            .fetch_all(&mut *transaction)
            .await?;
        transaction.commit().await?;
        let held: Vec<Instance> = rows.iter().map(instance).collect::<Result<_>>()?;
        Ok(Leases { surplus: held.len().saturating_sub(share as usize), held })
    }

    /// Gives instances back, for others to take.
    pub async fn release(&self, collector_id: &str, instances: &[i32]) -> Result<()> {
        sqlx::query(
            "UPDATE instance SET collector_id = NULL, leased_until = NULL WHERE collector_id = $1 AND instance_id = ANY($2)",
        )
        .bind(collector_id)
        .bind(instances)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Gives everything back: the process ends. Forgets processes that died long ago.
    pub async fn leave(&self, collector_id: &str) -> Result<()> {
        sqlx::query("UPDATE instance SET collector_id = NULL, leased_until = NULL WHERE collector_id = $1")
            .bind(collector_id)
            .execute(&self.pool)
            .await?;
        sqlx::query("DELETE FROM collector WHERE collector_id = $1 OR beat_at < now() - interval '1 day'")
            .bind(collector_id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Instances that a process holds, without renewing anything.
    pub async fn held_by(&self, collector_id: &str) -> Result<Vec<Instance>> {
        let rows = sqlx::query("SELECT * FROM instance WHERE collector_id = $1 ORDER BY label")
            .bind(collector_id)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(instance).collect()
    }
}
