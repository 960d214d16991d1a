//! Figures of a server over time, on one axis, before what is usual of them.

use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::figure_series::FigureSeries;
use hurnix_core::findings::normal_range::NormalRange;
use hurnix_core::findings::resource::Resource;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::Metric;
use hurnix_core::{Named, Timestamp};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, WindowQuery, answered_by, cell_seconds, moment};
use crate::api::base::word::{DetailWord, ResourceWord, UnitWord, Word};
use crate::api::diagnose::load::STRIP_CELLS;
use crate::api::diagnose::usual_ranges::MOST_FIGURES;
use crate::state::{App, now};
use crate::zone::{clock_of, zone};

/// Most objects of one figure that are told: those with the largest values.
const MOST_OBJECTS: usize = 8;

/// Which figures, and when.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct CoursesQuery {
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
    /// Names of figures, with commas between them; all that tell of resources when left out.
    figure: Option<String>,
    /// Seconds that a cell has at least, so that figures of several instances stand on one axis.
    #[param(minimum = 1, maximum = 86400)]
    cell_seconds: Option<i64>,
}

/// Figures of a server over time.
#[derive(Serialize, ToSchema)]
pub struct Courses {
    /// The window.
    span: Span,
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// Begin of each cell.
    starts: Vec<DateTime<Utc>>,
    /// The figures of which anything was seen, by what they tell of.
    courses: Vec<Course>,
    /// What they tell of, in the order in which it is shown.
    resources: Vec<ResourceTitle>,
    /// Processors of the host, where that is known.
    cpus: Option<f64>,
}

/// Something that a server works with.
#[derive(Serialize, ToSchema)]
pub struct ResourceTitle {
    /// Its name.
    resource: ResourceWord,
    /// Its name for people.
    title: &'static str,
}

/// A figure of one object over time.
#[derive(Serialize, ToSchema)]
pub struct Course {
    /// Name of the figure.
    figure: String,
    /// Its name for people.
    title: String,
    /// What it means.
    meaning: &'static str,
    /// The object; empty for the server as a whole.
    object: String,
    /// What it is measured in.
    unit: UnitWord,
    /// The resource that it belongs to; nothing for figures of single tables, limits and ages.
    resource: Option<ResourceWord>,
    /// Its mean over the window.
    mean: f64,
    /// Its least mean of a cell.
    least: f64,
    /// Its largest.
    most: f64,
    /// Days that its usual range was learnt from; nothing where there is none yet.
    days: Option<f64>,
    /// Its mean in each cell; nothing where it was not read.
    values: Vec<Option<f64>>,
    /// Lower end of what is usual in each cell; empty where that is not known.
    low: Vec<f64>,
    /// Upper end of it.
    high: Vec<f64>,
    /// Further objects of the same figure, with smaller values, that are not told.
    further_objects: usize,
}

/// Figures of a server over time. Those of which nothing was seen in the window are left out.
#[utoipa::path(get, path = "/instances/{instance_id}/courses", tag = "metrics",
    params(("instance_id" = i32, Path), CoursesQuery), responses((status = 200, body = Courses)))]
