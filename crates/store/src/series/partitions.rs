use std::collections::HashSet;

use chrono::{DateTime, Days, NaiveDate, NaiveTime};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::{Retention, RetentionGroup};
use hurnix_core::readings::figures::Figures;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::{AssertSqlSafe, Connection, PgConnection, Postgres, Transaction};

use crate::{Result, Store, time};

/// Tables of figures as they were read, and what the tables of their sums begin with; with the group that they belong
/// to, or none for those that tell of the readings of all kinds of counters.
const KEPT: &[(&str, &str, Option<RetentionGroup>)] = &[
    ("measure", "measure", Some(RetentionGroup::Measures)),
    ("snapshot", "observed", None),
    ("activity_sample", "activity_sample", Some(RetentionGroup::Activity)),
    ("activity", "activity", Some(RetentionGroup::Activity)),
];

macro_rules! counter_tables {
    ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {
        /// Likewise, of counters.
        const COUNTERS: &[(&str, &str, Figures)] = &[$((concat!($stem, "_period"), $stem, Figures::$kind)),+];
    };
}

hurnix_core::all_counters!(counter_tables);

/// Partitions are made this far ahead, so that nobody waits for one.
const AHEAD_DAYS: f64 = 2.0;
/// One process at a time makes partitions: an arbitrary number that stands for that.
const PARTITION_LOCK: i64 = 0x4855_524e_5041_5254;
/// Nobody drops partitions while somebody brings a past in: likewise.
const DROP_LOCK: i64 = 0x4855_524e_4452_4f50;

/// One partition that there is or should be.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Partition {
    table: String,
    detail: Detail,
    group: Option<RetentionGroup>,
    start: NaiveDate,
}

/// Days that a partition of a level holds: about as many rows each.
fn partition_days(detail: Detail) -> u64 {
    match detail {
        Detail::Fine => 1,
        Detail::TenMinutes => 7,
        Detail::Hour => 28,
        Detail::Day => 168,
    }
}

/// A table that is partitioned.
struct Table {
    name: String,
    detail: Detail,
    group: Option<RetentionGroup>,
}

fn tables() -> impl Iterator<Item = Table> {
    let counters = COUNTERS.iter().map(|(fine, stem, figures)| (*fine, *stem, figures.retention_group()));
    let kept = KEPT.iter().copied().chain(counters).flat_map(|(fine, stem, group)| {
        Detail::ALL.map(|detail| {
            let name = if detail == Detail::Fine { fine.to_owned() } else { format!("{stem}_{}", detail.name()) };
            Table { name, detail, group }
        })
    });
    let log = Table { name: "server_log".into(), detail: RetentionGroup::ENTRIES, group: Some(RetentionGroup::Log) };
    let hold_ups =
        Table { name: "hold_up".into(), detail: RetentionGroup::ENTRIES, group: Some(RetentionGroup::Activity) };
    kept.chain([log, hold_ups])
}

/// The groups of counters, whose readings share tables.
fn counter_groups() -> impl Iterator<Item = RetentionGroup> {
    COUNTERS.iter().filter_map(|(_, _, figures)| figures.retention_group())
}

impl Partition {
    /// Those that hold the moments of a window.
    fn holding(window: Window) -> Vec<Partition> {
        let (first, last) = (time(window.from).date_naive(), time(window.to).date_naive());
        let mut partitions = Vec::new();
        for Table { name, detail, group } in tables() {
            let days = partition_days(detail);
            let since_epoch = (first - DateTime::UNIX_EPOCH.date_naive()).num_days();
            let mut start = first - Days::new(since_epoch.rem_euclid(days as i64) as u64);
            while start <= last {
                partitions.push(Partition { table: name.clone(), detail, group, start });
                start = start + Days::new(days);
            }
        }
        partitions
    }

    fn named(name: &str) -> Option<Partition> {
        let (table, start) = name.rsplit_once('_')?;
        let Table { name, detail, group } = tables().find(|known| known.name == table)?;
        let start = NaiveDate::parse_from_str(start, "%Y%m%d").ok()?;
        Some(Partition { table: name, detail, group, start })
    }

    /// Since when what it holds is kept.
    fn kept_since(&self, retention: &Retention, now: Timestamp) -> NaiveDate {
        let since = |group| retention.since(group, self.detail, now);
        let since = self.group.map_or_else(|| counter_groups().map(since).min().unwrap_or(now), since);
        time(since).date_naive()
    }

    /// Drops it. What the tables that several kinds of counters share tell of its kind goes with it: where no
    /// figures are, nothing was observed, and nothing can be added to their sums.
    fn drop(&self) -> Vec<String> {
        let mut statements = vec![format!("DROP TABLE IF EXISTS {}", self.name())];
        let shared = match self.detail {
            Detail::Fine => ("snapshot".to_owned(), "taken_at"),
            rolled => (format!("observed_{}", rolled.name()), "to_at"),
        };
        if let Some(group) = self.group.filter(|group| counter_groups().any(|of_counters| of_counters == *group)) {
            let kinds: Vec<String> = Figures::ALL
                .into_iter()
                .filter(|figures| figures.retention_group() == Some(group))
                .map(|figures| format!("'{}'", figures.name()))
                .collect();
            let ((table, moment), kinds, start, end) = (shared, kinds.join(", "), self.start, self.end());
            statements.push(format!(
                "DELETE FROM {table} WHERE kind IN ({kinds}) AND {moment} >= '{start} 00:00+00' AND {moment} < '{end} 00:00+00'"
            ));
        }
        statements
    }

    fn name(&self) -> String {
        format!("{}_{}", self.table, self.start.format("%Y%m%d"))
    }

