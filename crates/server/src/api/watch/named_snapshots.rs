//! Snapshots with a name: everything is read at once, and kept until somebody deletes it.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::instance::collection_state::CollectionState;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_store::NamedSnapshot;
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Body, Path, SignedIn, Tuner};
use crate::api::base::figures::Id;
use crate::api::base::find::{find, find_watched};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::state::{App, now};

/// Longest name, in characters.
const LONGEST_NAME: usize = 100;

/// A snapshot with a name.
#[derive(Serialize, ToSchema)]
pub struct SnapshotFigures {
    /// Number.
    snapshot_id: Id,
    /// Its name.
    name: String,
    /// When it was asked for.
    asked_at: DateTime<Utc>,
    /// Who asked for it.
    asked_by: String,
    /// When the first of it was read, by the watched server's clock; nothing while nothing was.
    taken_at: Option<DateTime<Utc>>,
    /// Kinds of counters that it holds.
    kinds: Vec<String>,
}

impl From<NamedSnapshot> for SnapshotFigures {
    fn from(snapshot: NamedSnapshot) -> Self {
        SnapshotFigures {
            snapshot_id: Id(snapshot.snapshot_id),
            name: snapshot.name,
            asked_at: moment(snapshot.asked_at),
            asked_by: snapshot.asked_by,
            taken_at: snapshot.readings.iter().map(|(_, at)| *at).min().map(moment),
            kinds: snapshot.readings.into_iter().map(|(kind, _)| kind).collect(),
        }
    }
}

/// A snapshot to be taken.
#[derive(Deserialize, ToSchema)]
pub struct NewSnapshot {
    /// Its name, such as `before release 12.4`.
    name: String,
}

/// Snapshots of an instance that have a name, the newest first.
#[utoipa::path(get, path = "/instances/{instance_id}/snapshots", tag = "instances", params(("instance_id" = i32, Path)),
    responses((status = 200, body = Vec<SnapshotFigures>)))]
pub async fn list_snapshots(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<Vec<SnapshotFigures>> {
    find(&app, instance_id).await?;
    let snapshots = app.store.named_snapshots(instance_id).await?;
    Ok(Json(snapshots.into_iter().map(SnapshotFigures::from).collect()))
}

/// Read everything now and keep it under a name, whatever is kept of figures. It takes a few seconds; a marker tells of it.
#[utoipa::path(post, path = "/instances/{instance_id}/snapshots", tag = "instances", params(("instance_id" = i32, Path)),
    request_body = NewSnapshot, responses((status = 202, body = SnapshotFigures), (status = 409, body = Problem)))]
pub async fn take_snapshot(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(instance_id): Path<i32>,
    Body(new): Body<NewSnapshot>,
) -> Result<(StatusCode, Json<SnapshotFigures>), Problem> {
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > LONGEST_NAME {
        let remedy = format!("Give 1 to {LONGEST_NAME} characters.");
        return Err(Problem::invalid(vec![FieldProblem::new("name", &new.name, remedy)]));
    }
    let instance = find_watched(&app, instance_id).await?;
    if instance.collection != CollectionState::Collecting {
        let remedy = "The instance is not read just now: see its page Collection, and take the snapshot once it is.";
        return Err(Problem::conflict(FieldProblem::new("instance_id", instance.label, remedy)));
    }
    note.detail(name);
    let at = now();
    let snapshot_id = app.store.ask_for_named_snapshot(instance_id, name, &caller.name, at).await?;
    let marker = Marker { at, kind: MarkerKind::Noted, text: format!("snapshot {name}") };
    app.store.note_marker(instance_id, &marker, &caller.name).await?;
    app.instances_changed.notify_one();
    let asked =
        NamedSnapshot { snapshot_id, name: name.to_owned(), asked_at: at, asked_by: caller.name, readings: Vec::new() };
    Ok((StatusCode::ACCEPTED, Json(asked.into())))
}

/// Delete a snapshot with a name. Figures that are kept anyway stay.
#[utoipa::path(delete, path = "/instances/{instance_id}/snapshots/{snapshot_id}", tag = "instances",
    params(("instance_id" = i32, Path), ("snapshot_id" = String, Path)), responses((status = 204)))]
pub async fn remove_snapshot(
    State(app): State<App>,
    _: Tuner,
    note: AuditNote,
    Path((instance_id, snapshot_id)): Path<(i32, i64)>,
) -> Result<StatusCode, Problem> {
    let known = app.store.named_snapshots(instance_id).await?;
    note.detail(known.into_iter().find(|one| one.snapshot_id == snapshot_id).map(|one| one.name).unwrap_or_default());
    if app.store.remove_named_snapshot(instance_id, snapshot_id).await? {
        Ok(StatusCode::NO_CONTENT)
    } else {
        Err(Problem::not_found("snapshot_id", "snapshot", snapshot_id))
    }
}
