use sqlx::{AssertSqlSafe, Row};

use crate::care::leases::COLLECTED;
use crate::{Result, Store};

/// How the collection of all instances stands, in counts: nothing of any one instance.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct OwnState {
    /// Instances that are to be collected.
    pub instances: i64,
    /// Those that the process asked for holds.
    pub held: i64,
    /// Those that no process holds: nobody collects them just now.
    pub unheld: i64,
    /// Those of which nothing was read within [`SILENT_SECONDS`].
    pub silent: i64,
    /// Of the others, seconds since the last reading of the one that was read longest ago.
    pub oldest_reading_seconds: Option<f64>,
    /// Processes that gave a sign of life within the lease.
    pub processes: i64,
}

/// An instance is silent after so many seconds without a reading.
pub const SILENT_SECONDS: f64 = 7200.0;

impl Store {
    /// How collection stands, seen by a process.
    pub async fn own_state(&self, collector_id: &str, lease_seconds: f64) -> Result<OwnState> {
        let sql = format!(
            "WITH last AS (SELECT instance_id, max(last_read_at) AS read_at FROM collection_tally
               WHERE hour > now() - make_interval(secs => $3) - interval '1 hour' GROUP BY 1)
             SELECT count(*) AS instances, count(*) FILTER (WHERE is_held AND collector_id = $1) AS held,
               count(*) FILTER (WHERE NOT is_held) AS unheld, count(*) FILTER (WHERE age IS NULL OR age > $3) AS silent,
               max(age) FILTER (WHERE age <= $3) AS oldest,
               (SELECT count(*) FROM collector WHERE beat_at >= now() - make_interval(secs => $2)) AS processes
             FROM (SELECT collector_id, coalesce(leased_until > now(), false) AS is_held,
                     extract(epoch FROM now() - read_at)::float8 AS age
                   FROM (SELECT * FROM instance WHERE {COLLECTED}) one LEFT JOIN last USING (instance_id)) collected"
        );
        let row = sqlx::query(AssertSqlSafe(sql))
            .bind(collector_id)
            .bind(lease_seconds)
            .bind(SILENT_SECONDS)
            .fetch_one(&self.pool)
            .await?;
        Ok(OwnState {
            instances: row.get("instances"),
            held: row.get("held"),
            unheld: row.get("unheld"),
            silent: row.get("silent"),
            oldest_reading_seconds: row.get("oldest"),
            processes: row.get("processes"),
        })
    }
}
