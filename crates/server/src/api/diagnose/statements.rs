use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Window;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::load::Load;
use hurnix_core::readings::plan::Plan;
use hurnix_store::{Bounds, ChangeRow, Coverage, Dimension, OnlyPart, PlanRow, StatementOrder, StatementQuery};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::analyst::followed_since;
use crate::api::base::bounds::bounds;
use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{CauseFigures, Change, Id, LoadFigures, StatementFigures};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, WindowQuery, answered_by, cell_seconds, given, moment};
use crate::api::base::word::{DetailWord, MeasuredWord, Word};
use crate::api::diagnose::load::STRIP_CELLS;
use crate::api::diagnose::plans::PlanTree;
use crate::causes::{causes_of, happened_to};
use crate::state::{App, now};

/// Changes of a family whose causes are looked for.
const MOST_EXPLAINED: usize = 3;
/// Most rows of one page of a list.
const MOST_ROWS: u32 = 200;
/// Most changes listed.
const MOST_CHANGES: i64 = 1_000;

/// What to sort statements by.
pub type StatementOrderWord = Word<StatementOrder>;

/// Which statements to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ListQuery {
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
    /// What to sort by; time when left out.
    sort: Option<StatementOrderWord>,
    /// Smallest (or first) first.
    ascending: Option<bool>,
    /// Only families whose text or tag contains this.
    search: Option<String>,
    /// Only what ran in this database.
    database: Option<String>,
    /// Only so many calls: `5`, `>5`, `>=5`, `<5`, `<=5` or `5..9`.
    calls: Option<String>,
    /// Only so much time executing, in seconds; likewise.
    time: Option<String>,
    /// Only so much time per call, in milliseconds; likewise.
    mean: Option<String>,
    /// Only so many pages touched; likewise.
    pages: Option<String>,
    /// Only so many rows returned or changed; likewise.
    rows: Option<String>,
    /// Page, from 1.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Rows on a page, 200 at most.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

impl ListQuery {
    /// Bounds of figures, all of them checked.
    fn bounds(&self) -> Result<Vec<(StatementOrder, Bounds)>, Problem> {
        let given = [
            (StatementOrder::Calls, "calls", &self.calls),
            (StatementOrder::Time, "time", &self.time),
            (StatementOrder::Mean, "mean", &self.mean),
            (StatementOrder::Pages, "pages", &self.pages),
            (StatementOrder::Rows, "rows", &self.rows),
        ];
        let (mut found, mut errors) = (Vec::new(), Vec::new());
        for (of, field, text) in given {
            match bounds(field, text.as_deref()) {
                Ok(bounds) => found.extend(bounds.map(|bounds| (of, bounds))),
                Err(error) => errors.push(error),
            }
        }
        if errors.is_empty() { Ok(found) } else { Err(Problem::invalid(errors)) }
    }
}

/// A page of statements.
#[derive(Serialize, ToSchema)]
pub struct StatementList {
    /// What of the window was observed.
    coverage: CoverageFigures,
    /// What all families of the instance, or of the database asked for, cost together, whatever the search.
    total: StatementFigures,
    /// Families that ran and match the search.
    matching: i64,
    /// The families on this page.
    families: Vec<StatementRow>,
}

/// What of a window was observed.
#[derive(Serialize, ToSchema)]
pub struct CoverageFigures {
    /// The coarsest level of detail used: `fine`, `ten_minutes` or `hour`.
    detail: DetailWord,
    /// From the first snapshot to the last; nothing when there are not two.
    span: Option<Span>,
    /// Seconds of all periods inside.
    seconds: f64,
    /// Periods inside.
    periods: i64,
    /// Snapshots before which there are no figures, with the reason.
    without: Vec<Without>,
}

/// A snapshot before which there are no figures.
#[derive(Serialize, ToSchema)]
pub struct Without {
    /// When it was taken.
    at: DateTime<Utc>,
    /// Why there are none.
    reason: String,
}

