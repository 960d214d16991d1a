//! What is kept of an instance, read back as it was written: for bundles.

use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, QueryBuilder, Row};

use crate::series::periods::{Kind, Object, PeriodRow};
use crate::{BackfilledSnapshot, FamilyRow, PlanRow, Result, SettingRow, Store, at, time};

/// Sums of one kind over a bucket.
#[derive(Debug, Clone, PartialEq)]
pub struct Bucket<O, C> {
    /// End of the bucket.
    pub to: Timestamp,
    /// Start of the first period in it.
    pub from: Timestamp,
    /// Seconds of all periods in it.
    pub seconds: f64,
    /// Periods in it.
    pub periods: i64,
    /// What each object did.
    pub rows: Vec<PeriodRow<O, C>>,
}

/// A session that was not idle, as the repository keeps it.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptSession {
    /// Process number.
    pub process: i32,
    /// When the process began.
    pub started_at: Timestamp,
    /// Position of the wait kind; nothing for a session that holds a transaction open without working.
    pub wait_kind: Option<i16>,
    /// Numbers of event, account, program, client, database.
    pub names: [Option<i32>; 5],
    /// Family of its statement.
    pub family_id: Option<i64>,
    /// When its transaction began.
    pub transaction_started_at: Option<Timestamp>,
    /// When its statement began.
    pub statement_started_at: Option<Timestamp>,
    /// Processes that hold the lock it waits for.
    pub blocked_by: Vec<i32>,
    /// Numbers of mode, kind and object of that lock.
    pub awaited: Option<[i32; 3]>,
}

/// One look at the sessions.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptSample {
    /// When.
    pub at: Timestamp,
    /// All client sessions.
    pub sessions: i32,
    /// Those that were not idle.
    pub active: Vec<KeptSession>,
}

/// Busy sessions of a bucket of looks, by what they are told apart by.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptLoad {
    /// End of the bucket.
    pub to: Timestamp,
    /// Looks in it.
    pub samples: i64,
    /// Connected sessions, summed over the looks.
    pub sessions: i64,
    /// The busy ones.
    pub rows: Vec<KeptBusy>,
}

/// Busy sessions that are alike, in a bucket of looks.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptBusy {
    /// Position of the wait kind.
    pub wait_kind: i16,
    /// Numbers of event, account, program, client, database.
    pub names: [Option<i32>; 5],
    /// Family of their statement.
    pub family_id: Option<i64>,
    /// Number of the table whose lock they waited for.
    pub lock_object_id: Option<i32>,
    /// How many, summed over the looks.
    pub busy: i64,
}

/// Values of one kind of single figures: at one moment, or summed up over a bucket.
#[derive(Debug, Clone, PartialEq)]
pub struct KeptMeasures {
    /// When, or the end of the bucket.
    pub at: Timestamp,
    /// Name of the kind of figures.
    pub figures: String,
    /// (number of the metric, number of the object, readings, sum, least, most)
    pub rows: Vec<(i16, i32, i64, f64, f64, f64)>,
}

