use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::keeping::pace::Cost;
use hurnix_core::readings::figures::{Figures, Tally};
use hurnix_core::{Named, Timestamp, Window};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, time, word};

/// How reading one kind of figures went in one hour.
#[derive(Debug, Clone, PartialEq)]
pub struct TallyRow {
    /// The kind.
    pub figures: Figures,
    /// Start of the hour.
    pub hour: Timestamp,
    /// How it went.
    pub tally: Tally,
}

impl Store {
    /// Adds to the tallies of the hour of `now`.
    pub async fn add_tallies(&self, instance_id: i32, now: Timestamp, tallies: &[(Figures, Tally)]) -> Result<()> {
        let of = |figure: fn(&Tally) -> i64| tallies.iter().map(|(_, tally)| figure(tally)).collect::<Vec<i64>>();
        let names: Vec<&str> = tallies.iter().map(|(figures, _)| figures.name()).collect();
        sqlx::query(
            "INSERT INTO collection_tally (instance_id, hour, figures, read, refused, missed, dropped, read_us, bytes, last_read_at)
             SELECT $1, date_trunc('hour', $2::timestamptz), *, CASE WHEN read > 0 THEN $2 END
             FROM unnest($3::text[], $4::bigint[], $5::bigint[], $6::bigint[], $7::bigint[], $8::bigint[], $9::bigint[])
                AS tally(figures, read, refused, missed, dropped, read_us, bytes)
             ON CONFLICT (instance_id, hour, figures) DO UPDATE SET
                read = collection_tally.read + excluded.read, refused = collection_tally.refused + excluded.refused,
                missed = collection_tally.missed + excluded.missed, dropped = collection_tally.dropped + excluded.dropped,
                read_us = collection_tally.read_us + excluded.read_us, bytes = collection_tally.bytes + excluded.bytes,
                last_read_at = coalesce(excluded.last_read_at, collection_tally.last_read_at)",
        )
        .bind(instance_id)
        .bind(time(now))
        .bind(&names)
        .bind(of(|tally| tally.read))
        .bind(of(|tally| tally.refused))
        .bind(of(|tally| tally.missed))
        .bind(of(|tally| tally.dropped))
        .bind(of(|tally| tally.read_us))
        .bind(of(|tally| tally.bytes))
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Tallies of the hours that a window touches, in order of time.
    pub async fn tallies(&self, instance_id: i32, window: Window) -> Result<Vec<TallyRow>> {
        let rows = sqlx::query(
            "SELECT figures, hour, read, refused, missed, dropped, read_us, bytes FROM collection_tally
             WHERE instance_id = $1 AND hour >= date_trunc('hour', $2::timestamptz) AND hour < $3 ORDER BY hour, figures",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let row = |row: &PgRow| {
            let tally = Tally {
                read: row.get("read"),
                refused: row.get("refused"),
                missed: row.get("missed"),
                dropped: row.get("dropped"),
                read_us: row.get("read_us"),
                bytes: row.get("bytes"),
            };
            Ok(TallyRow { figures: word(row, "figures")?, hour: at(row.get("hour")), tally })
        };
        rows.iter().map(row).collect()
    }

    /// When each kind of figures was last read, by its name, to within a write; nothing is told of those that
    /// never were.
    pub async fn last_reads(&self, instance_id: i32) -> Result<HashMap<String, Timestamp>> {
        let rows: Vec<(String, DateTime<Utc>)> = sqlx::query_as(
            "SELECT figures, max(last_read_at) FROM collection_tally
             WHERE instance_id = $1 AND last_read_at IS NOT NULL GROUP BY 1",
        )
        .bind(instance_id)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().map(|(figures, last)| (figures, at(last))).collect())
    }

    /// Notes at what pace an instance is read: what that costs in a second, and the largest factor by which
    /// an interval is stretched.
    pub async fn note_pace(&self, instance_id: i32, cost: Cost, stretch: f64) -> Result<()> {
        sqlx::query("UPDATE instance SET cost_share = $2, cost_bytes = $3, stretch = $4 WHERE instance_id = $1")
            .bind(instance_id)
            .bind(cost.seconds as f32)
            .bind(cost.bytes as f32)
            .bind(stretch as f32)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}
