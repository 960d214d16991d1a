//! Families whose statements differ in literals only, and fill the server's list of statements.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_store::LiteralFloodRow;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{Id, StatementFigures};
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{WindowQuery, moment, summed_by};
use crate::state::App;

/// Very many texts of one family.
#[derive(Serialize, ToSchema)]
pub struct LiteralFlood {
    /// Number of the family.
    family_id: Id,
    /// Text of the family: that of all its statements, without literals.
    text: String,
    /// First reading in which its texts were many.
    since: DateTime<Utc>,
    /// Last such reading; the figures below are those of this one.
    seen_at: DateTime<Utc>,
    /// Statements of this family in the server's list.
    texts: i64,
    /// Statements in that list, of all families.
    entries: i64,
    /// Share of the list.
    share: f64,
    /// Bytes of their texts.
    text_bytes: i64,
    /// What the family cost in the window, planning included where the server counts that.
    figures: StatementFigures,
}

impl LiteralFlood {
    /// With what the family cost in a window.
    pub fn new(row: LiteralFloodRow, counters: &StatementCounters) -> LiteralFlood {
        LiteralFlood {
            family_id: Id(row.family_id),
            text: row.text,
            since: moment(row.since),
            seen_at: moment(row.seen_at),
            texts: row.texts,
            entries: row.entries,
            share: row.texts as f64 / row.entries.max(1) as f64,
            text_bytes: row.text_bytes,
            figures: counters.into(),
        }
    }
}

/// Literal floods that went on at some time of a window, those with most texts first.
#[utoipa::path(get, path = "/instances/{instance_id}/literal-floods", tag = "diagnose",
    params(("instance_id" = i32, Path), WindowQuery), responses((status = 200, body = Vec<LiteralFlood>)))]
pub async fn list_literal_floods(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<WindowQuery>,
) -> Answer<Vec<LiteralFlood>> {
    let window = query.window()?;
    find(&app, instance_id).await?;
    let pieces = summed_by(&app, instance_id, &[RetentionGroup::Statements], window).await?;
    let mut floods = Vec::new();
    for row in app.store.literal_floods(instance_id, window).await? {
        let counters = app.store.family_sum(instance_id, row.family_id, &pieces).await?;
        floods.push(LiteralFlood::new(row, &counters));
    }
    Ok(Json(floods))
}
