use hurnix_core::findings::cause::LockSeen;
use hurnix_core::{WaitKind, Window};
use sqlx::Row;

use crate::{Result, Store, time};

/// Waiting sessions that are looked at.
const MOST_WAITS: i64 = 2_000;

impl Store {
    /// The lock that a family mostly waited for in a window, and who mostly held it; nothing where it was not seen waiting,
    /// or what was seen is kept as sums only.
    pub async fn lock_waits(&self, instance_id: i32, family_id: i64, window: Window) -> Result<Option<LockSeen>> {
        let row = sqlx::query(
            "WITH waiting AS (
                SELECT sampled_at, blocked_by, lock_mode_id, lock_object_id FROM activity
                WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3 AND family_id = $4 AND wait_kind = $5
                ORDER BY sampled_at DESC LIMIT $6),
             holding AS (
                SELECT program_id, family_id, wait_kind IS NULL AS is_idle, count(*) AS seen
                FROM waiting JOIN activity AS holder ON instance_id = $1 AND holder.sampled_at = waiting.sampled_at
                    AND holder.process = ANY(waiting.blocked_by)
                GROUP BY 1, 2, 3 ORDER BY 4 DESC LIMIT 1)
             SELECT (SELECT name FROM waiting JOIN name ON name_id = lock_object_id GROUP BY 1 ORDER BY count(*) DESC LIMIT 1) AS object,
                (SELECT name FROM waiting JOIN name ON name_id = lock_mode_id GROUP BY 1 ORDER BY count(*) DESC LIMIT 1) AS mode,
                (SELECT name FROM holding JOIN name ON name_id = program_id) AS program,
                (SELECT text FROM holding JOIN family USING (family_id)) AS statement,
                coalesce((SELECT is_idle FROM holding), false) AS is_idle,
                (SELECT count(*) FROM waiting) AS seen",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .bind(family_id)
        .bind(WaitKind::Lock.position() as i16)
        .bind(MOST_WAITS)
        .fetch_one(&self.pool)
        .await?;
        let text = |column: &str| row.get::<Option<String>, _>(column).filter(|text| !text.is_empty());
        Ok((row.get::<i64, _>("seen") > 0).then(|| LockSeen {
            object: text("object"),
            mode: text("mode"),
            program: text("program"),
            statement: text("statement"),
            is_idle: row.get("is_idle"),
        }))
    }
}