impl CoverageFigures {
    fn new(coverage: Coverage, detail: Detail) -> Self {
        let span = coverage.from.zip(coverage.to).map(|(from, to)| Span { from: moment(from), to: moment(to) });
        let without = coverage.without.into_iter().map(|(at, reason)| Without { at: moment(at), reason }).collect();
        CoverageFigures { detail: Word(detail), span, seconds: coverage.seconds, periods: coverage.periods, without }
    }
}

/// A family's figures in the window.
#[derive(Serialize, ToSchema)]
pub struct StatementRow {
    /// Number of the family.
    family_id: Id,
    /// Its text.
    text: String,
    /// Comment kept beside it.
    tag: Option<String>,
    /// What it cost.
    figures: StatementFigures,
    /// Share of the time of all families, from 0 to 1.
    share: f64,
    /// Mean time per call in milliseconds.
    mean_ms: f64,
    /// Whether some of the figures are only what could be seen.
    lower_bound: bool,
}

/// Families by what they cost in a window.
#[utoipa::path(get, path = "/instances/{instance_id}/statements", tag = "diagnose",
    params(("instance_id" = i32, Path), ListQuery),
    responses((status = 200, body = StatementList)))]
pub async fn list_statements(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<ListQuery>,
) -> Answer<StatementList> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let (page, page_size) = page(query.page, query.page_size)?;
    let bounds = query.bounds()?;
    find(&app, instance_id).await?;
    let database_id = match &query.database {
        None => None,
        // A database that no figure speaks of has run nothing.
        Some(name) => Some(app.store.name_id(instance_id, name).await?.unwrap_or_default()),
    };
    let asked = StatementQuery {
        database_id,
        bounds,
        search: query.search.filter(|search| !search.trim().is_empty()).map(|search| search.trim().to_owned()),
        order: query.sort.map_or(StatementOrder::Time, |sort| sort.0),
        descending: !query.ascending.unwrap_or(false),
        offset: i64::from(page - 1) * i64::from(page_size),
        limit: i64::from(page_size),
    };
    let pieces = answered_by(&app, instance_id, &[RetentionGroup::Statements], window).await?;
    let coverage = app.store.coverage(instance_id, &pieces).await?;
    let (rows, totals) = app.store.statements(instance_id, &pieces, &asked).await?;
    let all_us = totals.counters.exec_us.max(1) as f64;
    let families = rows
        .into_iter()
        .map(|row| StatementRow {
            family_id: Id(row.family_id),
            text: row.text,
            tag: row.tag,
            share: row.counters.exec_us as f64 / all_us,
            mean_ms: mean_ms(&row.counters),
            figures: (&row.counters).into(),
            lower_bound: row.lower_bound,
        })
        .collect();
    let total = (&totals.counters).into();
    let coverage = CoverageFigures::new(coverage, pieces.coarsest());
    Ok(Json(StatementList { coverage, total, matching: totals.matching, families }))
}

/// Page and rows on it, checked.
pub fn page(page: Option<u32>, page_size: Option<u32>) -> Result<(u32, u32), Problem> {
    let (page, page_size) = (page.unwrap_or(1), page_size.unwrap_or(25));
    let mut errors = Vec::new();
    if page == 0 {
        errors.push(FieldProblem::new("page", page, "Pages are counted from 1."));
    }
    if page_size == 0 || page_size > MOST_ROWS {
        errors.push(FieldProblem::new("page_size", page_size, format!("Give from 1 to {MOST_ROWS} rows.")));
    }
    if errors.is_empty() { Ok((page, page_size)) } else { Err(Problem::invalid(errors)) }
}

fn mean_ms(counters: &StatementCounters) -> f64 {
    if counters.calls > 0 { counters.exec_us as f64 / counters.calls as f64 / 1e3 } else { 0.0 }
}

