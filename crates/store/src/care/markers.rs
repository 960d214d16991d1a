use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_core::{Named, Timestamp, Window};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, StoreProblem, at, time, word};

/// Something that happened at a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MarkerRow {
    /// Number.
    pub marker_id: i64,
    /// When.
    pub at: Timestamp,
    /// What sort of thing.
    pub kind: MarkerKind,
    /// One line about it.
    pub text: String,
    /// Who noted it; nothing for what the collector found.
    pub noted_by: Option<String>,
}

impl Store {
    /// Keeps markers; those that are there already stay single.
    pub async fn add_markers(&self, instance_id: i32, markers: &[Marker]) -> Result<()> {
        for marker in markers {
            sqlx::query(
                "INSERT INTO marker (instance_id, at, kind, text) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING",
            )
            .bind(instance_id)
            .bind(time(marker.at))
            .bind(marker.kind.name())
            .bind(&marker.text)
            .execute(&self.pool)
            .await?;
        }
        Ok(())
    }

    /// Keeps a marker that was brought in; one that is there already stays. Says whether it was new.
    pub async fn add_marker(&self, instance_id: i32, marker: &Marker, noted_by: Option<&str>) -> Result<bool> {
        let written = sqlx::query(
            "INSERT INTO marker (instance_id, at, kind, text, noted_by) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING",
        )
        .bind(instance_id)
        .bind(time(marker.at))
        .bind(marker.kind.name())
        .bind(&marker.text)
        .bind(noted_by)
        .execute(&self.pool)
        .await?;
        Ok(written.rows_affected() > 0)
    }

    /// Keeps a marker that somebody noted; answers with its number.
    pub async fn note_marker(&self, instance_id: i32, marker: &Marker, noted_by: &str) -> Result<i64> {
        let id = sqlx::query_scalar(
            "INSERT INTO marker (instance_id, at, kind, text, noted_by) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT DO NOTHING RETURNING marker_id",
        )
        .bind(instance_id)
        .bind(time(marker.at))
        .bind(marker.kind.name())
        .bind(&marker.text)
        .bind(noted_by)
        .fetch_optional(&self.pool)
        .await?;
        id.ok_or_else(|| StoreProblem::Taken { field: "at", what: "such a marker", value: marker.text.clone() })
    }

    /// Takes back a marker that somebody noted; what the collector found stays. Says whether there was one.
    pub async fn take_back_marker(&self, instance_id: i32, marker_id: i64) -> Result<bool> {
        let gone = sqlx::query("DELETE FROM marker WHERE instance_id = $1 AND marker_id = $2 AND noted_by IS NOT NULL")
            .bind(instance_id)
            .bind(marker_id)
            .execute(&self.pool)
            .await?;
        Ok(gone.rows_affected() > 0)
    }

    /// The newest marker of a kind.
    pub async fn newest_marker(&self, instance_id: i32, kind: MarkerKind) -> Result<Option<MarkerRow>> {
        let row = sqlx::query(
            "SELECT marker_id, at, kind, text, noted_by FROM marker WHERE instance_id = $1 AND kind = $2 ORDER BY at DESC LIMIT 1",
        )
        .bind(instance_id)
        .bind(kind.name())
        .fetch_optional(&self.pool)
        .await?;
        row.as_ref().map(marker_row).transpose()
    }

    /// One marker.
    pub async fn marker(&self, instance_id: i32, marker_id: i64) -> Result<Option<MarkerRow>> {
        let row = sqlx::query(
            "SELECT marker_id, at, kind, text, noted_by FROM marker WHERE instance_id = $1 AND marker_id = $2",
        )
        .bind(instance_id)
        .bind(marker_id)
        .fetch_optional(&self.pool)
        .await?;
        row.as_ref().map(marker_row).transpose()
    }

    /// Markers of a window in order of time, the newest thousand.
    pub async fn markers(&self, instance_id: i32, window: Window) -> Result<Vec<MarkerRow>> {
        let rows = sqlx::query(
            "SELECT * FROM (SELECT marker_id, at, kind, text, noted_by FROM marker WHERE instance_id = $1 AND at >= $2 AND at < $3
             ORDER BY at DESC LIMIT 1000) newest ORDER BY at, marker_id",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(marker_row).collect()
    }
}

fn marker_row(row: &PgRow) -> Result<MarkerRow> {
    Ok(MarkerRow {
        marker_id: row.get("marker_id"),
        at: at(row.get("at")),
        kind: word(row, "kind")?,
        text: row.get("text"),
        noted_by: row.get("noted_by"),
    })
}
