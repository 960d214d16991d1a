use std::time::Duration;

use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::{Timestamp, Window};
use hurnix_store::Pieces;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::problem::{FieldProblem, Problem};
use crate::state::{App, CLOCK_SECONDS, now};
pub use crate::zone::moment;

/// Longest window.
const LONGEST_SECONDS: f64 = 400.0 * 86_400.0;

/// A window of time in an address.
#[derive(Debug, Clone, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct WindowQuery {
    /// Begin, such as `2026-03-01T06:00:00Z`.
    pub from: DateTime<Utc>,
    /// End; later than the begin and not in the future.
    pub to: DateTime<Utc>,
}

/// A moment that somebody gives, where it lies within what can be kept; else what is wrong with it.
pub fn given(field: &str, moment: DateTime<Utc>) -> Result<Timestamp, FieldProblem> {
    let at = Timestamp(moment.timestamp_micros());
    if at.can_be_kept() {
        return Ok(at);
    }
    Err(FieldProblem::new(field, moment.to_rfc3339(), "Give a moment from the year 1970 to the year 2099."))
}

impl WindowQuery {
    /// The window, if it is one that can have figures.
    pub fn window(&self) -> Result<Window, Problem> {
        self.named("from", "to")
    }

    /// Likewise where its ends are given as parameters of other names.
    pub fn named(&self, from_name: &str, to_name: &str) -> Result<Window, Problem> {
        let given = |field, moment| given(field, moment).map_err(|fault| Problem::invalid(vec![fault]));
        let (from, to) = (given(from_name, self.from)?, given(to_name, self.to)?);
        let fault = |field: &str, value: &DateTime<Utc>, remedy: &str| {
            Err(Problem::invalid(vec![FieldProblem::new(field, value.to_rfc3339(), remedy)]))
        };
        let Ok(window) = Window::new(from, to) else {
            return fault(
                to_name,
                &self.to,
                "The window ends before or when it begins: give an end later than its begin.",
            );
        };
        if from.seconds_since(now()) > CLOCK_SECONDS {
            return fault(
                from_name,
                &self.from,
                "The window lies in the future, of which there are no figures: give an earlier begin.",
            );
        }
        if window.seconds() > LONGEST_SECONDS {
            return fault(from_name, &self.from, "The window is longer than 400 days: give a later begin.");
        }
        Ok(window)
    }
}

/// The pieces that answer a window from these groups.
pub async fn answered_by(
    app: &App,
    instance_id: i32,
    groups: &[RetentionGroup],
    window: Window,
) -> Result<Pieces, Problem> {
    Ok(app.store.pieces(instance_id, groups, window, Detail::for_window(window), now()).await?)
}

/// Likewise for sums over the whole window.
pub async fn summed_by(
    app: &App,
    instance_id: i32,
    groups: &[RetentionGroup],
    window: Window,
) -> Result<Pieces, Problem> {
    Ok(app.store.pieces(instance_id, groups, window, Detail::for_sums(window), now()).await?)
}

/// Width of the cells of a strip over a window: at most `most` of them, each long enough to hold two
/// readings, so that one that comes a little late leaves no hole, and whole buckets of what is kept.
pub fn cell_seconds(pieces: &Pieces, most: u32, reading: Duration) -> i64 {
    match pieces.coarsest().bucket_seconds() {
        Some(bucket_seconds) => pieces.window().cell_seconds(most, bucket_seconds),
        None => {
            let two_readings =
                Window { from: Timestamp(0), to: Timestamp(0).plus_seconds(2.0 * reading.as_secs_f64()) };
            pieces.window().cell_seconds(most, 1).max(two_readings.cell_seconds(1, 1))
        }
    }
}

/// A window as the API writes it.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Span {
    /// Begin.
    pub from: DateTime<Utc>,
    /// End.
    pub to: DateTime<Utc>,
}

impl From<Window> for Span {
    fn from(window: Window) -> Self {
        Span { from: moment(window.from), to: moment(window.to) }
    }
}
