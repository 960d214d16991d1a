//! How long sessions were seen waiting.

use axum::Json;
use axum::extract::State;
use hurnix_core::findings::hold_up::Lengths;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::WindowQuery;
use crate::api::diagnose::load::{LoadQuery, only};
use crate::state::App;
use crate::wait_lengths::{NotFollowed, WaitsSeen, waits_seen};

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
    find(&app, instance_id).await?;
    let refused = |remedy: &str| Problem::invalid(vec![FieldProblem::new("from", query.from, remedy)]);
    let WaitsSeen { looks, look_seconds, lengths } =
        waits_seen(&app.store, instance_id, window, &only).await?.map_err(|not_followed| match not_followed {
            NotFollowed::TooLong => refused(
                "Give a window of up to six hours: looks of longer ones are too many to be followed one by one.",
            ),
            NotFollowed::TooMany => {
                refused("Too many sessions waited in this window to follow each: give a shorter one, or narrow it.")
            }
        })?;
    Ok(Json(LoadLengths { looks, look_seconds, lengths: lengths.into_iter().map(WaitLengths::from).collect() }))
}
