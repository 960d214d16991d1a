use chrono::{DateTime, Duration, Utc};
use hurnix_core::findings::hold_up::{Episode, Over, over_since};
use hurnix_core::{Timestamp, Window};
use sqlx::PgConnection;
use sqlx::types::Json;

use crate::series::lock_looks::lock_looks;
use crate::series::partitions::lacking;
use crate::{Result, Store, at, time};

/// A hold-up that goes on into an hour is looked for so many hours back, in steps: most are short. Of one that began
/// before the last of them, the rest is kept.
const HOURS_BACK: [i64; 3] = [1, 6, 24];
/// After a session was last seen to wait, it takes some looks to tell that its hold-up is over.
const OVER_WITHIN: Duration = Duration::minutes(10);

/// The hold-ups that were over within an hour, which is given by its end.
pub(crate) type HoursHoldUps = (DateTime<Utc>, Vec<Episode>);

/// The hold-ups of an instance that were over within these hours, and that cost more than daily life does. Hours of which
/// no looks are kept any more are left out.
pub(crate) async fn hold_ups_over(
    connection: &mut PgConnection,
    instance_id: i32,
    ends: &[DateTime<Utc>],
) -> Result<Vec<HoursHoldUps>> {
    let hours: Vec<(DateTime<Utc>, bool)> = sqlx::query_as(
            "SELECT to_at, EXISTS (
                SELECT FROM activity WHERE instance_id = $1 AND cardinality(blocked_by) > 0
                    AND sampled_at > to_at - interval '1 hour' - $3 AND sampled_at <= to_at)
             FROM unnest($2::timestamptz[]) AS to_at WHERE EXISTS (
                SELECT FROM activity_sample WHERE instance_id = $1 AND sampled_at > to_at - interval '1 hour' AND sampled_at <= to_at)",
        )
        .bind(instance_id)
        .bind(ends)
        .bind(OVER_WITHIN)
        .fetch_all(&mut *connection)
        .await?;
    let mut found = Vec::new();
    for (end, has_waits) in hours {
        let begin = at(end - Duration::hours(1));
        let mut over = Vec::new();
        for hours in HOURS_BACK.into_iter().filter(|_| has_waits) {
            let window = Window { from: begin.plus_seconds(-3600.0 * hours as f64), to: at(end) };
            let Over { episodes, is_whole } = over_since(&lock_looks(connection, instance_id, window).await?, begin);
            over = episodes;
            if is_whole {
                break;
            }
        }
        over.retain(|episode| !episode.is_brief());
        found.push((end, over));
    }
    Ok(found)
}

/// Whether a table is that of the hold-ups that are kept.
pub(crate) fn is_of_hold_ups(table: &str) -> bool {
    table == "hold_up"
}

/// The ends of those hours for whose hold-ups there is no partition yet.
pub(crate) async fn without_room(connection: &mut PgConnection, found: &[HoursHoldUps]) -> Result<Vec<Timestamp>> {
    let mut without = Vec::new();
    for (end, _) in found.iter().filter(|(_, over)| !over.is_empty()) {
        let end = at(*end);
        if !lacking(connection, Window { from: end, to: end }, is_of_hold_ups).await?.is_empty() {
            without.push(end);
        }
    }
    Ok(without)
}

impl Store {
    /// Hold-ups that were kept of a window, the first ones first: those that cost more than daily life does.
    pub async fn kept_hold_ups(&self, instance_id: i32, window: Window) -> Result<Vec<Episode>> {
        let kept: Vec<Json<Episode>> = sqlx::query_scalar(
            "SELECT episode FROM hold_up WHERE instance_id = $1 AND to_at > $2 AND began_at < $3 ORDER BY began_at",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        // An hour tells of what was over before the window began, too.
        Ok(kept.into_iter().map(|Json(episode)| episode).filter(|episode| episode.to > window.from).collect())
    }

    /// The first look at the sessions of an instance that is kept one by one.
    pub async fn first_look_kept(&self, instance_id: i32) -> Result<Option<Timestamp>> {
        let first: Option<DateTime<Utc>> = sqlx::query_scalar(
            "SELECT sampled_at FROM activity_sample WHERE instance_id = $1 ORDER BY sampled_at LIMIT 1",
        )
        .bind(instance_id)
        .fetch_optional(&self.pool)
        .await?;
        Ok(first.map(at))
    }
}

/// Keeps the hold-ups of an instance that were over within some hours, in place of those that were kept of these before.
pub(crate) async fn replace_hold_ups(
    connection: &mut PgConnection,
    instance_id: i32,
    found: &[HoursHoldUps],
) -> Result<()> {
    let ends: Vec<DateTime<Utc>> = found.iter().map(|(end, _)| *end).collect();
    sqlx::query("DELETE FROM hold_up WHERE instance_id = $1 AND to_at = ANY($2)")
        .bind(instance_id)
        .bind(ends)
        .execute(&mut *connection)
        .await?;
    let episodes = || found.iter().flat_map(|(end, over)| over.iter().map(move |episode| (end, episode)));
    let to_at: Vec<DateTime<Utc>> = episodes().map(|(end, _)| *end).collect();
    let began_at: Vec<DateTime<Utc>> = episodes().map(|(_, episode)| time(episode.from)).collect();
    let kept: Vec<Json<&Episode>> = episodes().map(|(_, episode)| Json(episode)).collect();
    sqlx::query(
        "INSERT INTO hold_up (instance_id, to_at, began_at, episode)
         SELECT $1, * FROM unnest($2::timestamptz[], $3::timestamptz[], $4::jsonb[])",
    )
    .bind(instance_id)
    .bind(to_at)
    .bind(began_at)
    .bind(kept)
    .execute(connection)
    .await?;
    Ok(())
}
