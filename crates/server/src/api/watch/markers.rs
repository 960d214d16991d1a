use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_store::MarkerRow;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Body, Path, Tuner};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::{FieldProblem, Problem};
use crate::api::base::window::{given, moment};
use crate::api::base::word::{MarkerKindWord, Word};
use crate::state::{App, CLOCK_SECONDS, now};

/// Longest text of a marker, in characters.
const LONGEST_TEXT: usize = 200;

/// Something that happened at a time.
#[derive(Serialize, ToSchema)]
pub struct MarkerFigures {
    /// Number.
    marker_id: Id,
    /// When.
    at: DateTime<Utc>,
    /// What sort of thing.
    kind: MarkerKindWord,
    /// One line about it.
    text: String,
    /// Who noted it; nothing for what Hurnix found by itself.
    noted_by: Option<String>,
}

impl From<MarkerRow> for MarkerFigures {
    fn from(row: MarkerRow) -> Self {
        let MarkerRow { marker_id, at, kind, text, noted_by } = row;
        MarkerFigures { marker_id: Id(marker_id), at: moment(at), kind: Word(kind), text, noted_by }
    }
}

/// Something to be noted.
#[derive(Deserialize, ToSchema)]
pub struct NewMarker {
    /// One line about it, such as `release 12.4`.
    text: String,
    /// What sort of thing: `noted`, `backup` or `restore_test`; noted when left out.
    kind: Option<MarkerKindWord>,
    /// When it happened; now when left out.
    at: Option<DateTime<Utc>>,
}

/// What was noted.
#[derive(Serialize, ToSchema)]
pub struct NotedMarker {
    /// Its number.
    marker_id: Id,
}

/// Note that something happened: a release, a change elsewhere, a backup that was taken, a restore that was tried.
#[utoipa::path(post, path = "/instances/{instance_id}/markers", tag = "instances", params(("instance_id" = i32, Path)),
    request_body = NewMarker,
    responses((status = 201, body = NotedMarker), (status = 409, body = Problem)))]
pub async fn note_marker(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(instance_id): Path<i32>,
    Body(new): Body<NewMarker>,
) -> Result<(StatusCode, Json<NotedMarker>), Problem> {
    let text = new.text.trim();
    let mut errors = Vec::new();
    if text.is_empty() || text.chars().count() > LONGEST_TEXT {
        let remedy = format!("Give one line of 1 to {LONGEST_TEXT} characters.");
        errors.push(FieldProblem::new("text", &new.text, remedy));
    }
    let at = new.at.map_or(Ok(now()), |at| given("at", at)).unwrap_or_else(|fault| {
        errors.push(fault);
        now()
    });
    if at.seconds_since(now()) > CLOCK_SECONDS {
        errors.push(FieldProblem::new("at", moment(at).to_rfc3339(), "It lies in the future: give when it happened."));
    }
    let kind = new.kind.map_or(MarkerKind::Noted, |kind| kind.0);
    if !kind.is_told() {
        let known: Vec<&str> = MarkerKind::all().filter(|kind| kind.is_told()).map(MarkerKind::name).collect();
        errors.push(FieldProblem::new("kind", kind.name(), format!("Give one of {}.", known.join(", "))));
    }
    if !errors.is_empty() {
        return Err(Problem::invalid(errors));
    }
    find(&app, instance_id).await?;
    note.detail(text);
    let marker = Marker { at, kind, text: text.to_owned() };
    let marker_id = Id(app.store.note_marker(instance_id, &marker, &caller.name).await?);
    Ok((StatusCode::CREATED, Json(NotedMarker { marker_id })))
}

/// Take back a marker that somebody noted. What Hurnix found by itself stays.
#[utoipa::path(delete, path = "/instances/{instance_id}/markers/{marker_id}", tag = "instances",
    params(("instance_id" = i32, Path), ("marker_id" = String, Path)),
    responses((status = 204)))]
pub async fn take_back_marker(
    State(app): State<App>,
    _: Tuner,
    Path((instance_id, marker_id)): Path<(i32, i64)>,
) -> Result<StatusCode, Problem> {
    if app.store.take_back_marker(instance_id, marker_id).await? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::not_found("marker_id", "noted marker", marker_id))
    }
}
