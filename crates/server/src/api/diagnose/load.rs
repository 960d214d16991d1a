use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::load::Load;
use hurnix_core::readings::metric::Metric;
use hurnix_core::{Named, Timestamp};
use hurnix_store::{Breakdown, Dimension, OnlyPart};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{Id, LoadFigures};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, WindowQuery, answered_by, cell_seconds, moment, summed_by};
use crate::api::base::word::{DetailWord, Word};
use crate::state::{App, now};

/// Most cells of a strip.
pub const STRIP_CELLS: u32 = 120;
/// Most parts of a breakdown.
const MOST_PARTS: i64 = 40;
/// Parts that are told unless more are asked for.
const FEW_PARTS: i64 = 5;

/// Load of a window in equal cells.
#[derive(Serialize, ToSchema)]
pub struct LoadStrips {
    /// The window.
    span: Span,
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// Cells in order of time, without gaps.
    cells: Vec<LoadStripCell>,
    /// The whole window.
    whole: LoadFigures,
    /// Processors of the host, where that is known.
    cpus: Option<f64>,
}

/// One cell.
#[derive(Serialize, ToSchema)]
pub struct LoadStripCell {
    /// Its start.
    at: DateTime<Utc>,
    /// Its load; no samples where the server was not looked at.
    load: LoadFigures,
}

/// Which load.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct LoadQuery {
    /// Begin.
    pub from: DateTime<Utc>,
    /// End.
    pub to: DateTime<Utc>,
    /// Parts that it is narrowed to, with commas between them, each as the dimension, a colon and the part's number
    /// (`account:12,database:7`); without a number for what is not known (`event:`). Of several parts of one dimension
    /// each counts.
    pub only: Option<String>,
}

/// Load by wait kind over time.
#[utoipa::path(get, path = "/instances/{instance_id}/load", tag = "diagnose",
    params(("instance_id" = i32, Path), LoadQuery),
    responses((status = 200, body = LoadStrips)))]
pub async fn load_strips(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<LoadQuery>,
) -> Answer<LoadStrips> {
    let only = only(query.only.as_deref())?;
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let instance = find(&app, instance_id).await?;
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Activity], window).await?;
    let window = pieces.window();
    let cell_seconds = cell_seconds(&pieces, STRIP_CELLS, app.intervals_of(&instance).activity);
    let loads: HashMap<_, Load> = app
        .store
        .load(instance_id, &pieces, cell_seconds, &only)
        .await?
        .into_iter()
        .map(|cell| (cell.at, cell.load))
        .collect();
    let whole: Load = loads.values().sum();
    let cells = window
        .cells(cell_seconds)
        .into_iter()
        .map(|at| LoadStripCell { at: moment(at), load: loads.get(&at).unwrap_or(&Load::default()).into() })
        .collect();
    Ok(Json(LoadStrips {
        span: window.into(),
        detail: Word(pieces.coarsest()),
        cell_seconds,
        cells,
        whole: (&whole).into(),
        cpus: app.store.newest_of_server(instance_id, Metric::Cpus, now()).await?,
    }))
}

/// What load can be split by and narrowed to, besides wait kind.
pub type DimensionWord = Word<Dimension>;

/// Parts that load is narrowed to, as an address has them.
pub fn only(text: Option<&str>) -> Result<Vec<OnlyPart>, Problem> {
    let parts = text.unwrap_or_default().split(',').map(str::trim).filter(|part| !part.is_empty());
    let part = |text: &str| {
        let (dimension, number) = text.split_once(':')?;
        let part = if number.is_empty() { None } else { Some(number.parse().ok()?) };
        Some(OnlyPart { dimension: Dimension::named(dimension)?, part })
    };
    let fault = |text: &str| {
        let remedy =
            format!("Give a dimension, a colon, and a number or nothing; dimensions are {}.", Dimension::names());
        Problem::invalid(vec![FieldProblem::new("only", text, remedy)])
    };
    parts.map(|text| part(text).ok_or_else(|| fault(text))).collect()
}

