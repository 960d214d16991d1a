use std::collections::HashMap;

use hurnix_core::findings::alarm::{Alarm, Followed, Handled, Looked, NotHandled, Patience, follow};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, PgConnection, QueryBuilder, Row};

use crate::{Result, Store, from_json, time, to_json};

/// Closed alarms are kept for so many days.
const KEPT_DAYS: f64 = 400.0;
/// When a trouble was last seen is written anew after so many seconds at the latest.
const SEEN_WITHIN_SECONDS: f64 = 600.0;
/// Locks of this class are held by whoever looks at an instance, by its number.
const LOOKS: i32 = 13;
const SELECT: &str =
    "SELECT alarm_id, instance_id, label, group_name, payload FROM alarm JOIN instance USING (instance_id)";

/// An alarm of an instance.
#[derive(Debug, Clone, PartialEq)]
pub struct AlarmRow {
    /// Number.
    pub alarm_id: i64,
    /// Instance that it is of.
    pub instance_id: i32,
    /// Label of the instance.
    pub label: String,
    /// Group of the instance.
    pub group: Option<String>,
    /// The alarm.
    pub alarm: Alarm,
}

/// Which alarms are asked for.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct AlarmFilter {
    /// Of one instance only.
    pub instance_id: Option<i32>,
    /// Of these groups only; of all where nothing is given.
    pub groups: Option<Vec<String>>,
    /// Closed ones to leave out at the beginning.
    pub offset: i64,
    /// Most that are answered.
    pub limit: i64,
}

fn row(row: &PgRow) -> Result<AlarmRow> {
    Ok(AlarmRow {
        alarm_id: row.get("alarm_id"),
        instance_id: row.get("instance_id"),
        label: row.get("label"),
        group: row.get("group_name"),
        alarm: from_json("alarm", row.get("payload"))?,
    })
}

impl Store {
    /// Goes on with the alarms of an instance after a look. Says whether any of them is another than before.
    pub async fn follow_alarms(&self, instance_id: i32, looked: Looked<'_>, patience: &Patience) -> Result<bool> {
        let mut transaction = self.pool.begin().await?;
        // One look after the other, also where two processes take an instance for theirs.
        sqlx::query("SELECT pg_advisory_xact_lock($1, $2)")
            .bind(LOOKS)
            .bind(instance_id)
            .execute(&mut *transaction)
            .await?;
        let rows = sqlx::query(
            "SELECT alarm_id, payload FROM alarm
             WHERE instance_id = $1 AND (closed_at IS NULL OR closed_at >= $2) ORDER BY opened_at, alarm_id FOR UPDATE",
        )
        .bind(instance_id)
        .bind(time(looked.at.plus_seconds(-patience.reopens_within_seconds)))
        .fetch_all(&mut *transaction)
        .await?;
        let known = rows
            .iter()
            .map(|row| Ok(Followed { alarm_id: row.get("alarm_id"), alarm: from_json("alarm", row.get("payload"))? }))
            .collect::<Result<Vec<Followed>>>()?;
        let before: HashMap<Option<i64>, Alarm> =
            known.iter().map(|followed| (followed.alarm_id, followed.alarm.clone())).collect();
        let mut is_changed = false;
        // Closed ones first, so that what takes their place may be open.
        let mut after = follow(known, looked, patience);
        after.sort_by_key(|followed| followed.alarm.is_open());
        for Followed { alarm_id, alarm } in &after {
            let was = alarm_id.and_then(|_| before.get(alarm_id));
            if was.is_some_and(|was| is_as_told(was, alarm)) {
                continue;
            }
            is_changed = true;
            match alarm_id {
                Some(alarm_id) => write(&mut transaction, *alarm_id, alarm).await?,
                None => add(&mut transaction, instance_id, alarm).await?,
            }
        }
        transaction.commit().await?;
        Ok(is_changed)
    }

    /// Open alarms of instances; those with none are left out.
    pub async fn open_alarms(&self, instances: &[i32]) -> Result<HashMap<i32, Vec<AlarmRow>>> {
        let sql = format!("{SELECT} WHERE instance_id = ANY($1) AND closed_at IS NULL ORDER BY alarm_id");
        let rows = sqlx::query(AssertSqlSafe(sql)).bind(instances).fetch_all(&self.pool).await?;
        let mut alarms: HashMap<i32, Vec<AlarmRow>> = HashMap::new();
        for found in &rows {
            let found = row(found)?;
            alarms.entry(found.instance_id).or_default().push(found);
        }
        Ok(alarms)
    }