/// One family in full.
#[derive(Serialize, ToSchema)]
pub struct FamilyFigures {
    /// Number.
    family_id: Id,
    /// Text of the family.
    text: String,
    /// A statement of it as the server keeps it.
    sample: String,
    /// Comment kept beside it.
    tag: Option<String>,
    /// When it was first seen.
    first_seen_at: DateTime<Utc>,
    /// What of the window was observed.
    coverage: CoverageFigures,
    /// What it cost in the window.
    figures: StatementFigures,
    /// Mean time per call in the window, in milliseconds.
    mean_ms: f64,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// Its window in equal cells.
    cells: Vec<FamilyCell>,
    /// Load of its statements in the window, by wait kind.
    load: LoadFigures,
    /// Its plans, the newest first.
    plans: Vec<PlanFigures>,
    /// Its changes: what holds and moves most first, then what is over, the newest first.
    changes: Vec<Change>,
}

/// One cell of a family's strips.
#[derive(Serialize, ToSchema)]
pub struct FamilyCell {
    /// Start of the cell.
    at: DateTime<Utc>,
    /// Seconds observed in it; 0 where nothing was.
    seconds: f64,
    /// What the family cost.
    figures: StatementFigures,
    /// Its load.
    load: LoadFigures,
}

/// A plan made without running the statement.
#[derive(Serialize, ToSchema)]
pub struct PlanFigures {
    /// When the server first made it.
    first_read_at: DateTime<Utc>,
    /// When it last made it.
    read_at: DateTime<Utc>,
    /// The plan as the server writes it.
    text: Option<String>,
    /// The same as a tree; nothing where it cannot be read.
    tree: Option<PlanTree>,
    /// Why there is none.
    absent: Option<String>,
    /// The database that it was made in, where that was noted.
    database: Option<String>,
}

/// One family: its strips, text, plan, and lasting change.
#[utoipa::path(get, path = "/instances/{instance_id}/statements/{family_id}", tag = "diagnose",
    params(("instance_id" = i32, Path), ("family_id" = String, Path), WindowQuery),
    responses((status = 200, body = FamilyFigures)))]
