//! Plans as trees: of a text that somebody brings, and of two held against each other.

use axum::Json;
use hurnix_core::findings::misestimate::{Misestimate, first_wrong};
use hurnix_core::findings::plan_difference::{Step, difference};
use hurnix_core::findings::plan_share::{of_cost, of_time};
use hurnix_core::readings::plan::{Detail, Node, Pages, Plan};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::extract::{Body, SignedIn};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::word::{LikenessWord, WhyWrongWord, Word};

/// Letters of a text that are told again where it is no plan.
const MOST_TOLD: usize = 80;

/// A plan as a tree.
#[derive(Serialize, ToSchema)]
pub struct PlanTree {
    /// Its steps, each before those below it.
    steps: Vec<PlanStep>,
    /// Where rows were first expected wrongly, the worst first; empty of a plan that was not run.
    wrong: Vec<WrongRows>,
    /// Milliseconds that planning took, where that was told.
    planning_ms: Option<f64>,
    /// Milliseconds that running it took, where it was run.
    execution_ms: Option<f64>,
}

/// A step of a plan.
#[derive(Serialize, ToSchema)]
pub struct PlanStep {
    /// Steps above it.
    depth: usize,
    /// What it is to the one above, where that is more than an input.
    role: Option<String>,
    /// What it does, and to what.
    name: String,
    /// The planner's cost, with the steps below, in its own units; nothing where that was left out.
    cost: Option<f64>,
    /// Share of the whole plan's cost that it takes for itself.
    cost_share: Option<f64>,
    /// Rows that were expected, each time that it runs.
    expected_rows: Option<f64>,
    /// Rows that came, each time that it ran; nothing where it was not run.
    rows: Option<f64>,
    /// How often it ran; 0 where the plan has it and it was never run.
    loops: Option<f64>,
    /// Milliseconds in all its runs, with the steps below.
    ms: Option<f64>,
    /// Share of the time that it took for itself.
    time_share: Option<f64>,
    /// Pages of tables and indexes that it and the steps below found in the server's cache.
    hit_pages: Option<u64>,
    /// Likewise, read into it.
    read_pages: Option<u64>,
    /// Pages of temporary files that were written.
    temp_written_pages: Option<u64>,
    /// What else is told of it, in the server's words.
    details: Vec<PlanDetail>,
}

/// Something that is told of a step.
#[derive(Serialize, ToSchema)]
pub struct PlanDetail {
    /// The server's word for it.
    name: String,
    /// What it says.
    text: String,
}

/// A step of which other rows came than were expected.
#[derive(Serialize, ToSchema)]
pub struct WrongRows {
    /// Its place among the steps.
    step: usize,
    /// Rows that were expected.
    expected_rows: f64,
    /// Rows that came.
    rows: f64,
    /// Why, most likely.
    why: WhyWrongWord,
}

/// A step of two plans.
#[derive(Serialize, ToSchema)]
pub struct MergedStep {
    /// Steps above it.
    depth: usize,
    /// Its place in the first plan; nothing where that has none.
    first: Option<usize>,
    /// Likewise, in the second.
    second: Option<usize>,
    /// How the two stand to each other.
    likeness: LikenessWord,
}

impl PlanTree {
    /// Of a plan that was read.
    pub fn new(plan: &Plan) -> PlanTree {
        let (costs, times) = (of_cost(plan), of_time(plan));
        let share = |shares: &Option<Vec<f64>>, place: usize| shares.as_ref().and_then(|all| all.get(place).copied());
        let step = |(place, node): (usize, &Node)| PlanStep::new(node, share(&costs, place), share(&times, place));
        PlanTree {
            steps: plan.nodes.iter().enumerate().map(step).collect(),
            wrong: first_wrong(plan).into_iter().map(WrongRows::from).collect(),
            planning_ms: plan.planning_ms,
            execution_ms: plan.execution_ms,
        }
    }
}

impl PlanStep {
    fn new(node: &Node, cost_share: Option<f64>, time_share: Option<f64>) -> PlanStep {
        let pages = |of: fn(Pages) -> u64| node.pages.map(of);
        PlanStep {
            depth: node.depth,
            role: node.role.clone(),
            name: node.name(),
            cost: node.estimate.map(|estimate| estimate.total_cost),
            cost_share,
            expected_rows: node.estimate.map(|estimate| estimate.rows),
            rows: node.actual.map(|actual| actual.rows),
            loops: node.actual.map(|actual| actual.loops),
            ms: node.actual.and_then(|actual| Some(actual.total_ms? * actual.loops)),
            time_share,
            hit_pages: pages(|pages| pages.hit),
            read_pages: pages(|pages| pages.read),
            temp_written_pages: pages(|pages| pages.temp_written),
            details: node.details.iter().map(PlanDetail::from).collect(),
        }
    }
}

impl From<&Detail> for PlanDetail {
    fn from(Detail { name, text }: &Detail) -> Self {
        PlanDetail { name: name.clone(), text: text.clone() }
    }
}

impl From<Misestimate> for WrongRows {
    fn from(Misestimate { place, expected, came, why }: Misestimate) -> Self {
        WrongRows { step: place, expected_rows: expected, rows: came, why: Word(why) }
    }
}

impl From<Step> for MergedStep {
    fn from(Step { depth, first, second, likeness }: Step) -> Self {
        MergedStep { depth, first, second, likeness: Word(likeness) }
    }
}

/// Texts of plans, as EXPLAIN answers: as text or as JSON, also with what psql or the log writes around them.
#[derive(Deserialize, ToSchema)]
pub struct PlansToRead {
    /// A plan.
    first_plan: String,
    /// Another one, to hold it against.
    second_plan: Option<String>,
}

/// What was read.
#[derive(Serialize, ToSchema)]
pub struct PlansRead {
    /// The plan.
    first: PlanTree,
    /// The other one.
    second: Option<PlanTree>,
    /// Both as one tree; empty where there is one only.
    merged: Vec<MergedStep>,
}

/// Reads a plan from elsewhere, or two and what differs between them. Nothing is kept.
#[utoipa::path(post, path = "/plans/read", tag = "diagnose", request_body = PlansToRead,
    responses((status = 200, body = PlansRead)))]
pub async fn read_plans(_: SignedIn, Body(given): Body<PlansToRead>) -> Answer<PlansRead> {
    let first = read("first_plan", &given.first_plan)?;
    let second = given.second_plan.as_deref().map(|text| read("second_plan", text)).transpose()?;
    let merged = second.as_ref().map_or_else(Vec::new, |second| difference(&first, second));
    Ok(Json(PlansRead {
        first: PlanTree::new(&first),
        second: second.as_ref().map(PlanTree::new),
        merged: merged.into_iter().map(MergedStep::from).collect(),
    }))
}

fn read(field: &str, text: &str) -> Result<Plan, Problem> {
    Plan::read(text).map_err(|problem| {
        let told: String = text.trim().chars().take(MOST_TOLD).collect();
        Problem::invalid(vec![FieldProblem::new(field, told, problem.to_string())])
    })
}
