use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::counters::Counters;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::{AssertSqlSafe, PgConnection};

use crate::series::hold_ups::{HoursHoldUps, hold_ups_over, is_of_hold_ups, replace_hold_ups, without_room};
use crate::series::last_seen::note_seen;
use crate::series::partitions::lacking;
use crate::series::periods::Kind;
use crate::series::pieces::unpacked;
use crate::{Result, Store, at, time};

/// Buckets summed up in one transaction, by level: a day of ten minutes, six days of hours or of days.
fn most_buckets(detail: Detail) -> i64 {
    if detail == Detail::Day { 6 } else { 144 }
}

/// Notes that something was written that belongs to the buckets of these moments. The note is locked
/// until the transaction ends, so that nobody sums up a bucket that somebody is writing to.
pub(crate) async fn note_due(
    connection: &mut PgConnection,
    instance_id: i32,
    moments: impl Iterator<Item = Timestamp>,
) -> Result<()> {
    let mut ends: Vec<DateTime<Utc>> = moments.map(|at| time(Detail::TenMinutes.bucket_end(at))).collect();
    ends.sort();
    ends.dedup();
    sqlx::query(
        "INSERT INTO roll_up_due (instance_id, detail, to_at) SELECT $1, 'ten_minutes', unnest($2::timestamptz[])
         ON CONFLICT (instance_id, detail, to_at) DO UPDATE SET writes = roll_up_due.writes + 1",
    )
    .bind(instance_id)
    .bind(&ends)
    .execute(connection)
    .await?;
    Ok(())
}

/// Notes that the next coarser buckets around these are to be summed up anew, if there are any.
pub(crate) async fn note_coarser(
    connection: &mut PgConnection,
    instance_id: i32,
    detail: Detail,
    ends: &[DateTime<Utc>],
) -> Result<()> {
    let Some(coarser) = detail.coarser() else { return Ok(()) };
    sqlx::query(
        "INSERT INTO roll_up_due (instance_id, detail, to_at)
         SELECT DISTINCT $1, $2, date_bin(width, ended - interval '1 microsecond', 'epoch') + width
         FROM unnest($3::timestamptz[]) AS ended, make_interval(secs => $4) AS width ORDER BY 3
         ON CONFLICT (instance_id, detail, to_at) DO UPDATE SET writes = roll_up_due.writes + 1",
    )
    .bind(instance_id)
    .bind(coarser.name())
    .bind(ends)
    .bind(coarser.bucket_seconds().unwrap_or_default() as f64)
    .execute(connection)
    .await?;
    Ok(())
}

impl Store {
    /// Sums up buckets that ended before `before` and are due, those of one instance and level; answers
    /// how many. Doing it again changes nothing, and several processes may do it at once: each takes
    /// buckets that no other holds.
    pub async fn roll_up(&self, before: Timestamp) -> Result<usize> {
        loop {
            let mut transaction = self.pool.begin().await?;
            let Some(due) = due(&mut transaction, before).await? else { return Ok(0) };
            // All of it on one connection: what another one waits for, while this one holds what that waits for, the
            // server does not see.
            let hold_ups = match due.detail {
                Detail::Hour => hold_ups_over(&mut transaction, due.instance_id, &due.ends).await?,
                _ => Vec::new(),
            };
            let without_room = without_room(&mut transaction, &hold_ups).await?;
            let days_lack = days_without_room(&mut transaction, &due).await?;
            if without_room.is_empty() && days_lack.is_none() {
                sum_up(&mut transaction, &due, &hold_ups).await?;
                transaction.commit().await?;
                return Ok(due.ends.len());
            }
            // Whoever makes a part of a table waits for all who use it: nothing may be held meanwhile.
            transaction.rollback().await?;
            for moment in without_room {
                self.make_partitions_of(Window { from: moment, to: moment }, is_of_hold_ups).await?;
            }
            if let Some(window) = days_lack {
                self.make_partitions_of(window, is_of_days).await?;
            }
        }
    }
}

fn is_of_days(table: &str) -> bool {
    table.ends_with("_day")
}

/// The window of days that are due, where a table has no partition for one: a past that an earlier version kept has none.
async fn days_without_room(connection: &mut PgConnection, due: &Due) -> Result<Option<Window>> {
    let (Detail::Day, Some(first), Some(last)) = (due.detail, due.ends.iter().min(), due.ends.iter().max()) else {
        return Ok(None);
    };
    let window = Window { from: at(*first), to: at(*last) };
    Ok(if lacking(connection, window, is_of_days).await?.is_empty() { None } else { Some(window) })
}

/// Buckets that are due, of one instance and level.
struct Due {
    instance_id: i32,
    detail: Detail,
    ends: Vec<DateTime<Utc>>,
}