/// How to split load.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct BreakdownQuery {
    /// What to split by.
    #[param(inline)]
    by: DimensionWord,
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
    /// Begin of the column of time by which parts are ranked and measured; the whole window when left out.
    within_from: Option<DateTime<Utc>>,
    /// Its end.
    within_to: Option<DateTime<Utc>>,
    /// Parts that it is narrowed to, as for the load itself.
    only: Option<String>,
    /// Parts to tell; 5 when left out.
    #[param(minimum = 1, maximum = 40)]
    most: Option<i64>,
}

/// A window's load in parts.
#[derive(Serialize, ToSchema)]
pub struct LoadParts {
    /// The window.
    span: Span,
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// The heaviest parts, the heaviest first.
    parts: Vec<Part>,
    /// How many parts there are in all.
    count: i64,
    /// Share of the parts that are not told, so that all shares add up to 1.
    share_of_others: f64,
}

/// One part of a load.
#[derive(Serialize, ToSchema)]
pub struct Part {
    /// Its number, by which load is narrowed to it: of a family, or of a name. Nothing where it is not known.
    part: Option<Id>,
    /// Name of the part, or text of the family; empty when not known.
    name: String,
    /// Its load.
    load: LoadFigures,
    /// Its share of the whole load, parts that are not told included.
    share: f64,
    /// Mean number of its busy sessions by cell of the window; nothing where the server was not looked at.
    cells: Vec<Option<f64>>,
}

/// Load of a window split by statement, event, account, program, client, database or table waited for, over time.
#[utoipa::path(get, path = "/instances/{instance_id}/load/breakdown", tag = "diagnose",
    params(("instance_id" = i32, Path), BreakdownQuery),
    responses((status = 200, body = LoadParts)))]
pub async fn load_breakdown(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<BreakdownQuery>,
) -> Answer<LoadParts> {
    let most = query.most.unwrap_or(FEW_PARTS);
    if !(1..=MOST_PARTS).contains(&most) {
        let remedy = format!("Give from 1 to {MOST_PARTS} parts.");
        return Err(Problem::invalid(vec![FieldProblem::new("most", most, remedy)]));
    }
    let only = only(query.only.as_deref())?;
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let within = match (query.within_from, query.within_to) {
        (None, None) => window,
        (from, to) => WindowQuery { from: from.unwrap_or(query.from), to: to.unwrap_or(query.to) }
            .named("within_from", "within_to")?,
    };
    let instance = find(&app, instance_id).await?;
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Activity], window).await?;
    let column = summed_by(&app, instance_id, &[RetentionGroup::Activity], within).await?;
    let dimension = query.by.0;
    let Breakdown { parts, count } = app.store.breakdown(instance_id, &column, dimension, &only, most).await?;
    let numbers: Vec<Option<i64>> = parts.iter().map(|part| part.part).collect();
    let cell_seconds = cell_seconds(&pieces, STRIP_CELLS, app.intervals_of(&instance).activity);
    let busy = app.store.busy_by_cell(instance_id, &pieces, cell_seconds, dimension, &numbers, &only).await?;
    let samples: HashMap<Timestamp, i64> = app
        .store
        .load(instance_id, &pieces, cell_seconds, &only)
        .await?
        .iter()
        .map(|cell| (cell.at, cell.load.samples))
        .collect();
    let starts = pieces.window().cells(cell_seconds);
    let mean = |part: Option<i64>, start: &Timestamp| {
        let samples = *samples.get(start).filter(|samples| **samples > 0)?;
        Some(busy.get(&(part, *start)).copied().unwrap_or_default() as f64 / samples as f64)
    };
    let told: f64 = parts.iter().map(|part| part.share).sum();
    Ok(Json(LoadParts {
        span: pieces.window().into(),
        detail: Word(pieces.coarsest()),
        cell_seconds,
        count,
        share_of_others: if parts.is_empty() { 0.0 } else { (1.0 - told).max(0.0) },
        parts: parts
            .into_iter()
            .map(|part| Part {
                cells: starts.iter().map(|start| mean(part.part, start)).collect(),
                part: part.part.map(Id),
                name: part.name,
                load: (&part.load).into(),
                share: part.share,
            })
            .collect(),
    }))
}
