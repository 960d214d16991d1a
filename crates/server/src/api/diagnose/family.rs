//! One family of statements: what it costs over time, its plans and changes, the tables that it names, and how it fares on
//! other instances.

use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::plan_cost::{PlanCost, compared};
use hurnix_core::findings::stands_out::{LEAST_CALLS, stands_out};
use hurnix_core::findings::time_spread::deviation_ms;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::catalog::Table;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::load::Load;
use hurnix_core::readings::plan::Plan;
use hurnix_core::readings::statement_kind::StatementKind;
use hurnix_store::{ChangeRow, Dimension, LoggedPlanRow, OnlyPart, PlanRow};
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{CauseFigures, Change, Id, LoadFigures, StatementFigures};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{WindowQuery, answered_by, cell_seconds, moment, summed_by};
use crate::api::base::word::{PlanVerdictWord, StatementKindWord, Word};
use crate::api::diagnose::literal_floods::LiteralFlood;
use crate::api::diagnose::load::STRIP_CELLS;
use crate::api::diagnose::plans::PlanTree;
use crate::api::diagnose::statements::{CoverageFigures, MOST_CHANGES, mean_ms};
use crate::causes::causes_of;
use crate::plan_costs::{PlansInUse, plans_in_use};
use crate::state::App;

/// Changes of a family whose causes are looked for.
const MOST_EXPLAINED: usize = 3;
/// Tables of a family that are told.
const MOST_TABLES: usize = 30;

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
    /// Standard deviation of the times of single executions in the window, in milliseconds; nothing where it is not known.
    deviation_ms: Option<f64>,
    /// What sort of statement it is.
    kind: StatementKindWord,
    /// Its texts, where they are very many.
    flood: Option<LiteralFlood>,
    /// Tables that its text names, the largest first.
    tables: Vec<NamedTable>,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// Its window in equal cells.
    cells: Vec<FamilyCell>,
    /// Load of its statements in the window, by wait kind.
    load: LoadFigures,
    /// Its plans, the newest first.
    plans: Vec<PlanFigures>,
    /// When it last came to be run with another plan, and what came of that.
    plan_changed: Option<PlanChanged>,
    /// Plans that the server wrote to its log when the statement was run, the last seen first.
    logged_plans: Vec<LoggedPlanFigures>,
    /// Its changes: what holds and moves most first, then what is over, the newest first.
    changes: Vec<Change>,
}

/// A table that a statement names.
#[derive(Serialize, ToSchema)]
pub struct NamedTable {
    /// Database that it is in.
    database: String,
    /// Schema that it is in.
    schema: String,
    /// Its name.
    name: String,
    /// Rows, by the server's last count; nothing where it never counted.
    rows: Option<f64>,
    /// Size with its large values, without indexes, in bytes.
    size_bytes: i64,
    /// Names of its indexes, each with its size in bytes.
    indexes: Vec<NamedIndex>,
}

/// An index of such a table.
#[derive(Serialize, ToSchema)]
pub struct NamedIndex {
    /// Its name.
    name: String,
    /// Its keys in order.
    keys: Vec<String>,
    /// Its size in bytes.
    size_bytes: i64,
}

impl NamedTable {
    fn new(database: &str, table: &Table) -> NamedTable {
        let index = |index: &hurnix_core::readings::catalog::Index| NamedIndex {
            name: index.name.clone(),
            keys: index.keys.iter().map(|key| key.text().to_owned()).collect(),
            size_bytes: index.size_bytes,
        };
        NamedTable {
            database: database.to_owned(),
            schema: table.schema.clone(),
            name: table.name.clone(),
            rows: table.rows,
            size_bytes: table.size_bytes,
            indexes: table.indexes.iter().map(index).collect(),
        }
    }
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
    /// Calls while it was in use; nothing where it never was the last one made.
    calls: Option<i64>,
    /// What these took in the mean, in milliseconds; nothing where they were too few.
    mean_ms: Option<f64>,
}

/// That a family came to be run with another plan.
#[derive(Serialize, ToSchema)]
pub struct PlanChanged {
    /// When.
    at: DateTime<Utc>,
    /// Time per call with the plan before, in milliseconds, while that was in use.
    before_ms: f64,
    /// And with the plan now.
    now_ms: f64,
    /// How many times as long a call takes.
    ratio: f64,
    /// Whether that is better or worse.
    verdict: PlanVerdictWord,
}

/// A plan that the server wrote to its log.
#[derive(Serialize, ToSchema)]
pub struct LoggedPlanFigures {
    /// When it was first written.
    first_at: DateTime<Utc>,
    /// When it was last written.
    last_at: DateTime<Utc>,
    /// Executions that were written: long ones only, by the server's setting.
    times: i64,
    /// What these took in the mean, in milliseconds.
    mean_ms: f64,
    /// The longest of them, in milliseconds.
    most_ms: f64,
    /// The last one as text.
    text: String,
    /// The same as a tree; nothing where it cannot be read.
    tree: Option<PlanTree>,
    /// Database that it ran in.
    database: String,
    /// Whether the server makes the same plan without running the statement.
    is_planned: bool,
}

impl LoggedPlanFigures {
    fn new(row: LoggedPlanRow, planned: &[i64]) -> LoggedPlanFigures {
        LoggedPlanFigures {
            first_at: moment(row.first_at),
            last_at: moment(row.last_at),
            times: row.times,
            mean_ms: row.total_ms / row.times.max(1) as f64,
            most_ms: row.most_ms,
            tree: Plan::read(&row.text).ok().as_ref().map(PlanTree::new),
            text: row.text,
            database: row.database,
            is_planned: planned.contains(&row.identity),
        }
    }
}

