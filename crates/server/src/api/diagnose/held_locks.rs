//! Locks as they stand on a server, with nobody waiting too.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::readings::activity::PREPARED;
use hurnix_core::readings::family::fold;
use hurnix_core::readings::held_lock::HeldLock;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find_watched;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::sources::in_time;
use crate::state::App;

/// Most locks that are told.
const MOST_TOLD: i64 = 500;
/// Longest text that is searched for.
const MOST_SEARCH_LETTERS: usize = 200;

/// Which locks.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HeldLocksQuery {
    /// Only those of a table or index whose name, `schema.name`, contains this, whatever its case.
    search: Option<String>,
}

/// Locks as they stand on a server.
#[derive(Serialize, ToSchema)]
pub struct LocksOnServer {
    /// When, by its clock.
    at: DateTime<Utc>,
    /// How many match: 500 are told at most.
    count: i64,
    /// Those that somebody waits for first, then the strongest.
    locks: Vec<LockOnServer>,
}

/// A lock that a session holds, or waits for.
#[derive(Serialize, ToSchema)]
pub struct LockOnServer {
    /// Process number; 0 for a prepared transaction.
    process: i32,
    /// When the process began, or the transaction was prepared.
    started_at: Option<DateTime<Utc>>,
    /// Whether a prepared transaction holds it.
    is_prepared: bool,
    /// Account that signed in.
    account: String,
    /// What its program calls itself.
    program: String,
    /// Where it comes from.
    client: String,
    /// Whether it is idle in its transaction.
    is_idle: bool,
    /// Seconds since its transaction began, by the server's clock.
    transaction_seconds: Option<f64>,
    /// Its statement, or the last one, without its literals.
    statement: String,
    /// Mode, by the server's own name.
    mode: String,
    /// What it is a lock of, by the server's own name.
    kind: String,
    /// The table or index; a number where it is of another database; empty where it is of neither.
    object: String,
    /// Database of that.
    database: String,
    /// Whether it is held, and not waited for.
    is_held: bool,
    /// Sessions that wait for the same thing.
    waiting: i32,
}

/// Locks as they stand on a server, read now: also those that nobody waits for.
#[utoipa::path(get, path = "/instances/{instance_id}/held-locks", tag = "diagnose",
    params(("instance_id" = i32, Path), HeldLocksQuery), responses((status = 200, body = LocksOnServer)))]
pub async fn list_held_locks(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<HeldLocksQuery>,
) -> Answer<LocksOnServer> {
    let search = query.search.unwrap_or_default().trim().to_owned();
    if search.chars().count() > MOST_SEARCH_LETTERS || search.contains('\0') {
        let remedy = format!("Give a part of a name, of {MOST_SEARCH_LETTERS} letters at most.");
        return Err(Problem::invalid(vec![FieldProblem::new("search", search, remedy)]));
    }
    let instance = find_watched(&app, instance_id).await?;
    let mut lent = app.live.lend(&app, &instance).await.map_err(|problem| Problem::connection(&problem))?;
    let read =
        in_time(lent.source().held_locks(&search, MOST_TOLD)).await.map_err(|problem| Problem::reading(&problem))?;
    app.live.give_back(lent);
    let told = |lock: HeldLock| LockOnServer {
        process: lock.process,
        started_at: lock.started_at.map(moment),
        is_prepared: lock.process == PREPARED && lock.started_at.is_some(),
        account: lock.account,
        program: lock.program,
        client: lock.client,
        is_idle: lock.is_idle,
        transaction_seconds: lock.transaction_started_at.map(|began| read.at.seconds_since(began).max(0.0)),
        // Whoever may look at Hurnix may not look at what is in the tables.
        statement: fold(&lock.text).text,
        mode: lock.mode,
        kind: lock.kind,
        object: lock.object,
        database: lock.database,
        is_held: lock.is_held,
        waiting: lock.waiting,
    };
    Ok(Json(LocksOnServer {
        at: moment(read.at),
        count: read.count,
        locks: read.locks.into_iter().map(told).collect(),
    }))
}
