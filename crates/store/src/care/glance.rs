//! What the roster shows of all instances: read at once, however many there are.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::findings::lasting_change::LastingChange;
use hurnix_core::{Timestamp, Window};
use sqlx::Row;

use crate::{Result, Store, at, from_json, time};

/// Width of the cells of [`Store::loads`], in seconds.
pub const GLANCE_CELL_SECONDS: i64 = 600;

impl Store {
    /// Mean number of busy sessions of every instance over a window, by the start of cells of ten minutes:
    /// from sums where they are complete, and from single looks after that. Cells without looks are left out.
    pub async fn loads(&self, window: Window) -> Result<HashMap<i32, HashMap<Timestamp, f64>>> {
        let rows = sqlx::query(
            "SELECT known.instance_id, part.cell, sum(part.busy)::float8 / sum(part.samples)::float8 AS load
             FROM (SELECT instance_id, coalesce((SELECT min(to_at) - interval '10 minutes' FROM roll_up_due due
                       WHERE due.instance_id = instance.instance_id AND detail = 'ten_minutes'), 'infinity') AS complete_to FROM instance) known
             CROSS JOIN LATERAL (
                SELECT to_at - interval '10 minutes' AS cell, samples, 0::bigint AS busy FROM activity_sample_ten_minutes
                WHERE instance_id = known.instance_id AND to_at > $1 AND to_at <= least($2, complete_to)
                UNION ALL
                SELECT to_at - interval '10 minutes', 0, busy FROM activity_ten_minutes
                WHERE instance_id = known.instance_id AND to_at > $1 AND to_at <= least($2, complete_to)
                UNION ALL
                SELECT date_bin('10 minutes', sampled_at - interval '1 microsecond', 'epoch'), 1, 0 FROM activity_sample
                WHERE instance_id = known.instance_id AND sampled_at > greatest($1, complete_to) AND sampled_at <= $2
                UNION ALL
                SELECT date_bin('10 minutes', sampled_at - interval '1 microsecond', 'epoch'), 0, 1 FROM activity
                WHERE instance_id = known.instance_id AND sampled_at > greatest($1, complete_to) AND sampled_at <= $2
                  AND wait_kind IS NOT NULL) part
             GROUP BY 1, 2 HAVING sum(part.samples) > 0",
        )
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let mut loads: HashMap<i32, HashMap<Timestamp, f64>> = HashMap::new();
        for row in &rows {
            let cells = loads.entry(row.get("instance_id")).or_default();
            cells.insert(at(row.get("cell")), row.get("load"));
        }
        Ok(loads)
    }

    /// Lasting changes of every instance with an onset since a moment, each with its onset.
    pub async fn all_changes(&self, since: Timestamp) -> Result<HashMap<i32, Vec<(Timestamp, LastingChange)>>> {
        let rows = sqlx::query("SELECT instance_id, onset_at, payload FROM lasting_change WHERE onset_at >= $1")
            .bind(time(since))
            .fetch_all(&self.pool)
            .await?;
        let mut changes: HashMap<i32, Vec<(Timestamp, LastingChange)>> = HashMap::new();
        for row in &rows {
            let onset = at(row.get::<DateTime<Utc>, _>("onset_at"));
            let change = from_json("lasting change", row.get("payload"))?;
            changes.entry(row.get("instance_id")).or_default().push((onset, change));
        }
        Ok(changes)
    }

    /// How much advice waits for a decision, by instance; instances with none are left out.
    pub async fn open_advice(&self) -> Result<HashMap<i32, i64>> {
        let sql = "SELECT instance_id, count(*) AS open FROM advice WHERE state = 'open' GROUP BY 1";
        let rows = sqlx::query(sql).fetch_all(&self.pool).await?;
        Ok(rows.iter().map(|row| (row.get("instance_id"), row.get("open"))).collect())
    }
}
