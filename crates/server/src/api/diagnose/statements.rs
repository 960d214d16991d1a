use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::time_spread::deviation_ms;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::load::Load;
use hurnix_core::readings::statement_kind::StatementKind;
use hurnix_core::{Named, WaitKind, Window};
use hurnix_store::{Bounds, Coverage, Dimension, OnlyPart, Pieces, SeenOf, StatementOrder, StatementQuery};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::analyst::followed_since;
use crate::api::base::bounds::bounds;
use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{CauseFigures, Change, Id, LoadFigures, StatementFigures};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, WindowQuery, given, moment, summed_by};
use crate::api::base::word::{DetailWord, MeasuredWord, StatementKindWord, Word};
use crate::causes::happened_to;
use crate::state::{App, now};

/// Most rows of one page of a list.
const MOST_ROWS: u32 = 200;
/// Families whose load is asked for at once.
const MOST_WITH_LOAD: i64 = 20_000;
/// A cell as long as any window: load of the whole of it.
const WHOLE_SECONDS: i64 = 400 * 86_400;
/// Most changes listed.
pub const MOST_CHANGES: i64 = 1_000;

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
    /// Only what this account ran.
    account: Option<String>,
    /// Only families that this program was seen running. Servers count by account and database, not by program: figures
    /// are those of all programs, and the load is that of this one.
    program: Option<String>,
    /// Only these sorts of statements, with commas between them, such as `session,monitoring`; all when left out.
    kinds: Option<String>,
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
    /// Only so much time planning, in seconds; likewise.
    planning: Option<String>,
    /// Only so many pages read from outside the cache; likewise.
    reads: Option<String>,
    /// Only so many pages changed; likewise.
    writes: Option<String>,
    /// Only so many pages of temporary files; likewise.
    temp: Option<String>,
    /// Only so much WAL, in bytes; likewise.
    wal: Option<String>,
    /// Only so many sessions waiting, on average; likewise.
    waiting: Option<String>,
    /// Only so many sessions running, on average; likewise.
    running: Option<String>,
    /// Only those whose longest execution that was seen took so many seconds; likewise.
    longest: Option<String>,
    /// Whether to tell the longest execution that was seen; otherwise it is told where it is sorted or chosen by.
    with_longest: Option<bool>,
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
            (StatementOrder::Planning, "planning", &self.planning),
            (StatementOrder::Reads, "reads", &self.reads),
            (StatementOrder::Writes, "writes", &self.writes),
            (StatementOrder::Temp, "temp", &self.temp),
            (StatementOrder::Wal, "wal", &self.wal),
            (StatementOrder::Waiting, "waiting", &self.waiting),
            (StatementOrder::Running, "running", &self.running),
            (StatementOrder::Longest, "longest", &self.longest),
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

    /// Sorts of statements that are named; none for all.
    fn kinds(&self) -> Result<Vec<StatementKind>, Problem> {
        let named = self.kinds.as_deref().unwrap_or_default().split(',').map(str::trim).filter(|name| !name.is_empty());
        let kind = |name: &str| {
            StatementKind::named(name).ok_or_else(|| {
                let remedy = format!("Give sorts of statements with commas between them: {}.", StatementKind::names());
                Problem::invalid(vec![FieldProblem::new("kinds", name, remedy)])
            })
        };
        named.map(kind).collect()
    }
}

/// A page of statements.
#[derive(Serialize, ToSchema)]
pub struct StatementList {
    /// What of the window was observed.
    coverage: CoverageFigures,
    /// What all families of the instance, or of the database asked for, cost together, whatever the search.
    total: StatementFigures,
    /// Of that: families of sessions and monitoring, which go on around what applications ask.
    around: AroundFigures,
    /// Load of everything in the window, or of the account, program and database asked for.
    load: LoadFigures,
    /// Families that ran and match the search.
    matching: i64,
    /// The families on this page.
    families: Vec<StatementRow>,
}

/// What goes on around the statements of applications.
#[derive(Serialize, ToSchema)]
pub struct AroundFigures {
    /// Families of it that ran.
    families: i64,
    /// What they cost.
    figures: StatementFigures,
}

