//! What an instance can tell: each kind of figures with how it stands, why, and what it costs.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::instance::engine::Engine;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, SignedIn, Tuner};
use crate::api::base::find::{find, there_was};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{AvailabilityWord, FiguresWord, Word};
use crate::availability::{AvailabilityOf, availabilities};
use crate::state::{App, now};

/// A kind of figures of an instance.
#[derive(Serialize, ToSchema)]
pub struct FiguresTold {
    /// Name of the kind.
    figures: FiguresWord,
    /// What it contains, and what is missing without it.
    tells: &'static str,
    /// `collected`, `limited`, `absent`, `overdue` or `waiting`.
    availability: AvailabilityWord,
    /// What keeps it, or a part of it, from being read.
    obstacles: Vec<ObstacleTold>,
    /// When it was last read, to within a few seconds.
    last_read_at: Option<DateTime<Utc>>,
    /// Seconds from one reading to the next, before stretching.
    interval_seconds: f64,
    /// Readings of the last 24 hours.
    read: i64,
    /// Readings of that time that the server refused or did not answer in time.
    refused: i64,
    /// Readings of that time that were due and not made.
    missed: i64,
    /// Readings of that time that were lost because the repository was away for too long.
    dropped: i64,
    /// Mean time that the server took to answer, in milliseconds.
    mean_read_ms: Option<f64>,
    /// Mean size of what was read, in bytes.
    mean_bytes: Option<f64>,
    /// Share of one core that reading it takes at this interval, at most.
    cost_share: Option<f64>,
}

/// What keeps figures from being read.
#[derive(Serialize, ToSchema)]
pub struct ObstacleTold {
    /// Why, and what is lost by it.
    reason: String,
    /// What removes it.
    remedy: String,
}

/// What an instance can tell, kind by kind.
#[utoipa::path(get, path = "/instances/{instance_id}/figures", tag = "instances", params(("instance_id" = i32, Path)),
    responses((status = 200, body = Vec<FiguresTold>)))]
pub async fn list_figures(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<Vec<FiguresTold>> {
    let instance = find(&app, instance_id).await?;
    let told = |of: AvailabilityOf| {
        let AvailabilityOf { figures, availability, obstacles, last_read_at, interval_seconds, tally } = of;
        let mean = |sum: i64| (tally.read > 0).then(|| sum as f64 / tally.read as f64);
        let mean_read_ms = mean(tally.read_us).map(|us| us / 1e3);
        FiguresTold {
            figures: Word(figures),
            tells: figures.tell(),
            availability: Word(availability),
            obstacles: obstacles
                .into_iter()
                .map(|limit| ObstacleTold { reason: limit.reason, remedy: limit.remedy })
                .collect(),
            last_read_at: last_read_at.map(moment),
            interval_seconds,
            read: tally.read,
            refused: tally.refused,
            missed: tally.missed,
            dropped: tally.dropped,
            mean_read_ms,
            mean_bytes: mean(tally.bytes),
            cost_share: mean_read_ms.map(|ms| ms / 1e3 / interval_seconds),
        }
    };
    Ok(Json(availabilities(&app, &instance, now()).await?.into_iter().map(told).collect()))
}

/// Read everything now, instead of waiting for the next of each. It takes a few seconds.
#[utoipa::path(post, path = "/instances/{instance_id}/snapshot", tag = "instances", params(("instance_id" = i32, Path)),
    responses((status = 202)))]
pub async fn ask_for_snapshot(
    State(app): State<App>,
    _: Tuner,
    Path(instance_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    let instance = find(&app, instance_id).await?;
    if instance.engine == Engine::Bundle {
        let remedy = "Its figures are imported from bundles: there is nothing to read.";
        return Err(Problem::invalid(vec![FieldProblem::new("instance_id", instance_id, remedy)]));
    }
    there_was(instance_id, app.store.ask_for_snapshot(instance_id).await?)?;
    app.instances_changed.notify_one();
    Ok(StatusCode::ACCEPTED)
}