/// The oldest ones that nobody holds; they are held until the transaction ends.
async fn due(connection: &mut PgConnection, before: Timestamp) -> Result<Option<Due>> {
    let Some((instance_id, detail)) = first_due(connection, before).await? else { return Ok(None) };
    let ends: Vec<DateTime<Utc>> = sqlx::query_scalar(AssertSqlSafe(format!(
        "SELECT to_at FROM roll_up_due due WHERE instance_id = $1 AND detail = $2 AND to_at <= $3 {}
             ORDER BY to_at LIMIT $4 FOR UPDATE SKIP LOCKED",
        ready(detail)
    )))
    .bind(instance_id)
    .bind(detail.name())
    .bind(time(before))
    .bind(most_buckets(detail))
    .fetch_all(connection)
    .await?;
    Ok(Some(Due { instance_id, detail, ends }))
}

/// Sums them up, and notes that they are no longer due.
async fn sum_up(connection: &mut PgConnection, due: &Due, hold_ups: &[HoursHoldUps]) -> Result<()> {
    let Due { instance_id, detail, ends } = due;
    for sums in all_sums(*detail) {
        sums.replace(connection, *instance_id, *detail, ends).await?;
    }
    if *detail == Detail::Hour {
        note_seen(connection, *instance_id, ends).await?;
        replace_hold_ups(connection, *instance_id, hold_ups).await?;
    }
    sqlx::query("DELETE FROM roll_up_due WHERE instance_id = $1 AND detail = $2 AND to_at = ANY($3)")
        .bind(instance_id)
        .bind(detail.name())
        .bind(ends)
        .execute(&mut *connection)
        .await?;
    note_coarser(connection, *instance_id, *detail, ends).await
}

/// What makes a due bucket ready: an hour waits for its ten minutes, a day for both.
fn ready(detail: Detail) -> String {
    let Some(seconds) = detail.bucket_seconds().filter(|_| detail != Detail::TenMinutes) else { return String::new() };
    let finer: Vec<String> =
        Detail::SUMMED.iter().filter(|finer| **finer < detail).map(|finer| format!("'{}'", finer.name())).collect();
    format!(
        "AND NOT EXISTS (SELECT FROM roll_up_due part WHERE part.instance_id = due.instance_id AND part.detail IN ({})
            AND part.to_at > due.to_at - make_interval(secs => {seconds}) AND part.to_at <= due.to_at)",
        finer.join(", ")
    )
}

/// The instance and level of the oldest bucket that is ready and that nobody holds: finer levels first.
/// However many are due, this looks at few of them.
async fn first_due(connection: &mut PgConnection, before: Timestamp) -> Result<Option<(i32, Detail)>> {
    for detail in Detail::SUMMED {
        let first: Option<i32> = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT instance_id FROM roll_up_due due WHERE detail = $1 AND to_at <= $2 {}
             ORDER BY to_at LIMIT 1 FOR UPDATE SKIP LOCKED",
            ready(detail)
        )))
        .bind(detail.name())
        .bind(time(before))
        .fetch_optional(&mut *connection)
        .await?;
        if let Some(instance_id) = first {
            return Ok(Some((instance_id, detail)));
        }
    }
    Ok(None)
}

/// How the rows of one kind are summed up.
struct Sums {
    /// Table of the sums.
    to: String,
    /// Table or subquery summed up, and its column of time.
    from: (String, &'static str),
    /// Columns that rows are grouped by.
    by: String,
    /// (column, sum)
    sums: Vec<(String, String)>,
    /// Further condition.
    condition: &'static str,
    /// For sums that are kept as lists, one row for a bucket: columns that tell several such rows apart,
    /// each with a comma behind it.
    lists: Option<&'static str>,
}

impl Sums {
    /// Replaces the sums of the buckets that end at `ends`.
    async fn replace(
        &self,
        connection: &mut PgConnection,
        instance_id: i32,
        detail: Detail,
        ends: &[DateTime<Utc>],
    ) -> Result<()> {
        let Sums { to, from: (from, moment), by, sums, condition, lists } = self;
        let delete = format!("DELETE FROM {to} WHERE instance_id = $1 AND to_at = ANY($2)");
        sqlx::query(AssertSqlSafe(delete)).bind(instance_id).bind(ends).execute(&mut *connection).await?;
        let columns: Vec<&str> = sums.iter().map(|(column, _)| column.as_str()).collect();
        let comma = if by.is_empty() { "" } else { ", " };
        let grouped = format!(
            "SELECT instance_id, bucket AS to_at{comma}{by}, {} FROM (
                SELECT *, date_bin(make_interval(secs => $3), {moment} - interval '1 microsecond', 'epoch')
                          + make_interval(secs => $3) AS bucket
                FROM {from} WHERE instance_id = $1 AND {moment} > $4 AND {moment} <= $5 {condition}) bucketed
             WHERE bucket = ANY($2) GROUP BY instance_id, bucket{comma}{by}",
            sums.iter().map(|(column, sum)| format!("{sum} AS {column}")).collect::<Vec<_>>().join(", ")
        );
        let columns = columns.join(", ");
        let insert = match lists {
            None => format!("INSERT INTO {to} (instance_id, to_at{comma}{by}, {columns}) {grouped}"),
            Some(apart) => {
                let listed: Vec<&str> = by.split(", ").filter(|column| !apart.contains(column)).collect();
                let listed = format!("{}, {columns}", listed.join(", "));
                let lists: Vec<String> = listed.split(", ").map(|column| format!("array_agg({column})")).collect();
                // Sorted, so that lists of like values compress well.
                format!(
                    "INSERT INTO {to} (instance_id, to_at, {apart}{listed})
                     SELECT instance_id, to_at, {apart}{} FROM ({grouped} ORDER BY instance_id, bucket, {by}) sorted
                     GROUP BY {apart}instance_id, to_at",
                    lists.join(", ")
                )
            }
        };
        let seconds = detail.bucket_seconds().unwrap_or(1);
        let (first, last) = (ends.iter().min(), ends.iter().max());
        sqlx::query(AssertSqlSafe(insert))
            .bind(instance_id)
            .bind(ends)
            .bind(seconds as f64)
            .bind(first.map(|end| *end - chrono::Duration::seconds(seconds)))
            .bind(last)
            .execute(&mut *connection)
            .await?;
        Ok(())
    }
}