pub async fn one_family(
    State(app): State<App>,
    _: SignedIn,
    Path((instance_id, family_id)): Path<(i32, i64)>,
    Query(query): Query<WindowQuery>,
) -> Answer<FamilyFigures> {
    let window = query.window()?;
    let instance = find(&app, instance_id).await?;
    let family = app.store.family(instance_id, family_id).await?;
    let family = family.ok_or_else(|| Problem::not_found("family_id", "statement family", family_id))?;
    let pieces =
        answered_by(&app, instance_id, &[RetentionGroup::Statements, RetentionGroup::Activity], window).await?;
    let window = pieces.window();
    let cell_seconds = cell_seconds(&pieces, STRIP_CELLS, app.intervals_of(&instance).statements);
    let costs = app.store.family_cells(instance_id, family_id, &pieces, cell_seconds).await?;
    let only = OnlyPart { dimension: Dimension::Family, part: Some(family_id) };
    let loads = app.store.load(instance_id, &pieces, cell_seconds, &[only]).await?;
    let mut counters = StatementCounters::default();
    let mut load = Load::default();
    costs.iter().for_each(|cost| counters = counters.plus(&cost.counters));
    loads.iter().for_each(|cell| load.join(&cell.load));
    let costs: HashMap<_, _> = costs.into_iter().map(|cost| (cost.at, cost)).collect();
    let loads: HashMap<_, Load> = loads.into_iter().map(|cell| (cell.at, cell.load)).collect();
    let cells = window
        .cells(cell_seconds)
        .into_iter()
        .map(|at| FamilyCell {
            at: moment(at),
            seconds: costs.get(&at).map_or(0.0, |cost| cost.seconds),
            figures: (&costs.get(&at).map(|cost| cost.counters).unwrap_or_default()).into(),
            load: loads.get(&at).unwrap_or(&Load::default()).into(),
        })
        .collect();
    let plan = |plan: PlanRow| {
        let (text, absent) = match plan.plan {
            Ok((_, text)) => (Some(text), None),
            Err(reason) => (None, Some(reason)),
        };
        PlanFigures {
            first_read_at: moment(plan.first_read_at),
            read_at: moment(plan.read_at),
            tree: text.as_deref().and_then(|text| Plan::read(text).ok()).as_ref().map(PlanTree::new),
            text,
            absent,
            database: plan.database,
        }
    };
    let plans = app.store.plans(family_id).await?.into_iter().map(plan).collect();
    let mut changes = app.store.family_changes(family_id, MOST_CHANGES).await?;
    let weight = |row: &ChangeRow| {
        let weight = row.kept.change.weight(row.subject.measured);
        if row.kept.is_withdrawn() { -1.0 } else { weight }
    };
    // What holds and moves most comes first: a small change of today does not hide the large one of last week. That calls
    // take longer comes before what else changed of them.
    changes.sort_by(|a, b| {
        let is_else = |row: &ChangeRow| !row.subject.is_time_per_call();
        is_else(a).cmp(&is_else(b)).then(weight(b).total_cmp(&weight(a)))
    });
    let mut told: Vec<Change> = changes.iter().map(Change::new).collect();
    let explained = changes.iter().zip(&mut told).take_while(|(row, _)| row.subject.is_time_per_call());
    for (row, change) in explained.take(MOST_EXPLAINED) {
        let causes = causes_of(&app, &instance, &family, &row.kept.change).await?;
        change.causes = Some(causes.into_iter().map(CauseFigures::from).collect());
    }
    let changes = told;
    let coverage = CoverageFigures::new(app.store.coverage(instance_id, &pieces).await?, pieces.coarsest());
    Ok(Json(FamilyFigures {
        family_id: Id(family_id),
        text: family.text,
        sample: family.sample,
        tag: family.tag,
        first_seen_at: moment(family.first_seen_at),
        coverage,
        mean_ms: mean_ms(&counters),
        figures: (&counters).into(),
        cell_seconds,
        cells,
        load: (&load).into(),
        plans,
        changes,
    }))
}

/// A family, or the server, of which something changed and stayed so.
#[derive(Serialize, ToSchema)]
pub struct FamilyChange {
    /// Number of the family; nothing where the server did: time per call and calls of nearly all families at once, its
    /// load, waits and metrics.
    family_id: Option<Id>,
    /// Its text; empty for the server.
    text: String,
    /// The change.
    change: Change,
}

/// Which lasting changes to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ChangesAsked {
    /// Only what changed of this; all when not given.
    measured: Option<MeasuredWord>,
    /// Only what may have begun together with what began at this moment.
    near: Option<DateTime<Utc>>,
}

/// Lasting changes that are followed, the newest first.
#[utoipa::path(get, path = "/instances/{instance_id}/changes", tag = "diagnose",
    params(("instance_id" = i32, Path), ChangesAsked),
    responses((status = 200, body = Vec<FamilyChange>)))]
pub async fn list_changes(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(asked): Query<ChangesAsked>,
) -> Answer<Vec<FamilyChange>> {
    let instance = find(&app, instance_id).await?;
    let since = followed_since(&app);
    let measured = asked.measured.map(|Word(measured)| measured);
    let near = asked.near.map(|near| given("near", near)).transpose().map_err(|fault| Problem::invalid(vec![fault]))?;
    let mut rows = app.store.changes(instance_id, since, measured, MOST_CHANGES).await?;
    rows.retain(|row| near.is_none_or(|near| row.kept.change.began_near(near)));
    let then = happened_to(&app, &instance, &rows, Window { from: since, to: now() }).await?;
    let told = rows.into_iter().zip(then).map(|(row, then)| {
        let causes = Some(then.into_iter().map(CauseFigures::from).collect());
        let change = Change { causes, ..Change::new(&row) };
        FamilyChange { family_id: row.subject.family.map(Id), change, text: row.text }
    });
    Ok(Json(told.collect()))
}
