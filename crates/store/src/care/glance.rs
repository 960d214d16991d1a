//! What the roster shows of all instances: read at once, however many there are.

use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, Utc};
use hurnix_core::{Timestamp, time::MICROS_PER_SECOND};
use sqlx::postgres::PgRow;
use sqlx::{PgConnection, Row};

use crate::{Result, Store, at, time};

/// Width of the cells of [`Store::loads`], in seconds.
pub const GLANCE_CELL_SECONDS: i64 = 600;
/// For so long it is kept.
const KEPT_SECONDS: f64 = 4.0 * 3600.0;
const MINUTE: i64 = 60 * MICROS_PER_SECOND;

/// How often a look was taken at the sessions of an instance in a stretch of time, and how many were busy then.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SeenLoad {
    /// Start of the stretch.
    pub at: Timestamp,
    /// Looks.
    pub samples: i64,
    /// Busy sessions of all looks together.
    pub busy: i64,
}

impl SeenLoad {
    fn of(row: &PgRow) -> SeenLoad {
        SeenLoad { at: at(row.get("at")), samples: row.get("samples"), busy: row.get("busy") }
    }

    /// Mean number of busy sessions; nothing where nobody looked.
    pub fn mean(&self) -> Option<f64> {
        (self.samples > 0).then(|| self.busy as f64 / self.samples as f64)
    }
}

/// Adds new looks to what the list of instances shows. Each is a moment with its busy sessions.
pub(crate) async fn note_load(
    transaction: &mut PgConnection,
    instance_id: i32,
    looks: impl Iterator<Item = (Timestamp, usize)>,
) -> Result<()> {
    // A look belongs to the minute that ends with it.
    let mut minutes: BTreeMap<i64, (i64, i64)> = BTreeMap::new();
    for (moment, busy) in looks {
        let (samples, all) = minutes.entry((moment.0 - 1).div_euclid(MINUTE) * MINUTE).or_default();
        *samples += 1;
        *all += busy as i64;
    }
    let starts: Vec<DateTime<Utc>> = minutes.keys().map(|start| time(Timestamp(*start))).collect();
    let (samples, busy): (Vec<i64>, Vec<i64>) = minutes.into_values().unzip();
    sqlx::query(
        "INSERT INTO load_glance AS kept (instance_id, cell_at, samples, busy, minute_samples, minute_busy)
         SELECT $1, cell_at, sum(coalesce(seen.samples, 0)), sum(coalesce(seen.busy, 0)),
                array_agg(coalesce(seen.samples, 0) ORDER BY minute), array_agg(coalesce(seen.busy, 0) ORDER BY minute)
         FROM (SELECT DISTINCT date_bin('10 minutes', start, 'epoch') AS cell_at FROM unnest($2::timestamptz[]) AS start
               WHERE start > now() - make_interval(secs => $5)) AS cells
         CROSS JOIN generate_series(0, 9) AS minute
         LEFT JOIN unnest($2::timestamptz[], $3::bigint[], $4::bigint[]) AS seen (start, samples, busy)
             ON seen.start = cell_at + make_interval(mins => minute)
         GROUP BY cell_at
         ON CONFLICT (instance_id, cell_at) DO UPDATE SET
             samples = kept.samples + excluded.samples, busy = kept.busy + excluded.busy,
             minute_samples = (SELECT array_agg(a + b ORDER BY n)
                 FROM unnest(kept.minute_samples, excluded.minute_samples) WITH ORDINALITY AS both_of(a, b, n)),
             minute_busy = (SELECT array_agg(a + b ORDER BY n)
                 FROM unnest(kept.minute_busy, excluded.minute_busy) WITH ORDINALITY AS both_of(a, b, n))",
    )
    .bind(instance_id)
    .bind(&starts)
    .bind(&samples)
    .bind(&busy)
    .bind(KEPT_SECONDS)
    .execute(transaction)
    .await?;
    Ok(())
}

impl Store {
    /// Load of the last hours of instances in cells of ten minutes, oldest first, from the one that holds
    /// `since`. Instances that nobody looked at are left out.
    pub async fn loads(&self, instances: &[i32], since: Timestamp) -> Result<HashMap<i32, Vec<SeenLoad>>> {
        let rows = sqlx::query(
            "SELECT instance_id, cell_at AS at, samples, busy FROM load_glance
             WHERE instance_id = ANY($1) AND cell_at > $2::timestamptz - interval '10 minutes'
             ORDER BY instance_id, cell_at",
        )
        .bind(instances)
        .bind(time(since))
        .fetch_all(&self.pool)
        .await?;
        Ok(by_instance(&rows))
    }

    /// Likewise by the minute.
    pub async fn loads_by_minute(&self, instances: &[i32], since: Timestamp) -> Result<HashMap<i32, Vec<SeenLoad>>> {
        let rows = sqlx::query(
            "SELECT instance_id, cell_at + make_interval(mins => n::int - 1) AS at, seen.samples, seen.busy
             FROM load_glance, unnest(minute_samples, minute_busy) WITH ORDINALITY AS seen (samples, busy, n)
             WHERE instance_id = ANY($1) AND cell_at > $2::timestamptz - interval '10 minutes' AND seen.samples > 0
             ORDER BY instance_id, at",
        )
        .bind(instances)
        .bind(time(since))
        .fetch_all(&self.pool)
        .await?;
        Ok(by_instance(&rows))
    }

    /// Removes what the list of instances shows no more.
    pub async fn forget_old_loads(&self) -> Result<()> {
        sqlx::query("DELETE FROM load_glance WHERE cell_at < now() - make_interval(secs => $1)")
            .bind(KEPT_SECONDS)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// How much advice waits for a decision, by instance; instances with none are left out.
    pub async fn open_advice(&self, instances: &[i32]) -> Result<HashMap<i32, i64>> {
        let sql = "SELECT instance_id, count(*) AS open FROM advice
                   WHERE state = 'open' AND instance_id = ANY($1) GROUP BY 1";
        let rows = sqlx::query(sql).bind(instances).fetch_all(&self.pool).await?;
        Ok(rows.iter().map(|row| (row.get("instance_id"), row.get("open"))).collect())
    }
}

fn by_instance(rows: &[PgRow]) -> HashMap<i32, Vec<SeenLoad>> {
    let mut loads: HashMap<i32, Vec<SeenLoad>> = HashMap::new();
    for row in rows {
        loads.entry(row.get("instance_id")).or_default().push(SeenLoad::of(row));
    }
    loads
}
