use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use hurnix_core::findings::normal_range::{NormalRange, Usual};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::WindowQuery;
use crate::api::base::word::{UnitWord, Word};
use crate::api::diagnose::courses::figures_named;
use crate::state::App;
use crate::zone::{clock_of, zone};

/// Most cells, and most figures, that are asked for at once.
const MOST_CELLS: i64 = 2_000;
pub const MOST_FIGURES: usize = 40;
/// A cell is told by what is usual at so many moments of it.
const MOMENTS: i64 = 6;

/// What is usual of which figures, and when.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct UsualQuery {
    /// Names of figures, with commas between them.
    figure: String,
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
    /// Seconds of one cell.
    #[param(minimum = 1)]
    cell_seconds: i64,
}

/// What is usual of a figure of one object, as it is known now.
#[derive(Serialize, ToSchema)]
pub struct UsualRange {
    /// Name of the figure.
    figure: String,
    /// The object; empty for the server as a whole.
    object: String,
    /// What it is measured in.
    unit: UnitWord,
    /// Days that it was learnt from.
    days: f64,
    /// In order of time, one for each cell.
    cells: Vec<UsualCell>,
}

/// What is usual in one cell of time.
#[derive(Serialize, ToSchema)]
pub struct UsualCell {
    /// Below this is unusual.
    low: f64,
    /// The middle.
    middle: f64,
    /// Above this is unusual.
    high: f64,
}

/// What is usual of some figures of an instance, for the hours of the week. Figures that were seen for less than a day
/// have no range yet and are left out.
#[utoipa::path(get, path = "/instances/{instance_id}/usual-ranges", tag = "metrics",
    params(("instance_id" = i32, Path), UsualQuery), responses((status = 200, body = Vec<UsualRange>)))]
pub async fn list_usual_ranges(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<UsualQuery>,
) -> Answer<Vec<UsualRange>> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let instance = find(&app, instance_id).await?;
    let figures = figures_named(&query.figure)?;
    let cells = (window.seconds() / query.cell_seconds.max(1) as f64).ceil() as i64;
    if query.cell_seconds < 1 || cells > MOST_CELLS {
        let remedy = format!("Give a length of 1 s or more, of which the window holds up to {MOST_CELLS}.");
        return Err(Problem::invalid(vec![FieldProblem::new("cell_seconds", query.cell_seconds, remedy)]));
    }
    let there = zone(&instance.settings.day_zone);
    let usual = |range: &NormalRange| -> Vec<UsualCell> {
        let start = |cell: i64| window.from.plus_seconds((cell * query.cell_seconds) as f64);
        let clock = |at: Timestamp| clock_of(there, at);
        (0..cells).map(|cell| mean_of(range, start(cell), query.cell_seconds, clock)).collect()
    };
    let known = app.store.usual_ranges(instance_id, &figures).await?;
    let told = known.iter().map(|(figure, object, range)| UsualRange {
        figure: figure.name(),
        object: object.clone(),
        unit: Word(figure.unit()),
        days: range.days(),
        cells: usual(range),
    });
    Ok(Json(told.collect()))
}

/// What is usual in a cell: the mean of what is at several moments of it.
fn mean_of(
    range: &NormalRange,
    start: Timestamp,
    cell_seconds: i64,
    clock: impl Fn(Timestamp) -> Timestamp,
) -> UsualCell {
    let step = cell_seconds as f64 / MOMENTS as f64;
    let moments = (0..MOMENTS).map(|moment| range.at(clock(start.plus_seconds((moment as f64 + 0.5) * step))));
    let moments: Vec<Usual> = moments.collect();
    let mean = |of: fn(&Usual) -> f64| moments.iter().map(of).sum::<f64>() / MOMENTS as f64;
    UsualCell { low: mean(|usual| usual.low), middle: mean(|usual| usual.middle), high: mean(|usual| usual.high) }
}
