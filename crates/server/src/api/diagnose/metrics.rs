use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::metric::Metric;
use hurnix_store::MetricCell;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{Span, WindowQuery, answered_by, cell_seconds, moment};
use crate::api::base::word::{DetailWord, MetricWord, UnitWord, Word};
use crate::api::diagnose::load::STRIP_CELLS;
use crate::newest::newest;
use crate::state::App;

/// A figure that is followed over time, with its newest values.
#[derive(Serialize, ToSchema)]
pub struct MetricFigures {
    /// Its name.
    metric: MetricWord,
    /// What it is measured in.
    unit: UnitWord,
    /// What it means.
    meaning: &'static str,
    /// Its newest values, by object.
    values: Vec<MetricValue>,
}

/// The newest value of one object.
#[derive(Serialize, ToSchema)]
pub struct MetricValue {
    /// Of what; empty for the server as a whole.
    object: String,
    /// When it was read.
    at: DateTime<Utc>,
    /// In the metric's unit.
    value: f64,
}

/// Metrics of an instance with their newest values. Those of which nothing was read lately are left out.
#[utoipa::path(get, path = "/instances/{instance_id}/metrics", tag = "metrics", params(("instance_id" = i32, Path)),
    responses((status = 200, body = Vec<MetricFigures>)))]
pub async fn list_metrics(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<Vec<MetricFigures>> {
    let instance = find(&app, instance_id).await?;
    let mut metrics: Vec<MetricFigures> = Vec::new();
    for newest in newest(&app, &instance).await? {
        if metrics.last().is_none_or(|last| last.metric.0 != newest.metric) {
            metrics.push(MetricFigures {
                metric: Word(newest.metric),
                unit: Word(newest.metric.unit()),
                meaning: newest.metric.meaning(),
                values: Vec::new(),
            });
        }
        if let Some(last) = metrics.last_mut() {
            last.values.push(MetricValue { object: newest.object, at: moment(newest.at), value: newest.value });
        }
    }
    Ok(Json(metrics))
}

/// Which metric of what, and when.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct MetricQuery {
    /// Of what; the server as a whole when left out.
    object: Option<String>,
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
}

/// A metric of one object over time.
#[derive(Serialize, ToSchema)]
pub struct MetricSeries {
    /// The window.
    span: Span,
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// What it is measured in.
    unit: UnitWord,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// Cells with readings, in order of time; where nothing was read there is none.
    cells: Vec<MetricCellFigures>,
}

/// Values of a metric in one cell.
#[derive(Serialize, ToSchema)]
pub struct MetricCellFigures {
    /// Start of the cell.
    at: DateTime<Utc>,
    /// Readings in it.
    readings: i64,
    /// Mean of them.
    mean: f64,
    /// The smallest.
    least: f64,
    /// The largest.
    most: f64,
}

/// One metric of one object over time.
#[utoipa::path(get, path = "/instances/{instance_id}/metrics/{metric}", tag = "metrics",
    params(("instance_id" = i32, Path), ("metric" = inline(MetricWord), Path), MetricQuery),
    responses((status = 200, body = MetricSeries)))]
pub async fn one_metric(
    State(app): State<App>,
    _: SignedIn,
    Path((instance_id, metric)): Path<(i32, String)>,
    Query(query): Query<MetricQuery>,
) -> Answer<MetricSeries> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let instance = find(&app, instance_id).await?;
    let metric = Metric::named(&metric).ok_or_else(|| Problem::not_found("metric", "metric", metric))?;
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Measures], window).await?;
    let cell_seconds = cell_seconds(&pieces, STRIP_CELLS, app.intervals_of(&instance).of(metric.figures()));
    let object = query.object.unwrap_or_default();
    let cells = app.store.metric_cells(instance_id, metric, &object, &pieces, cell_seconds).await?;
    let cell = |MetricCell { at, readings, mean, least, most }| MetricCellFigures {
        at: moment(at),
        readings,
        mean,
        least,
        most,
    };
    Ok(Json(MetricSeries {
        span: pieces.window().into(),
        detail: Word(pieces.coarsest()),
        unit: Word(metric.unit()),
        cell_seconds,
        cells: cells.into_iter().map(cell).collect(),
    }))
}
