use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::keeping::retention::{Days, RetentionGroup};
use hurnix_core::readings::figures::{Figures, Tally};
use hurnix_core::{Named, Window};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Administrator, Body, Path, Query, SignedIn};
use crate::api::base::find::{find, there_was};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{FiguresWord, RetentionGroupWord, Word};
use crate::own_pace::OwnPace;
use crate::state::{App, now};

/// Longest stretch of tallies that is given at once: a month.
const MOST_HOURS: u32 = 744;

/// How far back to look.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CollectionQuery {
    /// Hours back from now, 744 at most; 24 when left out.
    #[param(minimum = 1, maximum = 744)]
    hours: Option<u32>,
}

/// How an instance is collected.
#[derive(Serialize, ToSchema)]
pub struct Collection {
    /// What reading costs the watched server now, in shares of one core; nothing before the first reading.
    cost_share: Option<f32>,
    /// The share of one core that it may cost.
    budget_share: f64,
    /// Bytes read from the watched server in a second now; nothing before the first reading.
    cost_bytes: Option<f32>,
    /// Bytes that may be read in a second.
    budget_bytes: f64,
    /// Largest factor by which an interval is stretched now, to keep to the budget.
    stretch: Option<f32>,
    /// Kinds of figures, each with its interval.
    intervals: Vec<ReadingInterval>,
    /// What of its intervals and budget is its own, and not the program's.
    own_pace: OwnPace,
    /// How long figures are kept. Of what is not listed the newest state and its changes are kept for good.
    kept: Vec<KeptFigures>,
    /// How reading went, by hour and kind, in order of time.
    hours: Vec<HourFigures>,
}

/// How long figures are kept, in days.
#[derive(Serialize, ToSchema)]
pub struct KeptFigures {
    /// What is kept together.
    figures: RetentionGroupWord,
    /// As read.
    fine_days: u32,
    /// In ten minutes; nothing for entries, which have no sums.
    #[serde(skip_serializing_if = "Option::is_none")]
    ten_minutes_days: Option<u32>,
    /// In hours; likewise.
    #[serde(skip_serializing_if = "Option::is_none")]
    hour_days: Option<u32>,
}

fn kept(group: RetentionGroup, days: Days) -> KeptFigures {
    let figures = Word(group);
    match group {
        RetentionGroup::Log => KeptFigures {
            figures,
            fine_days: days.of(RetentionGroup::ENTRIES),
            ten_minutes_days: None,
            hour_days: None,
        },
        _ => KeptFigures {
            figures,
            fine_days: days.fine,
            ten_minutes_days: Some(days.ten_minutes),
            hour_days: Some(days.hour),
        },
    }
}

/// How often a kind of figures is read.
#[derive(Serialize, ToSchema)]
pub struct ReadingInterval {
    /// The kind.
    figures: FiguresWord,
    /// Seconds from one reading to the next, before stretching.
    seconds: f64,
}

/// How reading one kind of figures went in one hour.
#[derive(Serialize, ToSchema)]
pub struct HourFigures {
    /// Start of the hour.
    hour: DateTime<Utc>,
    /// The kind.
    figures: FiguresWord,
    /// Readings made.
    read: i64,
    /// Readings that the server refused or did not answer in time.
    refused: i64,
    /// Readings that were due and not made.
    missed: i64,
    /// Readings made and then lost, because the repository was away for longer than memory could hold.
    dropped: i64,
    /// Time that the server took to answer, in milliseconds.
    read_ms: f64,
    /// What was read, in bytes.
    bytes: i64,
}

/// How an instance is collected: what it costs, and how reading went.
#[utoipa::path(get, path = "/instances/{instance_id}/collection", tag = "instances",
    params(("instance_id" = i32, Path), CollectionQuery),
    responses((status = 200, body = Collection)))]
pub async fn instance_collection(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<CollectionQuery>,
) -> Answer<Collection> {
    let hours = query.hours.unwrap_or(24);
    if hours == 0 || hours > MOST_HOURS {
        let remedy = format!("Give from 1 to {MOST_HOURS} hours.");
        return Err(Problem::invalid(vec![FieldProblem::new("hours", hours, remedy)]));
    }
    let instance = find(&app, instance_id).await?;
    let to = now();
    let window = Window { from: to.plus_seconds(-3600.0 * f64::from(hours)), to };
    let hour = |row: hurnix_store::TallyRow| {
        let Tally { read, refused, missed, dropped, read_us, bytes } = row.tally;
        let (hour, read_ms) = (moment(row.hour), read_us as f64 / 1e3);
        HourFigures { hour, figures: Word(row.figures), read, refused, missed, dropped, read_ms, bytes }
    };
    let intervals = app.intervals_of(&instance);
    let interval =
        |figures: Figures| ReadingInterval { figures: Word(figures), seconds: intervals.of(figures).as_secs_f64() };
    Ok(Json(Collection {
        cost_share: instance.cost_share,
        budget_share: intervals.budget().seconds,
        cost_bytes: instance.cost_bytes,
        budget_bytes: intervals.budget().bytes,
        stretch: instance.stretch,
        intervals: Figures::ALL.into_iter().map(interval).collect(),
        own_pace: OwnPace::stored(&instance.own_pace),
        kept: RetentionGroup::all().map(|group| kept(group, app.retention.days(group))).collect(),
        hours: app.store.tallies(instance_id, window).await?.into_iter().map(hour).collect(),
    }))
}

/// Set an instance's own intervals of reading and budget, in place of what it had; what is not given is the
/// program's. It is read anew from then on.
#[utoipa::path(put, path = "/instances/{instance_id}/pace", tag = "instances", params(("instance_id" = i32, Path)),
    request_body = OwnPace,
    responses((status = 204)))]
pub async fn set_pace(
    State(app): State<App>,
    _: Administrator,
    Path(instance_id): Path<i32>,
    Body(pace): Body<OwnPace>,
) -> Result<StatusCode, Problem> {
    let faults = pace.faults();
    if !faults.is_empty() {
        let errors = faults.into_iter().map(|fault| FieldProblem::new(&fault.field, fault.value, fault.remedy));
        return Err(Problem::invalid(errors.collect()));
    }
    find(&app, instance_id).await?;
    let pace = serde_json::to_value(&pace).map_err(Problem::internal)?;
    there_was(instance_id, app.store.set_own_pace(instance_id, &pace).await?)?;
    app.instances_changed.notify_one();
    Ok(StatusCode::NO_CONTENT)
}
