use std::collections::HashSet;

use chrono::{DateTime, Days, NaiveDate, Utc};
use hurnix_core::detail::Detail;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{At, Window};
use sqlx::{AssertSqlSafe, Connection, PgConnection};

use crate::server_log::KEPT_AS;
use crate::{Result, Store, time};

/// Figures as they were read, by table and the column that partitions it.
const FINE: [&str; 9] = [
    "measure",
    "snapshot",
    "statement_period",
    "table_period",
    "index_period",
    "database_period",
    "checkpoint_period",
    "activity_sample",
    "activity",
];
/// What the tables of their sums begin with; the level follows.
const ROLLED: [&str; 9] =
    ["measure", "observed", "statement", "table", "index", "database", "checkpoint", "activity_sample", "activity"];
/// Partitions are made this far ahead, so that nobody waits for one.
const AHEAD_DAYS: f64 = 2.0;
/// One process at a time makes or drops partitions: an arbitrary number that stands for that.
const PARTITION_LOCK: i64 = 0x4855_524e_5041_5254;

/// How long figures are kept, in days, by level.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Retention {
    /// As read.
    pub fine_days: u32,
    /// In ten minutes.
    pub ten_minutes_days: u32,
    /// In hours.
    pub hour_days: u32,
}

impl Default for Retention {
    /// A week, five weeks, and a year with the month before it.
    fn default() -> Self {
        Retention { fine_days: 7, ten_minutes_days: 35, hour_days: 400 }
    }
}

impl Retention {
    /// Since when figures of a level are kept: the edge of a day.
    pub fn since(&self, detail: Detail, now: At) -> At {
        let days = match detail {
            Detail::Fine => self.fine_days,
            Detail::TenMinutes => self.ten_minutes_days,
            Detail::Hour => self.hour_days,
        };
        start_of_day(now.plus_seconds(-f64::from(days) * SECONDS_PER_DAY))
    }
}

fn start_of_day(at: At) -> At {
    const DAY_MICROS: i64 = 86_400_000_000;
    At(at.0.div_euclid(DAY_MICROS) * DAY_MICROS)
}

/// One partition that there is or should be.
#[derive(Debug, Clone, PartialEq, Eq)]
struct Partition {
    table: String,
    start: NaiveDate,
    days: u64,
}

/// Days that a partition of a level holds: about as many rows each.
fn partition_days(detail: Detail) -> u64 {
    match detail {
        Detail::Fine => 1,
        Detail::TenMinutes => 7,
        Detail::Hour => 28,
    }
}

fn tables() -> impl Iterator<Item = (String, Detail)> {
    let fine = FINE.iter().map(|table| ((*table).to_owned(), Detail::Fine));
    let log = std::iter::once(("server_log".to_owned(), KEPT_AS));
    let rolled = [Detail::TenMinutes, Detail::Hour]
        .into_iter()
        .flat_map(|detail| ROLLED.iter().map(move |stem| (format!("{stem}_{}", detail.name()), detail)));
    fine.chain(rolled).chain(log)
}

impl Partition {
    /// Those that hold the moments of a window.
    fn holding(window: Window) -> Vec<Partition> {
        let (first, last) = (time(window.from).date_naive(), time(window.to).date_naive());
        let mut partitions = Vec::new();
        for (table, detail) in tables() {
            let days = partition_days(detail);
            let since_epoch = (first - DateTime::UNIX_EPOCH.date_naive()).num_days();
            let mut start = first - Days::new(since_epoch.rem_euclid(days as i64) as u64);
            while start <= last {
                partitions.push(Partition { table: table.clone(), start, days });
                start = start + Days::new(days);
            }
        }
        partitions
    }

    fn named(name: &str) -> Option<Partition> {
        let (table, start) = name.rsplit_once('_')?;
        let (_, detail) = tables().find(|(known, _)| known == table)?;
        let start = NaiveDate::parse_from_str(start, "%Y%m%d").ok()?;
        Some(Partition { table: table.to_owned(), start, days: partition_days(detail) })
    }

    fn detail(&self) -> Detail {
        Detail::ALL.into_iter().find(|detail| partition_days(*detail) == self.days).unwrap_or(Detail::Fine)
    }

    fn name(&self) -> String {
        format!("{}_{}", self.table, self.start.format("%Y%m%d"))
    }

    fn end(&self) -> NaiveDate {
        self.start + Days::new(self.days)
    }

    fn create(&self) -> String {
        let (name, table, start, end) = (self.name(), &self.table, self.start, self.end());
        format!(
            "CREATE TABLE IF NOT EXISTS {name} PARTITION OF {table} FOR VALUES FROM ('{start} 00:00+00') TO ('{end} 00:00+00')"
        )
    }
}