/// What of a window was observed.
#[derive(Serialize, ToSchema)]
pub struct CoverageFigures {
    /// The coarsest level of detail used: `fine`, `ten_minutes`, `hour` or `day`.
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
    /// As the API writes it.
    pub fn new(coverage: Coverage, detail: Detail) -> Self {
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
    /// What sort of statement it is; nothing while it is not judged yet.
    kind: Option<StatementKindWord>,
    /// What it cost.
    figures: StatementFigures,
    /// Share of the time of all families, from 0 to 1.
    share: f64,
    /// Mean time per call in milliseconds.
    mean_ms: f64,
    /// Mean number of sessions that waited in it; nothing where the server was not looked at.
    waiting: Option<f64>,
    /// Mean number of sessions that ran it, on a processor or ready for one; nothing where the server was not looked at. The
    /// processor time of a statement is at most this times the seconds of the window.
    running: Option<f64>,
    /// So long its longest execution took at least, in seconds, as far as single looks are kept; nothing where that was not
    /// asked for, and where none was seen.
    longest_seconds: Option<f64>,
    /// Standard deviation of the times of single executions in milliseconds; nothing where it is not known.
    deviation_ms: Option<f64>,
    /// Sessions that were seen running it or waiting in it.
    load: LoadFigures,
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
    let (bounds, kinds) = (query.bounds()?, query.kinds()?);
    find(&app, instance_id).await?;
    // A name that no figure speaks of has run nothing.
    let named = async |name: &Option<String>| match name {
        None => Ok(None),
        Some(name) => app.store.name_id(instance_id, name).await.map(|id| Some(id.unwrap_or_default())),
    };
    let (database_id, account_id) = (named(&query.database).await?, named(&query.account).await?);
    let program_id = named(&query.program).await?;
    let part = |dimension, id: Option<i32>| id.map(|id| OnlyPart { dimension, part: Some(i64::from(id)) });
    let only: Vec<OnlyPart> = [
        part(Dimension::Database, database_id),
        part(Dimension::Account, account_id),
        part(Dimension::Program, program_id),
    ]
    .into_iter()
    .flatten()
    .collect();
    let order = query.sort.map_or(StatementOrder::Time, |sort| sort.0);
    let pieces = summed_by(&app, instance_id, &[RetentionGroup::Statements], window).await?;
    let looked = summed_by(&app, instance_id, &[RetentionGroup::Activity], window).await?;
    // Who waited must be known of all families to sort or choose by it, and of those on the page otherwise.
    let goes_by =
        |wanted: &[StatementOrder]| wanted.contains(&order) || bounds.iter().any(|(of, _)| wanted.contains(of));
    let by_load = goes_by(&[StatementOrder::Waiting, StatementOrder::Running]) || program_id.is_some();
    let longest = match query.with_longest == Some(true) || goes_by(&[StatementOrder::Longest]) {
        true => app.store.longest_seen(instance_id, window, &only).await?,
        false => HashMap::new(),
    };
    let mut loads = match by_load {
        true => loads_of(&app, instance_id, &looked, &only, MOST_WITH_LOAD).await?,
        false => HashMap::new(),
    };
    let mut seen: HashMap<i64, SeenOf> = HashMap::new();
    for (family, load) in &loads {
        let [waiting, running] = [load.waiting(), load.mean(WaitKind::Running)].map(Option::unwrap_or_default);
        seen.insert(*family, SeenOf { waiting, running, ..SeenOf::default() });
    }
    for (family, seconds) in &longest {
        seen.entry(*family).or_default().longest_seconds = *seconds;
    }
    let asked = StatementQuery {
        database_id,
        account_id,
        kinds,
        seen,
        only_seen: program_id.is_some(),
        bounds,
        search: query.search.filter(|search| !search.trim().is_empty()).map(|search| search.trim().to_owned()),
        order,
        descending: !query.ascending.unwrap_or(false),
        offset: i64::from(page - 1) * i64::from(page_size),
        limit: i64::from(page_size),
    };
    let (coverage, (rows, totals), cells) = tokio::try_join!(
        app.store.coverage(instance_id, &pieces),
        app.store.statements(instance_id, &pieces, &asked),
        app.store.load(instance_id, &looked, WHOLE_SECONDS, &only),
    )?;
    let load: Load = cells.iter().map(|cell| &cell.load).sum();
    if !by_load {
        let of_page = rows.iter().map(|row| OnlyPart { dimension: Dimension::Family, part: Some(row.family_id) });
        let only: Vec<OnlyPart> = of_page.chain(only).collect();
        loads = loads_of(&app, instance_id, &looked, &only, i64::from(page_size)).await?;
    }
    let all_us = totals.counters.exec_us.max(1) as f64;
    // Families that nobody was seen in have a load of nothing, where anybody looked.
    let unseen = Load { samples: load.samples, ..Load::default() };
    let family = |row: hurnix_store::StatementRow| {
        let load = loads.get(&row.family_id).unwrap_or(&unseen);
        StatementRow {
            family_id: Id(row.family_id),
            text: row.text,
            tag: row.tag,
            kind: row.kind.map(Word),
            share: row.counters.exec_us as f64 / all_us,
            mean_ms: mean_ms(&row.counters),
            deviation_ms: deviation_ms(&row.counters),
            waiting: load.waiting(),
            running: load.mean(WaitKind::Running),
            longest_seconds: longest.get(&row.family_id).copied(),
            load: load.into(),
            figures: (&row.counters).into(),
            lower_bound: row.lower_bound,
        }
    };
    let families = rows.into_iter().map(family).collect();
    let (around, costs) = &totals.around;
    Ok(Json(StatementList {
        coverage: CoverageFigures::new(coverage, pieces.coarsest()),
        total: (&totals.counters).into(),
        around: AroundFigures { families: *around, figures: costs.into() },
        load: (&load).into(),
        matching: totals.matching,
        families,
    }))
}

/// Load of the families that were seen most, by number.
async fn loads_of(
    app: &App,
    instance_id: i32,
    pieces: &Pieces,
    only: &[OnlyPart],
    most: i64,
) -> Result<HashMap<i64, Load>, Problem> {
    let split = app.store.breakdown(instance_id, pieces, Dimension::Family, only, most).await?;
    Ok(split.parts.into_iter().filter_map(|part| Some((part.part?, part.load))).collect())
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

pub fn mean_ms(counters: &StatementCounters) -> f64 {
    if counters.calls > 0 { counters.exec_us as f64 / counters.calls as f64 / 1e3 } else { 0.0 }
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