    fn end(&self) -> NaiveDate {
        self.start + Days::new(partition_days(self.detail))
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
        for partition in lacking(&mut connection, window, of).await? {
            // One at a time: whoever waits for several tables at once could wait for somebody who, writing
            // to one of them, waits for another.
            let mut transaction = connection.begin().await?;
            sqlx::query("SELECT pg_advisory_xact_lock($1)").bind(PARTITION_LOCK).execute(&mut *transaction).await?;
            sqlx::query(AssertSqlSafe(partition.create())).persistent(false).execute(&mut *transaction).await?;
            transaction.commit().await?;
        }
        Ok(())
    }

    /// Keeps partitions from being dropped for as long as what it answers with lives: one that was made for a past
    /// is empty and old, and looks as if nobody needed it any more.
    pub(crate) async fn hold_partitions(&self) -> Result<Transaction<'static, Postgres>> {
        let mut held = self.pool.begin().await?;
        sqlx::query("SELECT pg_advisory_xact_lock_shared($1)").bind(DROP_LOCK).execute(&mut *held).await?;
        Ok(held)
    }

    /// Makes partitions ahead of `now`, and drops those in which nothing is to be kept any more and
    /// everything has been summed up. Answers with the names of those dropped.
    pub async fn keep_partitions(&self, now: Timestamp) -> Result<Vec<String>> {
        self.make_partitions(Window { from: now, to: now.plus_seconds(AHEAD_DAYS * SECONDS_PER_DAY) }).await?;
        let mut connection = self.pool.acquire().await?;
        let mut dropped = Vec::new();
        let there = present(&mut connection).await?;
        let mut partitions: Vec<Partition> = there.iter().filter_map(|name| Partition::named(name)).collect();
        // Shared ones first: what is gone with them need not be deleted.
        partitions.sort_by_key(|partition| partition.group.is_some());
        for partition in partitions {
            if partition.end() <= partition.kept_since(&self.retention, now) {
                match drop_partition(&mut connection, &partition).await {
                    Ok(true) => dropped.push(partition.name()),
                    Ok(false) => {}
                    // Whoever uses the table just now, or has dropped it, goes first; there is another time.
                    Err(sqlx::Error::Database(refusal))
                        if matches!(refusal.code().as_deref(), Some("55P03" | "40P01" | "42P01")) => {}
                    Err(error) => return Err(error.into()),
                }
            }
        }
        dropped.sort();
        Ok(dropped)
    }
}

/// The partitions of some tables that figures of a window go to, and that are not there.
pub(crate) async fn lacking(
    connection: &mut PgConnection,
    window: Window,
    of: impl Fn(&str) -> bool,
) -> Result<Vec<Partition>> {
    let there = present(connection).await?;
    let is_lacking = |partition: &Partition| of(&partition.table) && !there.contains(&partition.name());
    Ok(Partition::holding(window).into_iter().filter(is_lacking).collect())
}

/// Drops a partition unless somebody brings a past in, or something of it is still to be summed up; says whether
/// it did.
async fn drop_partition(connection: &mut PgConnection, partition: &Partition) -> sqlx::Result<bool> {
    let mut transaction = connection.begin().await?;
    let alone: bool =
        sqlx::query_scalar("SELECT pg_try_advisory_xact_lock($1)").bind(DROP_LOCK).fetch_one(&mut *transaction).await?;
    if !alone {
        return Ok(false);
    }
    sqlx::query("SET LOCAL lock_timeout = '2s'").execute(&mut *transaction).await?;
    // Whoever writes to it is done then, and what they wrote is noted as due. In the order in which everybody
    // locks the two.
    for table in [format!("ONLY {}", partition.table), partition.name()] {
        let lock = format!("LOCK TABLE {table} IN ACCESS EXCLUSIVE MODE");
        sqlx::query(AssertSqlSafe(lock)).persistent(false).execute(&mut *transaction).await?;
    }
    // Days are summed up from hours, all else from what is finer: looks are needed until the hold-ups of their hour are told.
    let coarsest = if partition.detail == Detail::Hour { Detail::Day } else { Detail::Hour };
    let levels: Vec<&str> = Detail::SUMMED.into_iter().filter(|level| *level <= coarsest).map(Named::name).collect();
    let summed_up: bool = sqlx::query_scalar(
        "SELECT coalesce(min(to_at) - make_interval(secs => $2) >= $1, true) FROM roll_up_due WHERE detail = ANY($3)",
    )
    .bind(partition.end().and_time(NaiveTime::MIN).and_utc())
    .bind(coarsest.bucket_seconds().unwrap_or_default() as f64)
    .bind(levels)
    .fetch_one(&mut *transaction)
    .await?;
    if !summed_up && partition.detail.coarser().is_some() {
        return Ok(false);
    }
    for sql in partition.drop() {
        sqlx::query(AssertSqlSafe(sql)).persistent(false).execute(&mut *transaction).await?;
    }
    transaction.commit().await?;
    Ok(true)
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
    use chrono::Utc;

    use super::*;

    fn day(text: &str) -> Timestamp {
        Timestamp(text.parse::<DateTime<Utc>>().unwrap().timestamp_micros())
    }

    #[test]
    fn partitions_have_names_that_lead_back_to_them() {
        let window = Window { from: day("2026-02-28T23:00:00Z"), to: day("2026-03-01T01:00:00Z") };
        let partitions = Partition::holding(window);
        for Table { name, detail, .. } in tables() {
            // Two days at the finest level; the coarser ones hold both.
            let days = if detail == Detail::Fine { 2 } else { 1 };
            assert_eq!(partitions.iter().filter(|partition| partition.table == name).count(), days, "{name}");
        }
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
        assert_eq!((sample.table.as_str(), sample.detail), ("activity_sample_ten_minutes", Detail::TenMinutes));
    }
}