impl Store {
    /// Makes the partitions that figures of a window go to, unless they are there.
    pub async fn make_partitions(&self, window: Window) -> Result<()> {
        self.make_partitions_of(window, |_| true).await
    }

    /// Likewise, of some tables.
    pub(crate) async fn make_partitions_of(&self, window: Window, of: impl Fn(&str) -> bool) -> Result<()> {
        let mut connection = self.pool.acquire().await?;
        let there = present(&mut connection).await?;
        let lacking = |partition: &&Partition| of(&partition.table) && !there.contains(&partition.name());
        for partition in Partition::holding(window).iter().filter(lacking) {
            // One at a time: whoever waits for several tables at once could wait for somebody who, writing
            // to one of them, waits for another.
            let mut transaction = connection.begin().await?;
            sqlx::query("SELECT pg_advisory_xact_lock($1)").bind(PARTITION_LOCK).execute(&mut *transaction).await?;
            sqlx::query(AssertSqlSafe(partition.create())).persistent(false).execute(&mut *transaction).await?;
            transaction.commit().await?;
        }
        Ok(())
    }

    /// Makes partitions ahead of `now`, and drops those in which nothing is to be kept any more and
    /// everything has been summed up. Answers with the names of those dropped.
    pub async fn keep_partitions(&self, now: At) -> Result<Vec<String>> {
        self.make_partitions(Window { from: now, to: now.plus_seconds(AHEAD_DAYS * SECONDS_PER_DAY) }).await?;
        let mut connection = self.pool.acquire().await?;
        let oldest_due: Option<DateTime<Utc>> =
            sqlx::query_scalar("SELECT min(to_at) - interval '1 hour' FROM roll_up_due")
                .fetch_one(&mut *connection)
                .await?;
        let mut dropped = Vec::new();
        for name in present(&mut connection).await? {
            let Some(partition) = Partition::named(&name) else { continue };
            let kept_since = time(self.retention.since(partition.detail(), now)).date_naive();
            let summed_up = oldest_due.is_none_or(|due| partition.end() <= due.date_naive());
            if partition.end() <= kept_since && (summed_up || partition.detail() == Detail::Hour) {
                let mut transaction = connection.begin().await?;
                // Whoever reads the table just now goes first; there is another time.
                sqlx::query("SET LOCAL lock_timeout = '2s'").execute(&mut *transaction).await?;
                let sql = format!("DROP TABLE IF EXISTS {name}");
                match sqlx::query(AssertSqlSafe(sql)).persistent(false).execute(&mut *transaction).await {
                    Ok(_) => {
                        transaction.commit().await?;
                        dropped.push(name);
                    }
                    Err(sqlx::Error::Database(refusal)) if refusal.code().as_deref() == Some("55P03") => {}
                    Err(error) => return Err(error.into()),
                }
            }
        }
        dropped.sort();
        Ok(dropped)
    }
}

/// Names of all partitions.
async fn present(connection: &mut PgConnection) -> Result<HashSet<String>> {
    let names: Vec<String> = sqlx::query_scalar(
        "SELECT c.relname::text FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
         JOIN pg_class parent ON parent.oid = i.inhparent
         WHERE c.relkind = 'r' AND parent.relkind = 'p' AND c.relnamespace = current_schema()::regnamespace",
    )
    .fetch_all(connection)
    .await?;
    Ok(names.into_iter().collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(text: &str) -> At {
        At(text.parse::<DateTime<Utc>>().unwrap().timestamp_micros())
    }

    #[test]
    fn partitions_have_names_that_lead_back_to_them() {
        let window = Window { from: day("2026-02-28T23:00:00Z"), to: day("2026-03-01T01:00:00Z") };
        let partitions = Partition::holding(window);
        // Two days at the finest level; the coarser ones hold both.
        assert_eq!(partitions.len(), 2 * FINE.len() + 2 * ROLLED.len() + 1);
        for partition in &partitions {
            assert_eq!(Partition::named(&partition.name()).as_ref(), Some(partition));
        }
        assert!(partitions.iter().any(|partition| partition.name() == "activity_20260301"));
        assert_eq!(Partition::named("family_20260301"), None);
        assert_eq!(Partition::named("activity_soon"), None);
    }

    #[test]
    fn names_of_tables_are_not_mistaken_for_one_another() {
        let sample = Partition::named("activity_sample_ten_minutes_20260226").unwrap();
        assert_eq!((sample.table.as_str(), sample.detail()), ("activity_sample_ten_minutes", Detail::TenMinutes));
    }

    #[test]
    fn a_level_is_kept_from_the_start_of_a_day() {
        let now = day("2026-03-10T17:30:00Z");
        assert_eq!(Retention::default().since(Detail::Fine, now), day("2026-03-03T00:00:00Z"));
    }
}
