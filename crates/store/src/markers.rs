use hurnix_core::marker::Marker;
use hurnix_core::{At, Window};
use sqlx::Row;

use crate::{Result, Store, at, time};

/// Something that happened at a time.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MarkerRow {
    /// Number.
    pub marker_id: i64,
    /// When.
    pub at: At,
    /// What sort of thing.
    pub kind: String,
    /// One line about it.
    pub text: String,
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

    /// Markers of a window in order of time, the newest thousand.
    pub async fn markers(&self, instance_id: i32, window: Window) -> Result<Vec<MarkerRow>> {
        let rows = sqlx::query(
            "SELECT * FROM (SELECT marker_id, at, kind, text FROM marker WHERE instance_id = $1 AND at >= $2 AND at < $3
             ORDER BY at DESC LIMIT 1000) newest ORDER BY at, marker_id",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        Ok(rows
            .iter()
            .map(|row| MarkerRow {
                marker_id: row.get("marker_id"),
                at: at(row.get("at")),
                kind: row.get("kind"),
                text: row.get("text"),
            })
            .collect())
    }
}