pub async fn list_courses(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<CoursesQuery>,
) -> Answer<Courses> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let figures = match &query.figure {
        Some(names) => figures_named(names)?,
        None => ServerFigure::all().into_iter().filter(|figure| Resource::of(*figure).is_some()).collect(),
    };
    let instance = find(&app, instance_id).await?;
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Measures], window).await?;
    let window = pieces.window();
    let least = query.cell_seconds.unwrap_or(1);
    if !(1..=86_400).contains(&least) {
        return Err(Problem::invalid(vec![FieldProblem::new(
            "cell_seconds",
            least,
            "Give a length from 1 s to a day.",
        )]));
    }
    let cell_seconds = cell_seconds(&pieces, STRIP_CELLS, app.intervals_of(&instance).of(Figures::Standing)).max(least);
    let cells = (cell_seconds, pieces.coarsest());
    let mut series = app.store.figure_series(instance_id, &figures, window, cells, now()).await?;
    let ranges = app.store.usual_ranges(instance_id, &figures).await?;
    let there = zone(&instance.settings.day_zone);
    let starts = window.cells(cell_seconds);
    let place: HashMap<Timestamp, usize> = starts.iter().enumerate().map(|(at, start)| (*start, at)).collect();
    let order: HashMap<ServerFigure, usize> =
        shown_order(&figures).into_iter().enumerate().map(|(at, figure)| (figure, at)).collect();
    series.retain(|series| !series.buckets.is_empty());
    series.sort_by(|a, b| order[&a.figure].cmp(&order[&b.figure]).then(most(b).total_cmp(&most(a))));
    let told = series.chunk_by(|a, b| a.figure == b.figure).flat_map(|of_figure| {
        let further = of_figure.len().saturating_sub(MOST_OBJECTS);
        of_figure.iter().take(MOST_OBJECTS).map(move |series| (series, further))
    });
    let course = |(series, further_objects): (&FigureSeries, usize)| {
        let is_of =
            |range: &&(ServerFigure, String, NormalRange)| (range.0, &range.1) == (series.figure, &series.object);
        let range = ranges.iter().find(is_of).map(|(.., range)| range);
        let middle = |start: &Timestamp| clock_of(there, start.plus_seconds(cell_seconds as f64 / 2.0));
        let usual = range.map(|range| starts.iter().map(|start| range.at(middle(start))).collect::<Vec<_>>());
        let usual = usual.unwrap_or_default();
        let mut values = vec![None; starts.len()];
        for seen in &series.buckets {
            if let Some(cell) = place.get(&seen.at).and_then(|at| values.get_mut(*at)) {
                *cell = Some(seen.mean());
            }
        }
        let (least, most) = series.reach()?;
        Some(Course {
            figure: series.figure.name(),
            title: series.figure.title(),
            meaning: series.figure.meaning(),
            object: series.object.clone(),
            unit: Word(series.figure.unit()),
            resource: Resource::of(series.figure).map(Word),
            mean: series.mean()?,
            least,
            most,
            days: range.map(NormalRange::days),
            values,
            low: usual.iter().map(|usual| usual.low).collect(),
            high: usual.iter().map(|usual| usual.high).collect(),
            further_objects,
        })
    };
    let courses: Vec<Course> = told.filter_map(course).collect();
    let is_told = |resource: &Resource| courses.iter().any(|course| course.resource == Some(Word(*resource)));
    let title = |resource: Resource| ResourceTitle { resource: Word(resource), title: resource.title() };
    Ok(Json(Courses {
        span: window.into(),
        detail: Word(pieces.coarsest()),
        cell_seconds,
        resources: Resource::all().filter(is_told).map(title).collect(),
        courses,
        starts: starts.iter().map(|start| moment(*start)).collect(),
        cpus: app.store.newest_of_server(instance_id, Metric::Cpus, now()).await?,
    }))
}

/// Figures as an address has them.
///
/// # Errors
/// Where one is not known, or there are too many.
pub fn figures_named(names: &str) -> Result<Vec<ServerFigure>, Problem> {
    let figures: Option<Vec<ServerFigure>> = names.split(',').map(|name| ServerFigure::named(name.trim())).collect();
    figures.filter(|figures| figures.len() <= MOST_FIGURES).ok_or_else(|| {
        let remedy = format!("Give up to {MOST_FIGURES} of those that GET /figures lists, with commas between them.");
        Problem::invalid(vec![FieldProblem::new("figure", names, remedy)])
    })
}

/// Figures by what they tell of, in its order; what tells of no resource comes last.
fn shown_order(figures: &[ServerFigure]) -> Vec<ServerFigure> {
    let of_resources =
        Resource::all().flat_map(|resource| resource.figures()).filter_map(|name| ServerFigure::named(name));
    let others = figures.iter().copied().filter(|figure| Resource::of(*figure).is_none());
    of_resources.chain(others).collect()
}

fn most(series: &FigureSeries) -> f64 {
    series.reach().map_or(f64::NEG_INFINITY, |(_, most)| most)
}
