//! Snapshots that somebody named, kept until they are deleted.

use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::named_reading::NamedReading;
use hurnix_core::{Named, readings::counters_read::Kept};
use serde::de::DeserializeOwned;
use sqlx::Row;

use crate::{Result, Store, StoreProblem, at, from_json, time};

/// A snapshot with a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NamedSnapshot {
    /// Number.
    pub snapshot_id: i64,
    /// Its name.
    pub name: String,
    /// When it was asked for.
    pub asked_at: Timestamp,
    /// Who asked for it.
    pub asked_by: String,
    /// When each kind of counters was read for it, by the watched server's clock.
    pub readings: Vec<(String, Timestamp)>,
}

impl Store {
    /// Has everything read at once, and kept under a name. Answers its number.
    pub async fn ask_for_named_snapshot(&self, instance_id: i32, name: &str, by: &str, now: Timestamp) -> Result<i64> {
        let added = sqlx::query_scalar(
            "WITH asked AS (UPDATE instance SET snapshot_asked_at = $4 WHERE instance_id = $1 RETURNING instance_id)
             INSERT INTO named_snapshot (instance_id, name, asked_at, asked_by) SELECT instance_id, $2, $4, $3 FROM asked
             RETURNING snapshot_id",
        )
        .bind(instance_id)
        .bind(name)
        .bind(by)
        .bind(time(now))
        .fetch_one(&self.pool)
        .await;
        match added {
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => {
                Err(StoreProblem::Taken { field: "name", what: "a snapshot of this instance", value: name.to_owned() })
            }
            other => Ok(other?),
        }
    }

    /// Those of an instance, the newest first.
    pub async fn named_snapshots(&self, instance_id: i32) -> Result<Vec<NamedSnapshot>> {
        let rows = sqlx::query(
            "SELECT s.*, array_agg(r.kind ORDER BY r.kind) FILTER (WHERE r.kind IS NOT NULL) AS kinds,
                    array_agg(r.taken_at ORDER BY r.kind) FILTER (WHERE r.kind IS NOT NULL) AS moments
             FROM named_snapshot s LEFT JOIN named_reading r USING (snapshot_id)
             WHERE instance_id = $1 GROUP BY snapshot_id ORDER BY asked_at DESC, snapshot_id DESC",
        )
        .bind(instance_id)
        .fetch_all(&self.pool)
        .await?;
        let one = |row: &sqlx::postgres::PgRow| {
            let kinds: Vec<String> = row.get::<Option<_>, _>("kinds").unwrap_or_default();
            let moments: Vec<DateTime<Utc>> = row.get::<Option<_>, _>("moments").unwrap_or_default();
            NamedSnapshot {
                snapshot_id: row.get("snapshot_id"),
                name: row.get("name"),
                asked_at: at(row.get("asked_at")),
                asked_by: row.get("asked_by"),
                readings: kinds.into_iter().zip(moments.into_iter().map(at)).collect(),
            }
        };
        Ok(rows.iter().map(one).collect())
    }

    /// Snapshots that lack a kind and were asked for since a moment.
    pub async fn snapshots_waiting(&self, instance_id: i32, kind: Figures, since: Timestamp) -> Result<Vec<i64>> {
        Ok(sqlx::query_scalar(
            "SELECT snapshot_id FROM named_snapshot s WHERE instance_id = $1 AND asked_at >= $2
             AND NOT EXISTS (SELECT FROM named_reading r WHERE r.snapshot_id = s.snapshot_id AND r.kind = $3)",
        )
        .bind(instance_id)
        .bind(time(since))
        .bind(kind.name())
        .fetch_all(&self.pool)
        .await?)
    }

    /// Keeps a reading with a snapshot; the first of its kind stays.
    pub async fn write_named_reading(
        &self,
        snapshot_id: i64,
        kind: Figures,
        taken_at: Timestamp,
        reading: &serde_json::Value,
    ) -> Result<()> {
        sqlx::query(
            "INSERT INTO named_reading (snapshot_id, kind, taken_at, reading)
             SELECT snapshot_id, $2, $3, $4 FROM named_snapshot WHERE snapshot_id = $1 ON CONFLICT DO NOTHING",
        )
        .bind(snapshot_id)
        .bind(kind.name())
        .bind(time(taken_at))
        .bind(reading)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The reading of a kind of counters of a snapshot, where it has one.
    pub async fn named_reading<C>(&self, snapshot_id: i64) -> Result<Option<NamedReading<C::Key, C>>>
    where
        C: Kept + DeserializeOwned,
        C::Key: DeserializeOwned,
    {
        let kept: Option<serde_json::Value> =
            sqlx::query_scalar("SELECT reading FROM named_reading WHERE snapshot_id = $1 AND kind = $2")
                .bind(snapshot_id)
                .bind(C::FIGURES.name())
                .fetch_optional(&self.pool)
                .await?;
        kept.map(|kept| from_json("named reading", kept)).transpose()
    }

    /// Forgets a snapshot. Says whether there was one.
    pub async fn remove_named_snapshot(&self, instance_id: i32, snapshot_id: i64) -> Result<bool> {
        let gone = sqlx::query("DELETE FROM named_snapshot WHERE instance_id = $1 AND snapshot_id = $2")
            .bind(instance_id)
            .bind(snapshot_id)
            .execute(&self.pool)
            .await?;
        Ok(gone.rows_affected() > 0)
    }
}