impl PlanChanged {
    /// The last change of plan, where enough was counted with both.
    fn last(PlansInUse { uses, costs }: &PlansInUse) -> Option<PlanChanged> {
        let [.., before, now] = uses.as_slice() else { return None };
        let (before, cost) = (costs.get(&before.identity)?, costs.get(&now.identity)?);
        let (verdict, ratio) = compared(before, cost)?;
        Some(PlanChanged {
            at: moment(now.from),
            before_ms: before.mean_ms()?,
            now_ms: cost.mean_ms()?,
            ratio,
            verdict: Word(verdict),
        })
    }
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
    let in_use = plans_in_use(&app.store, instance_id, family_id).await?;
    let rows = app.store.plans(family_id).await?;
    let planned: Vec<i64> = rows.iter().filter_map(|row| Some(row.plan.as_ref().ok()?.0)).collect();
    let logged = app.store.logged_plans(family_id).await?;
    let logged_plans = logged.into_iter().map(|row| LoggedPlanFigures::new(row, &planned)).collect();
    let plan = |plan: PlanRow| {
        let (cost, text, absent) = match plan.plan {
            Ok((identity, text)) => (in_use.costs.get(&identity), Some(text), None),
            Err(reason) => (None, None, Some(reason)),
        };
        PlanFigures {
            first_read_at: moment(plan.first_read_at),
            read_at: moment(plan.read_at),
            tree: text.as_deref().and_then(|text| Plan::read(text).ok()).as_ref().map(PlanTree::new),
            text,
            absent,
            database: plan.database,
            calls: cost.map(|cost| cost.calls),
            mean_ms: cost.and_then(PlanCost::mean_ms),
        }
    };
    let plans = rows.into_iter().map(plan).collect();
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
    let mut tables = Vec::new();
    for catalog in app.store.catalogs(instance_id).await? {
        let named = catalog.tables_named_in(&family.text);
        tables.extend(named.map(|table| NamedTable::new(&catalog.database, table)));
    }
    tables.sort_by_key(|table| std::cmp::Reverse(table.size_bytes));
    tables.truncate(MOST_TABLES);
    let coverage = CoverageFigures::new(app.store.coverage(instance_id, &pieces).await?, pieces.coarsest());
    let floods = app.store.literal_floods(instance_id, window).await?;
    Ok(Json(FamilyFigures {
        family_id: Id(family_id),
        kind: Word(StatementKind::of(&family.text)),
        flood: floods.into_iter().find(|row| row.family_id == family_id).map(|row| LiteralFlood::new(row, &counters)),
        text: family.text,
        sample: family.sample,
        tag: family.tag,
        first_seen_at: moment(family.first_seen_at),
        coverage,
        mean_ms: mean_ms(&counters),
        deviation_ms: deviation_ms(&counters),
        tables,
        figures: (&counters).into(),
        cell_seconds,
        cells,
        load: (&load).into(),
        plans,
        plan_changed: PlanChanged::last(&in_use),
        logged_plans,
        changes,
    }))
}

/// The same family on the instances that have it.
#[derive(Serialize, ToSchema)]
pub struct FamilyElsewhere {
    /// Instances on which it ran in the window, the one asked for among them; those with the most time first.
    instances: Vec<FamilyOnInstance>,
}

/// A family on one instance.
#[derive(Serialize, ToSchema)]
pub struct FamilyOnInstance {
    /// Number of the instance.
    instance_id: i32,
    /// Its label.
    label: String,
    /// Its group.
    group: Option<String>,
    /// Number of the family there.
    family_id: Id,
    /// What it cost there in the window.
    figures: StatementFigures,
    /// Mean time per call in milliseconds.
    mean_ms: f64,
    /// How many times the median of the other instances' time per call it takes, where it stands out from them.
    stands_out: Option<f64>,
}

/// One family over all instances of the group of an instance; of all that are in no group, where it is in none.
#[utoipa::path(get, path = "/instances/{instance_id}/statements/{family_id}/elsewhere", tag = "diagnose",
    params(("instance_id" = i32, Path), ("family_id" = String, Path), WindowQuery),
    responses((status = 200, body = FamilyElsewhere)))]
pub async fn family_elsewhere(
    State(app): State<App>,
    _: SignedIn,
    Path((instance_id, family_id)): Path<(i32, i64)>,
    Query(query): Query<WindowQuery>,
) -> Answer<FamilyElsewhere> {
    let window = query.window()?;
    let instance = find(&app, instance_id).await?;
    let same = app.store.same_family(instance_id, family_id).await?;
    if same.is_empty() {
        return Err(Problem::not_found("family_id", "statement family", family_id));
    }
    let mut instances = Vec::new();
    for other in app.store.instances().await?.into_iter().filter(|other| other.group == instance.group) {
        let Some(family) = same.get(&other.instance_id) else { continue };
        let pieces = summed_by(&app, other.instance_id, &[RetentionGroup::Statements], window).await?;
        let counters = app.store.family_sum(other.instance_id, *family, &pieces).await?;
        if counters.calls == 0 && other.instance_id != instance_id {
            continue;
        }
        instances.push(FamilyOnInstance {
            instance_id: other.instance_id,
            label: other.label,
            group: other.group,
            family_id: Id(*family),
            mean_ms: mean_ms(&counters),
            figures: (&counters).into(),
            stands_out: None,
        });
    }
    let means: Vec<Option<f64>> =
        instances.iter().map(|one| (one.figures.calls >= LEAST_CALLS).then_some(one.mean_ms)).collect();
    for (one, stands_out) in instances.iter_mut().zip(stands_out(&means)) {
        one.stands_out = stands_out;
    }
    instances.sort_by_key(|one| std::cmp::Reverse(one.figures.exec_us));
    Ok(Json(FamilyElsewhere { instances }))
}