impl Store {
    /// All names of an instance by number.
    pub async fn all_names(&self, instance_id: i32) -> Result<HashMap<i32, String>> {
        let rows = sqlx::query_as("SELECT name_id, name FROM name WHERE instance_id = $1")
            .bind(instance_id)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.into_iter().collect())
    }

    /// All families of an instance.
    pub async fn all_families(&self, instance_id: i32) -> Result<Vec<FamilyRow>> {
        let rows = sqlx::query(
            "SELECT family_id, text, tag, sample, first_seen_at FROM family WHERE instance_id = $1 ORDER BY family_id",
        )
        .bind(instance_id)
        .fetch_all(&self.pool)
        .await?;
        let family = |row: &PgRow| FamilyRow {
            family_id: row.get("family_id"),
            text: row.get("text"),
            tag: row.get("tag"),
            sample: row.get("sample"),
            first_seen_at: at(row.get("first_seen_at")),
        };
        Ok(rows.iter().map(family).collect())
    }

    /// Plans of all families of an instance, the oldest first.
    pub async fn all_plans(&self, instance_id: i32) -> Result<Vec<(i64, PlanRow)>> {
        let rows = sqlx::query(
            "SELECT family_id, plan.identity, plan.first_read_at, plan.read_at, plan.text, plan.problem, plan.database_name FROM plan JOIN family USING (family_id)
             WHERE instance_id = $1 ORDER BY family_id, plan.read_at",
        )
        .bind(instance_id)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(|row| (row.get("family_id"), crate::care::plans::plan_row(row))).collect())
    }

    /// Settings that were seen up to the end of a window, with when.
    pub async fn kept_settings(&self, instance_id: i32, until: Timestamp) -> Result<Vec<(Timestamp, SettingRow)>> {
        let rows = sqlx::query(
            "SELECT seen_at, name, value, unit, source, pending_restart FROM setting
             WHERE instance_id = $1 AND seen_at <= $2 ORDER BY seen_at, name",
        )
        .bind(instance_id)
        .bind(time(until))
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(|row| (at(row.get("seen_at")), crate::care::catalog::setting_row(row))).collect())
    }

    /// Snapshots of one kind that were taken within a window, with their periods.
    pub async fn kept_snapshots<C: Kind>(
        &self,
        instance_id: i32,
        window: Window,
    ) -> Result<Vec<BackfilledSnapshot<C::Object, C>>> {
        let mut sql = QueryBuilder::new("SELECT snapshot.*, p.* FROM snapshot LEFT JOIN ");
        sql.push(format_args!(
            "{} p ON p.instance_id = snapshot.instance_id AND p.to_at = snapshot.taken_at WHERE snapshot.instance_id = ",
            C::TABLE
        ));
        sql.push_bind(instance_id).push(" AND kind = ").push_bind(C::FIGURES.name());
        sql.push(" AND taken_at > ").push_bind(time(window.from));
        sql.push(" AND taken_at <= ").push_bind(time(window.to)).push(" ORDER BY taken_at");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let snapshot = |row: &PgRow| {
            let from: Option<DateTime<Utc>> = row.get("from_at");
            let reason: Option<String> = row.get("no_difference");
            BackfilledSnapshot {
                taken_at: at(row.get("taken_at")),
                read_ms: row.get("read_ms"),
                server_started_at: at(row.get("server_started_at")),
                reset_at: row.get::<Option<DateTime<Utc>>, _>("reset_at").map(at),
                period: match from {
                    Some(from) => Ok((at(from), rows_of::<C>(row))),
                    None => Err(reason.unwrap_or_default()),
                },
            }
        };
        Ok(rows.iter().map(snapshot).collect())
    }

    /// Buckets of one kind that ended within a window.
    pub async fn kept_buckets<C: Kind>(
        &self,
        instance_id: i32,
        detail: Detail,
        window: Window,
    ) -> Result<Vec<Bucket<C::Object, C>>> {
        let level = detail.name();
        let rows = sqlx::query(AssertSqlSafe(format!(
            "SELECT o.to_at AS ended, o.from_at, o.seconds, o.periods, p.* FROM observed_{level} o
             LEFT JOIN {}_{level} p ON p.instance_id = o.instance_id AND p.to_at = o.to_at
             WHERE o.instance_id = $1 AND o.kind = $2 AND o.to_at > $3 AND o.to_at <= $4 ORDER BY o.to_at",
            C::STEM
        )))
        .bind(instance_id)
        .bind(C::FIGURES.name())
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let bucket = |row: &PgRow| Bucket {
            to: at(row.get("ended")),
            from: at(row.get("from_at")),
            seconds: row.get("seconds"),
            periods: row.get("periods"),
            rows: rows_of::<C>(row),
        };
        Ok(rows.iter().map(bucket).collect())
    }

    /// Looks at the sessions within a window.
    pub async fn kept_samples(&self, instance_id: i32, window: Window) -> Result<Vec<KeptSample>> {
        let samples: Vec<(DateTime<Utc>, i32)> = sqlx::query_as(
            "SELECT sampled_at, sessions FROM activity_sample WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3 ORDER BY sampled_at",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let rows = sqlx::query(
            "SELECT * FROM activity WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3 ORDER BY sampled_at, process",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let mut active: HashMap<DateTime<Utc>, Vec<KeptSession>> = HashMap::new();
        for row in &rows {
            active.entry(row.get("sampled_at")).or_default().push(session(row));
        }
        Ok(samples
            .into_iter()
            .map(|(moment, sessions)| KeptSample {
                at: at(moment),
                sessions,
                active: active.remove(&moment).unwrap_or_default(),
            })
            .collect())
    }

    /// Buckets of looks at the sessions that ended within a window.
    pub async fn kept_load(&self, instance_id: i32, detail: Detail, window: Window) -> Result<Vec<KeptLoad>> {
        let level = detail.name();
        let buckets = sqlx::query(AssertSqlSafe(format!(
            "SELECT to_at, samples, sessions FROM activity_sample_{level}
             WHERE instance_id = $1 AND to_at > $2 AND to_at <= $3 ORDER BY to_at"
        )))
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let rows = sqlx::query(AssertSqlSafe(format!(
            "SELECT * FROM activity_{level} WHERE instance_id = $1 AND to_at > $2 AND to_at <= $3
             ORDER BY to_at, wait_kind, family_id, event_id, account_id, program_id, client_id, database_id, lock_object_id"
        )))
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let mut busy: HashMap<DateTime<Utc>, Vec<_>> = HashMap::new();
        for row in &rows {
            let parts = KeptBusy {
                wait_kind: row.get("wait_kind"),
                names: names(row),
                family_id: row.get("family_id"),
                lock_object_id: row.get("lock_object_id"),
                busy: row.get("busy"),
            };
            busy.entry(row.get("to_at")).or_default().push(parts);
        }
        Ok(buckets
            .iter()
            .map(|row| KeptLoad {
                to: at(row.get("to_at")),
                samples: row.get("samples"),
                sessions: row.get("sessions"),
                rows: busy.remove(&row.get("to_at")).unwrap_or_default(),
            })
            .collect())
    }

    /// Single figures within a window, at a level of detail.
    pub async fn kept_measures(&self, instance_id: i32, detail: Detail, window: Window) -> Result<Vec<KeptMeasures>> {
        let (table, sums) = match detail {
            Detail::Fine => {
                ("measure".to_owned(), "NULL::bigint[] AS readings, value AS total, value AS least, value AS most")
            }
            rolled => (format!("measure_{}", rolled.name()), "readings, total, least, most"),
        };
        let rows = sqlx::query(AssertSqlSafe(format!(
            "SELECT to_at, figures, metric, object_id, {sums} FROM {table}
             WHERE instance_id = $1 AND to_at > $2 AND to_at <= $3 ORDER BY to_at, figures"
        )))
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let measures = |row: &PgRow| {
            let (metrics, objects): (Vec<i16>, Vec<i32>) = (row.get("metric"), row.get("object_id"));
            let readings: Option<Vec<i64>> = row.get("readings");
            let [total, least, most]: [Vec<f64>; 3] = ["total", "least", "most"].map(|column| row.get(column));
            let one = |n: usize| {
                let readings = readings.as_ref().map_or(1, |readings| readings[n]);
                (metrics[n], objects[n], readings, total[n], least[n], most[n])
            };
            KeptMeasures {
                at: at(row.get("to_at")),
                figures: row.get("figures"),
                rows: (0..metrics.len()).map(one).collect(),
            }
        };
        Ok(rows.iter().map(measures).collect())
    }
}

/// The rows of a period out of its lists; none where nothing moved.
fn rows_of<C: Kind>(row: &PgRow) -> Vec<PeriodRow<C::Object, C>> {
    let Some(lower_bounds) = row.get::<Option<Vec<bool>>, _>("lower_bound") else { return Vec::new() };
    let objects = C::Object::of_row(row, C::OBJECT);
    // Empty for a figure that a later version added.
    let figures: Vec<Option<Vec<i64>>> = C::NAMES.iter().map(|name| row.get(*name)).collect();
    let counters = |n: usize| {
        C::from_values(&figures.iter().map(|list| list.as_ref().map_or(0, |list| list[n])).collect::<Vec<_>>())
    };
    objects
        .into_iter()
        .zip(lower_bounds)
        .enumerate()
        .map(|(n, (object, lower_bound))| PeriodRow { object, by: counters(n), lower_bound })
        .collect()
}

fn names(row: &PgRow) -> [Option<i32>; 5] {
    ["event_id", "account_id", "program_id", "client_id", "database_id"].map(|column| row.get(column))
}

fn session(row: &PgRow) -> KeptSession {
    let moment = |column: &str| row.get::<Option<DateTime<Utc>>, _>(column).map(at);
    let lock: [Option<i32>; 3] = ["lock_mode_id", "lock_kind_id", "lock_object_id"].map(|column| row.get(column));
    KeptSession {
        process: row.get("process"),
        started_at: at(row.get("process_started_at")),
        wait_kind: row.get("wait_kind"),
        names: names(row),
        family_id: row.get("family_id"),
        transaction_started_at: moment("transaction_started_at"),
        statement_started_at: moment("statement_started_at"),
        blocked_by: row.get("blocked_by"),
        awaited: match lock {
            [Some(mode), Some(kind), Some(object)] => Some([mode, kind, object]),
            _ => None,
        },
    }
}
