use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use sqlx::PgConnection;

use crate::{Result, Store, time};

/// Notes which texts and names the hours that end at `ends` refer to, or what was read in them does. Once a
/// day is enough to know what is still in use.
pub(crate) async fn note_seen(
    connection: &mut PgConnection,
    instance_id: i32,
    ends: &[DateTime<Utc>],
) -> sqlx::Result<()> {
    let Some(last) = ends.iter().max() else { return Ok(()) };
    sqlx::query(
        "UPDATE family SET last_seen_at = $3 FROM (
            SELECT unnest(family_id) AS family_id FROM statement_hour WHERE instance_id = $1 AND to_at = ANY($2)
            UNION SELECT unnest(family_id) FROM nested_statement_hour WHERE instance_id = $1 AND to_at = ANY($2)
            UNION SELECT family_id FROM activity_hour WHERE instance_id = $1 AND to_at = ANY($2)) seen
         WHERE family.family_id = seen.family_id AND family.last_seen_at < $3 - interval '1 day'",
    )
    .bind(instance_id)
    .bind(ends)
    .bind(last)
    .execute(&mut *connection)
    .await?;
    sqlx::query(
        "UPDATE name SET last_seen_at = $3 FROM (
            SELECT unnest(account_id || database_id) AS name_id FROM statement_hour WHERE instance_id = $1 AND to_at = ANY($2)
            UNION SELECT unnest(account_id || database_id) FROM nested_statement_hour WHERE instance_id = $1 AND to_at = ANY($2)
            UNION SELECT unnest(ARRAY[event_id, account_id, program_id, client_id, database_id, lock_object_id]) FROM activity_hour
                  WHERE instance_id = $1 AND to_at = ANY($2)
            UNION SELECT unnest(object_id) FROM measure_hour WHERE instance_id = $1 AND to_at = ANY($2)
            UNION SELECT unnest(ARRAY[lock_mode_id, lock_kind_id, lock_object_id]) FROM activity
                  WHERE instance_id = $1 AND sampled_at > $4 AND sampled_at <= $3 AND lock_mode_id IS NOT NULL) seen
         WHERE name.name_id = seen.name_id AND name.last_seen_at < $3 - interval '1 day'",
    )
    .bind(instance_id)
    .bind(ends)
    .bind(last)
    .bind(ends.iter().min().map(|first| *first - chrono::Duration::hours(1)))
    .execute(connection)
    .await?;
    Ok(())
}

/// What was forgotten.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Forgotten {
    /// Texts of statements, with their plans.
    pub texts: u64,
    /// Names.
    pub names: u64,
}

impl Store {
    /// Forgets what nothing refers to any more: texts and names not seen since the oldest figures kept, and
    /// tallies older than those.
    pub async fn forget_unused(&self, now: Timestamp) -> Result<Forgotten> {
        let oldest = time(self.retention.since_ever(now));
        sqlx::query("DELETE FROM collection_tally WHERE hour < $1").bind(oldest).execute(&self.pool).await?;
        // The note of when something was last seen may be a day behind.
        let unseen = oldest - chrono::Duration::days(2);
        let texts = sqlx::query("DELETE FROM family WHERE last_seen_at < $1").bind(unseen).execute(&self.pool).await?;
        let names = sqlx::query("DELETE FROM name WHERE last_seen_at < $1").bind(unseen).execute(&self.pool).await?;
        Ok(Forgotten { texts: texts.rows_affected(), names: names.rows_affected() })
    }
}
