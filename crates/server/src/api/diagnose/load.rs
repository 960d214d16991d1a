use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::load::Load;
use hurnix_store::Dimension;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{Id, LoadFigures};
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{Span, WindowQuery, answered_by, cell_seconds, moment};
use crate::api::base::word::{DetailWord, Word};
use crate::state::App;

/// Most cells of a strip.
pub const STRIP_CELLS: u32 = 120;
/// Most parts of a breakdown.
const MOST_PARTS: i64 = 40;

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
}

/// One cell.
#[derive(Serialize, ToSchema)]
pub struct LoadStripCell {
    /// Its start.
    at: DateTime<Utc>,
    /// Its load; no samples where the server was not looked at.
    load: LoadFigures,
}

/// Load by wait kind over time.
#[utoipa::path(get, path = "/instances/{instance_id}/load", tag = "diagnose",
    params(("instance_id" = i32, Path), WindowQuery),
    responses((status = 200, body = LoadStrips)))]
pub async fn load_strips(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<WindowQuery>,
) -> Answer<LoadStrips> {
    let window = query.window()?;
    let instance = find(&app, instance_id).await?;
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Activity], window).await?;
    let window = pieces.window();
    let cell_seconds = cell_seconds(&pieces, STRIP_CELLS, app.intervals_of(&instance).activity);
    let loads: HashMap<_, Load> = app
        .store
        .load(instance_id, &pieces, cell_seconds, None)
        .await?
        .into_iter()
        .map(|cell| (cell.at, cell.load))
        .collect();
    let mut whole = Load::default();
    for load in loads.values() {
        whole.join(load);
    }
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
    }))
}

/// What to split load by.
#[derive(Debug, Clone, Copy, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum SplitBy {
    /// Statement family.
    Family,
    /// Wait event.
    Event,
    /// Account.
    Account,
    /// Program.
    Program,
    /// Client address.
    Client,
    /// Database.
    Database,
}

/// How to split load.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct BreakdownQuery {
    /// What to split by.
    by: SplitBy,
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
}

/// A window's load in parts.
#[derive(Serialize, ToSchema)]
pub struct Breakdown {
    /// The window.
    span: Span,
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// Parts, the heaviest first; forty at most.
    parts: Vec<Part>,
}

/// One part of a load.
#[derive(Serialize, ToSchema)]
pub struct Part {
    /// Number of the family, when split by family and known.
    family_id: Option<Id>,
    /// Name of the part, or text of the family; empty when not known.
    name: String,
    /// Its load.
    load: LoadFigures,
    /// Its share of the whole load of the window, parts that are not listed included.
    share: f64,
}

/// Load of a window split by statement, event, account, program, client or database.
#[utoipa::path(get, path = "/instances/{instance_id}/load/breakdown", tag = "diagnose",
    params(("instance_id" = i32, Path), BreakdownQuery),
    responses((status = 200, body = Breakdown)))]
pub async fn load_breakdown(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<BreakdownQuery>,
) -> Answer<Breakdown> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    find(&app, instance_id).await?;
    let dimension = match query.by {
        SplitBy::Family => Dimension::Family,
        SplitBy::Event => Dimension::Event,
        SplitBy::Account => Dimension::Account,
        SplitBy::Program => Dimension::Program,
        SplitBy::Client => Dimension::Client,
        SplitBy::Database => Dimension::Database,
    };
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Activity], window).await?;
    let parts = app.store.breakdown(instance_id, &pieces, dimension, MOST_PARTS).await?;
    let parts = parts
        .into_iter()
        .map(|part| Part {
            family_id: part.family_id.map(Id),
            name: part.name,
            load: (&part.load).into(),
            share: part.share,
        })
        .collect();
    Ok(Json(Breakdown { span: pieces.window().into(), detail: Word(pieces.coarsest()), parts }))
}
