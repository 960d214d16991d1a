//! How long sessions were seen waiting.

use axum::Json;
use axum::extract::State;
use hurnix_core::findings::hold_up::{Lengths, stands_for};
use hurnix_core::findings::robust::quantile;
use hurnix_core::findings::wait_lengths::wait_lengths;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::WindowQuery;
use crate::api::diagnose::load::{LoadQuery, only};
use crate::state::App;

/// Longest window whose looks are followed session by session.
const LONGEST_SECONDS: f64 = 6.0 * 3600.0;

/// Waits of about the same length.
#[derive(Serialize, ToSchema)]
pub struct WaitLengths {
    /// They lasted so many seconds at least, and less than the next.
    from_seconds: f64,
    /// How many.
    waits: usize,
    /// Seconds that sessions lost to them.
    lost_seconds: f64,
}

impl From<Lengths> for WaitLengths {
    fn from(Lengths { from_seconds, waits, lost_seconds }: Lengths) -> Self {
        WaitLengths { from_seconds, waits, lost_seconds }
    }
}

/// Waiting sessions, each at each look, that are followed at most.
const MOST_SEEN: usize = 400_000;

/// How long sessions were seen waiting.
#[derive(Serialize, ToSchema)]
pub struct LoadLengths {
    /// Looks in the window that are kept one by one.
    looks: usize,
    /// Seconds between two of them, the median.
    look_seconds: f64,
    /// Waits by their length, the shortest first.
    lengths: Vec<WaitLengths>,
}

/// How long sessions were seen waiting without a break, in a window of up to six hours: the same event in the same
/// statement, at looks in a row.
#[utoipa::path(get, path = "/instances/{instance_id}/load/lengths", tag = "diagnose",
    params(("instance_id" = i32, Path), LoadQuery),
    responses((status = 200, body = LoadLengths)))]
pub async fn load_lengths(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<LoadQuery>,
) -> Answer<LoadLengths> {
    let only = only(query.only.as_deref())?;
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    if window.seconds() > LONGEST_SECONDS {
        let remedy = "Give a window of up to six hours: looks of longer ones are too many to be followed one by one.";
        return Err(Problem::invalid(vec![FieldProblem::new("from", query.from, remedy)]));
    }
    find(&app, instance_id).await?;
    let (looks, seen) = app.store.seen_waiting(instance_id, window, &only, MOST_SEEN + 1).await?;
    if seen.len() > MOST_SEEN {
        let remedy = "Too many sessions waited in this window to follow each: give a shorter one, or narrow it.";
        return Err(Problem::invalid(vec![FieldProblem::new("from", query.from, remedy)]));
    }
    let told = tokio::task::spawn_blocking(move || {
        let look_seconds = quantile(&stands_for(&looks), 0.5).unwrap_or_default();
        (looks.len(), look_seconds, wait_lengths(&looks, &seen))
    });
    let (looks, look_seconds, lengths) = told.await.map_err(Problem::internal)?;
    Ok(Json(LoadLengths { looks, look_seconds, lengths: lengths.into_iter().map(WaitLengths::from).collect() }))
}