    /// Closed alarms, the last closed first, and how many there are.
    pub async fn closed_alarms(&self, filter: &AlarmFilter) -> Result<(Vec<AlarmRow>, i64)> {
        let condition = |sql: &mut QueryBuilder<sqlx::Postgres>| {
            sql.push(" WHERE closed_at IS NOT NULL");
            if let Some(instance_id) = filter.instance_id {
                sql.push(" AND instance_id = ").push_bind(instance_id);
            }
            if let Some(groups) = &filter.groups {
                sql.push(" AND group_name = ANY(").push_bind(groups.clone()).push(")");
            }
        };
        let mut sql = QueryBuilder::new(SELECT);
        condition(&mut sql);
        sql.push(" ORDER BY closed_at DESC, alarm_id DESC LIMIT ").push_bind(filter.limit);
        sql.push(" OFFSET ").push_bind(filter.offset);
        let rows = sql.build().fetch_all(&self.pool).await?;
        let mut sql = QueryBuilder::new("SELECT count(*) FROM alarm JOIN instance USING (instance_id)");
        condition(&mut sql);
        let count: i64 = sql.build_query_scalar().fetch_one(&self.pool).await?;
        Ok((rows.iter().map(row).collect::<Result<_>>()?, count))
    }

    /// Alarms of an instance that were open at some time of a window, the first opened first.
    pub async fn alarms_of(&self, instance_id: i32, window: Window) -> Result<Vec<AlarmRow>> {
        let sql = format!("{SELECT} WHERE instance_id = $1 AND (closed_at IS NULL OR closed_at > $2)");
        let rows =
            sqlx::query(AssertSqlSafe(sql)).bind(instance_id).bind(time(window.from)).fetch_all(&self.pool).await?;
        let mut alarms: Vec<AlarmRow> = rows.iter().map(row).collect::<Result<_>>()?;
        alarms.retain(|row| row.alarm.opened_at < window.to);
        alarms.sort_by_key(|row| (row.alarm.opened_at, row.alarm_id));
        Ok(alarms)
    }

    /// One alarm.
    pub async fn one_alarm(&self, alarm_id: i64) -> Result<Option<AlarmRow>> {
        let sql = format!("{SELECT} WHERE alarm_id = $1");
        let found = sqlx::query(AssertSqlSafe(sql)).bind(alarm_id).fetch_optional(&self.pool).await?;
        found.as_ref().map(row).transpose()
    }

    /// Somebody does something about an alarm; nothing where there is none of that number.
    pub async fn handle_alarm(
        &self,
        alarm_id: i64,
        handled: Handled,
        by: &str,
        at: Timestamp,
    ) -> Result<Option<std::result::Result<(), NotHandled>>> {
        let mut transaction = self.pool.begin().await?;
        let payload: Option<serde_json::Value> =
            sqlx::query_scalar("SELECT payload FROM alarm WHERE alarm_id = $1 FOR UPDATE")
                .bind(alarm_id)
                .fetch_optional(&mut *transaction)
                .await?;
        let Some(payload) = payload else { return Ok(None) };
        let mut alarm: Alarm = from_json("alarm", payload)?;
        let outcome = alarm.handle(handled, by, at);
        if outcome.is_ok() {
            write(&mut transaction, alarm_id, &alarm).await?;
            transaction.commit().await?;
        }
        Ok(Some(outcome))
    }

    /// Removes alarms that were closed long ago.
    pub async fn forget_old_alarms(&self, now: Timestamp) -> Result<()> {
        sqlx::query("DELETE FROM alarm WHERE closed_at < $1")
            .bind(time(now.plus_seconds(-KEPT_DAYS * SECONDS_PER_DAY)))
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

/// Whether an alarm says what it said, but for when it was last seen a moment ago.
fn is_as_told(was: &Alarm, is: &Alarm) -> bool {
    let is_fresh = is.seen_at.seconds_since(was.seen_at) < SEEN_WITHIN_SECONDS;
    is_fresh && Alarm { seen_at: is.seen_at, ..was.clone() } == *is
}

async fn add(transaction: &mut PgConnection, instance_id: i32, alarm: &Alarm) -> Result<()> {
    sqlx::query(
        "INSERT INTO alarm (instance_id, trouble, object, opened_at, closed_at, payload) VALUES ($1, $2, $3, $4, $5, $6)",
    )
    .bind(instance_id)
    .bind(alarm.sign.trouble.name())
    .bind(&alarm.sign.object)
    .bind(time(alarm.opened_at))
    .bind(alarm.closed_at.map(time))
    .bind(to_json("alarm", alarm)?)
    .execute(transaction)
    .await?;
    Ok(())
}

async fn write(transaction: &mut PgConnection, alarm_id: i64, alarm: &Alarm) -> Result<()> {
    sqlx::query(
        "UPDATE alarm SET trouble = $2, object = $3, opened_at = $4, closed_at = $5, payload = $6 WHERE alarm_id = $1",
    )
    .bind(alarm_id)
    .bind(alarm.sign.trouble.name())
    .bind(&alarm.sign.object)
    .bind(time(alarm.opened_at))
    .bind(alarm.closed_at.map(time))
    .bind(to_json("alarm", alarm)?)
    .execute(transaction)
    .await?;
    Ok(())
}