/// All kinds of sums of a level: ten minutes from what was read, all others from the next finer level.
fn all_sums(detail: Detail) -> Vec<Sums> {
    let finer = detail.finer().filter(|finer| *finer != Detail::Fine);
    let named = |stem: &str, fine: &str, fine_time: &'static str| {
        let from = finer.map_or((fine.to_owned(), fine_time), |finer| (format!("{stem}_{}", finer.name()), "to_at"));
        (format!("{stem}_{}", detail.name()), from)
    };
    let plain = |column: &str| (column.to_owned(), format!("sum({column})::bigint"));
    let pick = |fine: &str, rolled: &str| if finer.is_none() { fine.to_owned() } else { rolled.to_owned() };

    let (to, from) = named("observed", "snapshot", "taken_at");
    let observed = Sums {
        to,
        from,
        by: "kind".into(),
        sums: vec![
            ("from_at".into(), "min(from_at)".into()),
            ("seconds".into(), pick("sum(extract(epoch FROM taken_at - from_at))::float8", "sum(seconds)")),
            ("periods".into(), pick("count(*)", "sum(periods)::bigint")),
        ],
        condition: if finer.is_none() { "AND from_at IS NOT NULL" } else { "" },
        lists: None,
    };
    let (to, from) = named("activity_sample", "activity_sample", "sampled_at");
    let samples = Sums {
        to,
        from,
        by: String::new(),
        sums: vec![("samples".into(), pick("count(*)", "sum(samples)::bigint")), plain("sessions")],
        condition: "",
        lists: None,
    };
    let (to, from) = named("activity", "activity", "sampled_at");
    let activity = Sums {
        to,
        from,
        by: "wait_kind, event_id, family_id, account_id, program_id, client_id, database_id, lock_object_id".into(),
        sums: vec![("busy".into(), pick("count(*)", "sum(busy)::bigint"))],
        condition: if finer.is_none() { "AND wait_kind IS NOT NULL" } else { "" },
        lists: None,
    };
    let unpacked_from = |columns: &str, stem: &str, fine: &str| {
        let table = finer.map_or(fine.to_owned(), |finer| format!("{stem}_{}", finer.name()));
        format!(
            "(SELECT instance_id, to_at, {columns} FROM {table} WHERE instance_id = $1 AND to_at > $4 AND to_at <= $5) unpacked"
        )
    };
    let measured = format!(
        "figures, {}",
        unpacked(pick("metric, object_id, value", "metric, object_id, readings, total, least, most").as_str())
    );
    let measures = Sums {
        to: format!("measure_{}", detail.name()),
        from: (unpacked_from(&measured, "measure", "measure"), "to_at"),
        by: "figures, metric, object_id".into(),
        sums: vec![
            ("readings".into(), pick("count(*)", "sum(readings)::bigint")),
            ("total".into(), pick("sum(value)", "sum(total)")),
            ("least".into(), pick("min(value)", "min(least)")),
            ("most".into(), pick("max(value)", "max(most)")),
        ],
        condition: "",
        lists: Some("figures, "),
    };
    let mut all = vec![observed, samples, activity, measures];
    macro_rules! periods {
        ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {$({
            let columns = format!("{}, lower_bound, {}", $object, <$counters>::NAMES.join(", "));
            let from = (unpacked_from(&unpacked(&columns), $stem, <$counters>::TABLE), "to_at");
            let to = format!("{}_{}", $stem, detail.name());
            let mut sums = vec![("lower_bound".to_owned(), "bool_or(lower_bound)".to_owned())];
            // A figure that a later version added is not in older lists.
            let sum = |name: &&str| ((*name).to_owned(), format!("coalesce(sum({name}), 0)::bigint"));
            sums.extend(<$counters>::NAMES.iter().map(sum));
            all.push(Sums { to, from, by: $object.into(), sums, condition: "", lists: Some("") });
        })+};
    }
    hurnix_core::all_counters!(periods);
    all
}
