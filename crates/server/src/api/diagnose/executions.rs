//! Single executions that were seen: what runs now, what has just finished, and what took longest.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_store::{ExecutionOrder, ExecutionSeen};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::{Id, LoadFigures};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{WindowQuery, moment};
use crate::api::base::word::{WaitKindWord, Word};
use crate::state::App;

/// Longest window whose executions are told apart.
const LONGEST_SECONDS: f64 = 6.0 * 3600.0;
/// Most executions told.
const MOST: i64 = 200;
/// Executions told unless more are asked for.
const FEW: i64 = 10;

/// Which executions.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ExecutionsQuery {
    /// Begin.
    from: DateTime<Utc>,
    /// End; at most six hours later.
    to: DateTime<Utc>,
    /// Only those of this family.
    family_id: Option<String>,
    /// `newest` (those seen last, of these the longest) or `longest`; newest when left out.
    order: Option<ExecutionOrderWord>,
    /// Executions to tell; 10 when left out.
    #[param(minimum = 1, maximum = 200)]
    most: Option<i64>,
}

/// Executions that were seen.
#[derive(Serialize, ToSchema)]
pub struct ExecutionsSeen {
    /// When the server was last looked at in the window; nothing where it was not.
    looked_at: Option<DateTime<Utc>>,
    /// The executions, in the order asked for.
    executions: Vec<Execution>,
}

/// One execution as far as it was seen. What ends between two looks is not seen at all.
#[derive(Serialize, ToSchema)]
pub struct Execution {
    /// Number of its family.
    family_id: Id,
    /// Text of the family.
    text: String,
    /// Process number of its session.
    process: i32,
    /// When that process began.
    process_started_at: DateTime<Utc>,
    /// Account that ran it.
    account: String,
    /// What its program calls itself.
    program: String,
    /// Where it came from.
    client: String,
    /// Database that it ran in.
    database: String,
    /// When it began.
    began_at: DateTime<Utc>,
    /// When it was last seen going on.
    last_seen_at: DateTime<Utc>,
    /// Whether it went on at the last look.
    is_running: bool,
    /// Seconds that it took at least.
    seconds: f64,
    /// Looks that saw it, by what it was busy with.
    load: LoadFigures,
    /// What most of these looks saw.
    mostly: Option<WaitKindWord>,
}

impl Execution {
    fn new(seen: ExecutionSeen, is_running: bool) -> Execution {
        Execution {
            is_running,
            seconds: seen.seconds(),
            mostly: seen.busy.mostly().map(Word),
            load: (&seen.busy).into(),
            family_id: Id(seen.family.0),
            text: seen.family.1,
            process: seen.process,
            process_started_at: moment(seen.process_started_at),
            account: seen.account,
            program: seen.program,
            client: seen.client,
            database: seen.database,
            began_at: moment(seen.began_at),
            last_seen_at: moment(seen.last_seen_at),
        }
    }
}

/// Single executions that the looks at the sessions saw in a window of up to six hours.
#[utoipa::path(get, path = "/instances/{instance_id}/executions", tag = "diagnose",
    params(("instance_id" = i32, Path), ExecutionsQuery),
    responses((status = 200, body = ExecutionsSeen)))]
pub async fn list_executions(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<ExecutionsQuery>,
) -> Answer<ExecutionsSeen> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let fault =
        |field: &str, value: &str, remedy: &str| Problem::invalid(vec![FieldProblem::new(field, value, remedy)]);
    if window.seconds() > LONGEST_SECONDS {
        let remedy = "Single executions are told of six hours at most: give a later begin.";
        return Err(fault("from", &query.from.to_rfc3339(), remedy));
    }
    let most = query.most.unwrap_or(FEW);
    if !(1..=MOST).contains(&most) {
        return Err(fault("most", &most.to_string(), "Give from 1 to 200 executions."));
    }
    let family_id = match &query.family_id {
        None => None,
        Some(text) => Some(text.parse().map_err(|_| fault("family_id", text, "Give the number of a family."))?),
    };
    let order = query.order.map_or(ExecutionOrder::Newest, |order| order.0);
    find(&app, instance_id).await?;
    let (looked_at, seen) = app.store.executions(instance_id, window, family_id, order, most).await?;
    let executions = seen.into_iter().map(|seen| {
        let goes_on = Some(seen.last_seen_at) == looked_at;
        Execution::new(seen, goes_on)
    });
    Ok(Json(ExecutionsSeen { looked_at: looked_at.map(moment), executions: executions.collect() }))
}

/// What executions are told in first.
pub type ExecutionOrderWord = Word<ExecutionOrder>;
