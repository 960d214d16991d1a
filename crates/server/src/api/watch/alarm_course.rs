//! The figures that show the trouble of an alarm, over the time before it and since.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::alarm::Trouble;
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::figure_series::{FigureSeries, Seen};
use hurnix_core::findings::normal_range::NormalRange;
use hurnix_core::findings::threshold::{SetThreshold, in_force};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, Window};
use serde::Serialize;
use utoipa::ToSchema;

use crate::analyst::coarsest;
use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{Span, moment};
use crate::api::base::word::{UnitWord, Word};
use crate::api::watch::alarms::find_alarm;
use crate::state::{App, now};
use crate::zone::{clock_of, zone};

/// Seconds that are shown before the trouble began, and after the alarm was closed.
const BEFORE_SECONDS: f64 = SECONDS_PER_DAY;
/// The same of what takes its time.
const BEFORE_SLOW_SECONDS: f64 = 14.0 * SECONDS_PER_DAY;
const SLOW: [Trouble; 4] = [Trouble::Volume, Trouble::TransactionIds, Trouble::Sequence, Trouble::DeadRows];
const AFTER_SECONDS: f64 = 2.0 * 3600.0;
const MOST_CELLS: u32 = 240;
/// Most objects, where the trouble is of the server as a whole and its figures of several.
const MOST_OBJECTS: usize = 4;

/// A figure before and while an alarm stands.
#[derive(Serialize, ToSchema)]
pub struct AlarmCourse {
    /// Name of the figure.
    figure: String,
    /// Its name for people.
    title: String,
    /// The object; empty for the server as a whole.
    object: String,
    /// What it is measured in.
    unit: UnitWord,
    /// The time that is shown: from the first value on.
    span: Span,
    /// Days that the usual range was learnt from; nothing where there is none yet.
    days: Option<f64>,
    /// The threshold that is in force for it; nothing where none is.
    threshold: Option<f64>,
    /// In order of time; those in which nothing was read are left out.
    cells: Vec<CourseCell>,
}

/// A figure in one cell of time.
#[derive(Serialize, ToSchema)]
pub struct CourseCell {
    /// Start of the cell.
    at: DateTime<Utc>,
    /// Mean.
    value: f64,
    /// Whether the trouble stood.
    is_raised: bool,
    /// Lower end of what is usual; nothing where that is not known yet.
    low: Option<f64>,
    /// Upper end of what is usual.
    high: Option<f64>,
}

/// The figures that show the trouble of an alarm over time, from a day before it began: none where no figure that is
/// followed shows it.
#[utoipa::path(get, path = "/alarms/{alarm_id}/course", tag = "watch", params(("alarm_id" = String, Path)),
    responses((status = 200, body = Vec<AlarmCourse>)))]
pub async fn alarm_course(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Path(alarm_id): Path<i64>,
) -> Answer<Vec<AlarmCourse>> {
    let row = find_alarm(&app, &caller, alarm_id).await?;
    let (figures, object) = ServerFigure::shown_with(&row.alarm.sign);
    if figures.is_empty() {
        return Ok(Json(Vec::new()));
    }
    let instance = find(&app, row.instance_id).await?;
    let (id, at, began) = (instance.instance_id, now(), row.alarm.began_at());
    let bucket_seconds = app.intervals_of(&instance).bucket.as_secs() as i64;
    let stood_to = row.alarm.closed_at.unwrap_or(at);
    let to = stood_to.plus_seconds(AFTER_SECONDS).min(at);
    let before = if SLOW.contains(&row.alarm.sign.trouble) { BEFORE_SLOW_SECONDS } else { BEFORE_SECONDS };
    let first = app.store.retained(id).await?.map_or(began, |(first, _)| first);
    let asked = Window { from: began.plus_seconds(-before).max(first).min(to.plus_seconds(-1.0)), to };
    let cell_seconds = asked.cell_seconds(MOST_CELLS, bucket_seconds);
    let cells = (cell_seconds, coarsest(cell_seconds));
    let series = app.store.figure_series(id, &figures, asked, cells, at).await?;
    let ranges = app.store.usual_ranges(id, &figures).await?;
    let thresholds = in_force(&app.store.thresholds().await?, id, instance.group.as_deref());
    let there = zone(&instance.settings.day_zone);
    let is_shown = |series: &&FigureSeries| {
        (object.is_empty() || series.object == object) && series.buckets.iter().any(|seen| seen.sum != 0.0)
    };
    let course = |series: &FigureSeries| {
        let figure = series.figure;
        let is_range = |range: &&(ServerFigure, String, NormalRange)| (range.0, &range.1) == (figure, &series.object);
        let range = ranges.iter().find(is_range).map(|(.., range)| range);
        let is_of_it = |set: &&SetThreshold| set.threshold.figure == figure && set.threshold.is_of(&series.object);
        AlarmCourse {
            figure: figure.name(),
            title: figure.title(),
            object: series.object.clone(),
            unit: Word(figure.unit()),
            span: Window { from: series.buckets.first().map_or(asked.from, |first| first.at), ..asked }.into(),
            days: range.map(NormalRange::days),
            threshold: thresholds.iter().find(is_of_it).map(|set| set.threshold.value),
            cells: cells_of(series, range, began, stood_to, |at| clock_of(there, at)),
        }
    };
    Ok(Json(series.iter().filter(is_shown).take(MOST_OBJECTS).map(course).collect()))
}

fn cells_of(
    series: &FigureSeries,
    range: Option<&NormalRange>,
    began: Timestamp,
    stood_to: Timestamp,
    clock: impl Fn(Timestamp) -> Timestamp,
) -> Vec<CourseCell> {
    let cell = |seen: &Seen| {
        let end = seen.at.plus_seconds(series.bucket_seconds);
        let usual = range.map(|range| range.at(clock(seen.at.plus_seconds(series.bucket_seconds / 2.0))));
        CourseCell {
            at: moment(seen.at),
            value: seen.mean(),
            is_raised: end > began && seen.at < stood_to,
            low: usual.map(|usual| usual.low),
            high: usual.map(|usual| usual.high),
        }
    };
    series.buckets.iter().map(cell).collect()
}
