use hurnix_core::findings::lasting_change::LastingChange;
use hurnix_core::{Timestamp, Window};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, from_json, time, to_json};

/// A lasting change to be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct ChangeDraft {
    /// The family that changed.
    pub family_id: i64,
    /// The change.
    pub change: LastingChange,
}

/// A lasting change with the family it is about.
#[derive(Debug, Clone, PartialEq)]
pub struct ChangeRow {
    /// Number.
    pub change_id: i64,
    /// The family that changed.
    pub family_id: i64,
    /// Its text.
    pub text: String,
    /// When the change was first found.
    pub found_at: Timestamp,
    /// The change.
    pub change: LastingChange,
}

fn change(row: &PgRow) -> Result<ChangeRow> {
    Ok(ChangeRow {
        change_id: row.get("change_id"),
        family_id: row.get("family_id"),
        text: row.get("text"),
        found_at: at(row.get("found_at")),
        change: from_json("lasting change", row.get("payload"))?,
    })
}

impl Store {
    /// Brings the changes with an onset inside `window` to what was found there now.
    ///
    /// A change found before in the same family and direction, with an onset within `tolerance_seconds`,
    /// is the same change: it keeps its number and the time when it was first found. Changes of the
    /// window that are not found again are dropped: more figures showed that they did not last.
    pub async fn write_changes(
        &self,
        instance_id: i32,
        window: Window,
        now: Timestamp,
        tolerance_seconds: f64,
        found: &[ChangeDraft],
    ) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let known = sqlx::query(
            "SELECT change_id, family_id, onset_at, ratio FROM lasting_change
             WHERE instance_id = $1 AND onset_at >= $2 AND onset_at < $3 FOR UPDATE",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&mut *transaction)
        .await?;
        let mut again: Vec<i64> = Vec::new();
        for ChangeDraft { family_id, change } in found {
            let same = known.iter().find(|row| {
                row.get::<i64, _>("family_id") == *family_id
                    && (row.get::<f64, _>("ratio") > 1.0) == (change.ratio.value > 1.0)
                    && at(row.get("onset_at")).seconds_since(change.onset).abs() <= tolerance_seconds
            });
            let payload = to_json("lasting change", change)?;
            match same.map(|row| row.get::<i64, _>("change_id")) {
                Some(change_id) => {
                    again.push(change_id);
                    sqlx::query(
                        "UPDATE lasting_change SET onset_at = $2, ratio = $3, payload = $4 WHERE change_id = $1",
                    )
                    .bind(change_id)
                    .bind(time(change.onset))
                    .bind(change.ratio.value)
                    .bind(payload)
                    .execute(&mut *transaction)
                    .await?;
                }
                None => {
                    sqlx::query(
                        "INSERT INTO lasting_change (instance_id, family_id, onset_at, found_at, ratio, payload)
                         VALUES ($1, $2, $3, $4, $5, $6)",
                    )
                    .bind(instance_id)
                    .bind(family_id)
                    .bind(time(change.onset))
                    .bind(time(now))
                    .bind(change.ratio.value)
                    .bind(payload)
                    .execute(&mut *transaction)
                    .await?;
                }
            }
        }
        let gone: Vec<i64> =
            known.iter().map(|row| row.get("change_id")).filter(|change_id| !again.contains(change_id)).collect();
        sqlx::query("DELETE FROM lasting_change WHERE change_id = ANY($1)")
            .bind(&gone)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// The newest changes of an instance with an onset at `since` or later.
    pub async fn changes(&self, instance_id: i32, since: Timestamp, most: i64) -> Result<Vec<ChangeRow>> {
        let rows = sqlx::query(
            "SELECT change_id, family_id, text, found_at, payload FROM lasting_change JOIN family USING (family_id)
             WHERE lasting_change.instance_id = $1 AND onset_at >= $3 ORDER BY onset_at DESC LIMIT $2",
        )
        .bind(instance_id)
        .bind(most)
        .bind(time(since))
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(change).collect()
    }

    /// The changes of one family, the newest first.
    pub async fn family_changes(&self, family_id: i64, most: i64) -> Result<Vec<ChangeRow>> {
        let rows = sqlx::query(
            "SELECT change_id, family_id, text, found_at, payload FROM lasting_change JOIN family USING (family_id)
             WHERE family_id = $1 ORDER BY onset_at DESC LIMIT $2",
        )
        .bind(family_id)
        .bind(most)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(change).collect()
    }
}
