//! Literal floods as they were last seen.

use chrono::{DateTime, Utc};
use hurnix_core::findings::literal_flood::TextsOfFamily;
use hurnix_core::{Timestamp, Window};

use crate::{Result, Store, at, time};

/// A flood of one family.
#[derive(Debug, Clone, PartialEq)]
pub struct LiteralFloodRow {
    /// Number of the family.
    pub family_id: i64,
    /// Its text.
    pub text: String,
    /// First reading in which its texts were many.
    pub since: Timestamp,
    /// Last such reading.
    pub seen_at: Timestamp,
    /// Its texts then.
    pub texts: i64,
    /// Bytes of these.
    pub text_bytes: i64,
    /// Statements in the server's list then, of all families.
    pub entries: i64,
}

impl Store {
    /// Notes the floods of one reading. One that was away for a day begins anew.
    pub async fn note_literal_floods(
        &self,
        instance_id: i32,
        seen_at: Timestamp,
        floods: &[(i64, TextsOfFamily)],
        entries: usize,
    ) -> Result<()> {
        if floods.is_empty() {
            return Ok(());
        }
        sqlx::query(
            "INSERT INTO literal_flood (instance_id, family_id, since_at, seen_at, texts, text_bytes, entries)
             SELECT $1, family_id, $2, $2, texts, text_bytes, $6
             FROM unnest($3::bigint[], $4::bigint[], $5::bigint[]) AS flood (family_id, texts, text_bytes)
             ON CONFLICT (instance_id, family_id) DO UPDATE SET
                since_at = CASE WHEN literal_flood.seen_at < excluded.seen_at - interval '1 day' THEN excluded.since_at ELSE literal_flood.since_at END,
                seen_at = excluded.seen_at, texts = excluded.texts, text_bytes = excluded.text_bytes, entries = excluded.entries
             WHERE literal_flood.seen_at <= excluded.seen_at",
        )
        .bind(instance_id)
        .bind(time(seen_at))
        .bind(floods.iter().map(|(family, _)| *family).collect::<Vec<_>>())
        .bind(floods.iter().map(|(_, of)| i64::from(of.texts)).collect::<Vec<_>>())
        .bind(floods.iter().map(|(_, of)| of.text_bytes as i64).collect::<Vec<_>>())
        .bind(entries as i64)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Floods that went on at some time of a window, those with most texts first.
    pub async fn literal_floods(&self, instance_id: i32, window: Window) -> Result<Vec<LiteralFloodRow>> {
        type Row = (i64, String, DateTime<Utc>, DateTime<Utc>, i64, i64, i64);
        let rows: Vec<Row> = sqlx::query_as(
            "SELECT family_id, text, since_at, seen_at, texts, text_bytes, entries
             FROM literal_flood JOIN family USING (instance_id, family_id)
             WHERE instance_id = $1 AND seen_at > $2 AND since_at <= $3 ORDER BY texts DESC, family_id",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let row = |(family_id, text, since, seen_at, texts, text_bytes, entries): Row| LiteralFloodRow {
            family_id,
            text,
            since: at(since),
            seen_at: at(seen_at),
            texts,
            text_bytes,
            entries,
        };
        Ok(rows.into_iter().map(row).collect())
    }
}
