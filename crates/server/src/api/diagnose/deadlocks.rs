//! Deadlocks and lock timeouts of a window, as the server's log tells them.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::readings::server_log::{InCircle, LogKind};
use hurnix_source::wording_of;
use hurnix_store::{KeptLogEntry, LogFilter, LogOrder};
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{WindowQuery, moment};
use crate::state::App;

/// Most deadlocks, and most lock timeouts, that are told: the newest.
const MOST_TOLD: i64 = 100;

/// Deadlocks and lock timeouts of a window.
#[derive(Serialize, ToSchema)]
pub struct Deadlocks {
    /// Deadlocks, the newest first.
    deadlocks: Vec<Deadlock>,
    /// How many there were.
    deadlock_count: i64,
    /// Statements that gave up waiting for a lock, the newest first.
    timeouts: Vec<LockTimeout>,
    /// How many entries of such there were.
    timeout_count: i64,
}

/// Sessions that waited for each other, until the server ended one.
#[derive(Serialize, ToSchema)]
pub struct Deadlock {
    /// When one was ended, by the server's clock.
    at: DateTime<Utc>,
    /// Account of the session that was ended.
    account: String,
    /// Its program.
    program: String,
    /// Its database.
    database: String,
    /// Its process.
    ended: i32,
    /// Who waited for whom, each for the next; empty where the log does not tell in words that are known.
    circle: Vec<DeadlockParty>,
    /// What the log says of it.
    detail: String,
}

/// One of the sessions of a deadlock.
#[derive(Serialize, ToSchema)]
pub struct DeadlockParty {
    /// Its process.
    process: i32,
    /// The lock that it waited for, in the server's words.
    wanted: String,
    /// The process that held it.
    held_by: i32,
    /// Its statement.
    statement: String,
}

/// A statement that gave up waiting for a lock, or several of one reading alike.
#[derive(Serialize, ToSchema)]
pub struct LockTimeout {
    /// When the first of them was written.
    at: DateTime<Utc>,
    /// Account of the session.
    account: String,
    /// Its program.
    program: String,
    /// Its database.
    database: String,
    /// The statement.
    statement: String,
    /// Family of that statement.
    family_id: Option<Id>,
    /// How many lines they are.
    times: i64,
}

/// Deadlocks and lock timeouts of a window, as the server's log tells them.
#[utoipa::path(get, path = "/instances/{instance_id}/deadlocks", tag = "diagnose",
    params(("instance_id" = i32, Path), WindowQuery), responses((status = 200, body = Deadlocks)))]
pub async fn list_deadlocks(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<WindowQuery>,
) -> Answer<Deadlocks> {
    let window = query.window()?;
    let instance = find(&app, instance_id).await?;
    let of = |kind| LogFilter { kinds: vec![kind], order: LogOrder::Time, limit: MOST_TOLD, ..LogFilter::default() };
    let (deadlocks, deadlock_count) = app.store.log_entries(instance_id, window, &of(LogKind::Deadlock)).await?;
    let (timeouts, timeout_count) = app.store.log_entries(instance_id, window, &of(LogKind::LockTimeout)).await?;
    let wording = wording_of(instance.engine);
    let deadlock = |entry: KeptLogEntry| Deadlock {
        at: moment(entry.line.at),
        circle: wording.circle(&entry.line.detail).into_iter().map(DeadlockParty::from).collect(),
        account: entry.line.account,
        program: entry.line.program,
        database: entry.line.database,
        ended: entry.line.process,
        detail: entry.line.detail,
    };
    Ok(Json(Deadlocks {
        deadlocks: deadlocks.into_iter().map(deadlock).collect(),
        deadlock_count,
        timeouts: timeouts.into_iter().map(LockTimeout::from).collect(),
        timeout_count,
    }))
}

impl From<InCircle> for DeadlockParty {
    fn from(InCircle { process, wanted, held_by, statement }: InCircle) -> Self {
        DeadlockParty { process, wanted, held_by, statement }
    }
}

impl From<KeptLogEntry> for LockTimeout {
    fn from(entry: KeptLogEntry) -> Self {
        LockTimeout {
            at: moment(entry.line.at),
            account: entry.line.account,
            program: entry.line.program,
            database: entry.line.database,
            statement: entry.line.statement,
            family_id: entry.family_id.map(Id),
            times: entry.times,
        }
    }
}
