//! What a threshold would have raised in the past.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::figure_series::{FigureSeries, Seen};
use hurnix_core::findings::normal_range::Side;
use hurnix_core::findings::threshold::{Episode, SetThreshold, episodes, one_a_week, weeks_seen};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::{Timestamp, Window};
use hurnix_store::Instance;
use serde::Serialize;
use utoipa::ToSchema;

use crate::analyst::coarsest;
use crate::api::base::extract::{Query, SignedIn};
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{Span, moment};
use crate::api::base::word::{UnitWord, Word};
use crate::api::watch::thresholds::ThresholdSet;
use crate::state::{App, now};

/// Most instances whose past is gone through.
const MOST_INSTANCES: usize = 40;
/// Most objects whose past is drawn, and cells of each.
const MOST_DRAWN: usize = 6;
const MOST_CELLS: usize = 240;

/// What a threshold would have raised in the past.
#[derive(Serialize, ToSchema)]
pub struct ThresholdTrial {
    /// The time gone through: from the first value that is kept.
    span: Span,
    /// What the figure is measured in.
    unit: UnitWord,
    /// Instances that it is for.
    instances_meant: usize,
    /// Instances whose past was gone through.
    instances_tried: usize,
    /// Weeks that were seen, of all of them together.
    weeks: f64,
    /// Alarms that it would have raised.
    raised: usize,
    /// The value at which it would have raised about one a week on each instance; nothing where too little was seen.
    one_a_week: Option<f64>,
    /// What it would have raised, by instance and object; those with the most first.
    objects: Vec<TriedObject>,
}

/// What a threshold would have raised of one object.
#[derive(Serialize, ToSchema)]
pub struct TriedObject {
    /// Label of the instance.
    instance: String,
    /// The object; empty for the server as a whole.
    object: String,
    /// Seconds of a bucket, whose means are judged.
    bucket_seconds: f64,
    /// Alarms that it would have raised.
    raised: usize,
    /// Seconds that those would have been open.
    beyond_seconds: f64,
    /// The past, of the first few objects only.
    cells: Vec<TriedCell>,
}

/// A figure in one cell of time.
#[derive(Serialize, ToSchema)]
pub struct TriedCell {
    /// Start of the cell.
    at: DateTime<Utc>,
    /// Of the means of its buckets, the one that is furthest on the side of the threshold.
    value: f64,
    /// Whether an alarm would have been open.
    is_raised: bool,
}

/// What a threshold would have raised in the time that is kept.
#[utoipa::path(get, path = "/thresholds/trial", tag = "thresholds", params(ThresholdSet),
    responses((status = 200, body = ThresholdTrial)))]
pub async fn try_threshold(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Query(set): Query<ThresholdSet>,
) -> Answer<ThresholdTrial> {
    let mut instances = app.store.instances().await?;
    instances.retain(|instance| caller.sees(instance.group.as_deref()));
    let set = set.check(&instances)?;
    instances.retain(|instance| set.scope.holds(instance.instance_id, instance.group.as_deref()));
    let to = now();
    let since = app.store.kept_since(RetentionGroup::Measures, Detail::TenMinutes, to);
    let mut seen = Vec::new();
    for instance in instances.iter().take(MOST_INSTANCES) {
        let bucket_seconds = app.intervals_of(instance).bucket.as_secs() as i64;
        // The newest bucket is still filling.
        let whole = to.bucket(bucket_seconds);
        let (window, cells) = (Window { from: since, to: whole }, (bucket_seconds, coarsest(bucket_seconds)));
        let id = instance.instance_id;
        seen.push(app.store.figure_series(id, &[set.threshold.figure], window, cells, to).await?);
    }
    let tried = tokio::task::spawn_blocking(move || tried(&set, &instances, &seen, to));
    tried.await.map(Json).map_err(Problem::internal)
}

fn tried(set: &SetThreshold, instances: &[Instance], seen: &[Vec<FigureSeries>], to: Timestamp) -> ThresholdTrial {
    let threshold = &set.threshold;
    let first = seen.iter().flatten().filter_map(|series| series.buckets.first());
    let window = Window { from: first.map(|first| first.at).min().unwrap_or(to), to };
    let mut objects: Vec<(TriedObject, &FigureSeries)> = Vec::new();
    for (instance, series) in instances.iter().zip(seen) {
        for one in series.iter().filter(|one| threshold.is_of(&one.object)) {
            let raised = episodes(threshold, one);
            let end = window.to;
            let open = |episode: &Episode| episode.to.unwrap_or(end).seconds_since(episode.from);
            let object = TriedObject {
                instance: instance.label.clone(),
                object: one.object.clone(),
                bucket_seconds: one.bucket_seconds,
                raised: raised.len(),
                beyond_seconds: raised.iter().map(open).sum(),
                cells: Vec::new(),
            };
            objects.push((object, one));
        }
    }
    let furthest = |series: &FigureSeries| {
        let (least, most) = series.reach().unwrap_or((f64::INFINITY, f64::NEG_INFINITY));
        if threshold.side == Side::High { most } else { -least }
    };
    objects.sort_by(|(a, one), (b, other)| {
        b.raised.cmp(&a.raised).then_with(|| furthest(other).total_cmp(&furthest(one)))
    });
    for (object, series) in objects.iter_mut().take(MOST_DRAWN) {
        object.cells = cells(set, series, window);
    }
    ThresholdTrial {
        span: window.into(),
        unit: Word(threshold.figure.unit()),
        instances_meant: instances.len(),
        instances_tried: seen.len(),
        weeks: seen.iter().map(|series| weeks_seen(series)).sum(),
        raised: objects.iter().map(|(object, _)| object.raised).sum(),
        one_a_week: one_a_week(threshold, seen),
        objects: objects.into_iter().map(|(object, _)| object).collect(),
    }
}

/// The past of an object, in few cells.
fn cells(set: &SetThreshold, series: &FigureSeries, window: Window) -> Vec<TriedCell> {
    let raised = episodes(&set.threshold, series);
    let first = series.buckets.first().map_or(window.from, |first| first.at);
    let buckets = (window.seconds() / series.bucket_seconds).max(1.0);
    let each = (buckets / MOST_CELLS as f64).ceil() * series.bucket_seconds;
    let place = |at: Timestamp| (at.seconds_since(first) / each) as i64;
    let is_raised = |at: Timestamp| {
        let end = at.plus_seconds(each);
        raised.iter().any(|episode| episode.from < end && episode.to.is_none_or(|to| to > at))
    };
    series
        .buckets
        .chunk_by(|a, b| place(a.at) == place(b.at))
        .map(|cell| {
            let values = cell.iter().map(Seen::mean);
            let at = first.plus_seconds(place(cell[0].at) as f64 * each);
            let furthest = match set.threshold.side {
                Side::High => values.fold(f64::NEG_INFINITY, f64::max),
                Side::Low => values.fold(f64::INFINITY, f64::min),
            };
            TriedCell { at: moment(at), value: furthest, is_raised: is_raised(at) }
        })
        .collect()
}
