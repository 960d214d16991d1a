//! Long work that goes on on a server, and what its own vacuum takes next.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::upkeep_queue::{Queued, upkeep_queue};
use hurnix_core::readings::operation::Operation;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::find::find_watched;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{DueForWord, OperationKindWord, Word, WorkUnitWord};
use crate::api::watch::held_back::{HeldBack, held_back_by};
use crate::sources::in_time;
use crate::state::App;

/// Most tables of the queue that are told.
const MOST_TABLES: usize = 50;

/// Long work that goes on on a server, and what its own vacuum takes next.
#[derive(Serialize, ToSchema)]
pub struct OperationsOnServer {
    /// When, by its clock.
    at: DateTime<Utc>,
    /// What goes on, the oldest first.
    operations: Vec<LongOperation>,
    /// Whether its own vacuum is on.
    is_automatic: bool,
    /// Processes of its own vacuum that work.
    workers: i32,
    /// How many may.
    most_workers: i32,
    /// Tables of the connected database that it takes next, those that are due first.
    queue: Vec<QueuedTable>,
    /// Tables that are due.
    due: usize,
    /// What keeps vacuum from removing row versions, the oldest first.
    held_back_by: Vec<HeldBack>,
}

/// Long work that goes on.
#[derive(Serialize, ToSchema)]
pub struct LongOperation {
    /// Process that does it.
    process: i32,
    /// When that process began.
    started_at: DateTime<Utc>,
    /// What it is.
    kind: OperationKindWord,
    /// Whether the server began it by itself.
    is_automatic: bool,
    /// Table that it is of; empty where it is of none, or of another database.
    table: String,
    /// Its database; empty for the whole server.
    database: String,
    /// Account that began it.
    account: String,
    /// What it does just now, by the server's own words.
    phase: String,
    /// How far that phase has come.
    done: f64,
    /// Where it ends; nothing where the server does not know.
    total: Option<f64>,
    /// What both are counted in.
    unit: WorkUnitWord,
    /// Share of the phase that is done.
    share: Option<f64>,
    /// Seconds that it has gone on for, by the server's clock.
    seconds: f64,
    /// How fast the phase goes, by the second; nothing until it was read often enough, or while it stands still.
    per_second: Option<f64>,
    /// Seconds that the phase will take yet.
    left_seconds: Option<f64>,
    /// The least that it may take.
    left_least: Option<f64>,
    /// The most.
    left_most: Option<f64>,
    /// Processes that keep it waiting.
    blocked_by: Vec<i32>,
}

/// A table in the queue of the server's own vacuum.
#[derive(Serialize, ToSchema)]
pub struct QueuedTable {
    /// The table.
    table: String,
    /// Bytes on disk.
    size_bytes: f64,
    /// What it is due for, or will be first.
    due_for: DueForWord,
    /// Whether it is due.
    is_due: bool,
    /// How far it has come: 1 makes it due.
    reached: f64,
    /// What was counted.
    counted: f64,
    /// What makes it due.
    due_at: f64,
    /// Whether the server looks after it by itself; otherwise for its age alone.
    is_automatic: bool,
}

/// Long work that goes on on a server, read now, and what its own vacuum takes next. How fast work goes is told by the
/// readings of the last minutes.
#[utoipa::path(get, path = "/instances/{instance_id}/operations", tag = "watch",
    params(("instance_id" = i32, Path)), responses((status = 200, body = OperationsOnServer)))]
pub async fn list_operations(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<OperationsOnServer> {
    let instance = find_watched(&app, instance_id).await?;
    let mut lent = app.live.lend(&app, &instance).await.map_err(|problem| Problem::connection(&problem))?;
    let read = in_time(lent.source().operations()).await.map_err(|problem| Problem::reading(&problem))?;
    app.live.give_back(lent);
    let queue = upkeep_queue(&read.tables);
    Ok(Json(OperationsOnServer {
        at: moment(read.at),
        operations: read.operations.iter().map(|operation| told(&app, instance_id, operation, read.at)).collect(),
        is_automatic: read.is_automatic,
        workers: read.workers.0,
        most_workers: read.workers.1,
        due: queue.iter().filter(|queued| queued.is_due()).count(),
        queue: queue.iter().take(MOST_TABLES).map(queued).collect(),
        held_back_by: held_back_by(&app, &instance).await?,
    }))
}

fn told(app: &App, instance_id: i32, operation: &Operation, at: hurnix_core::Timestamp) -> LongOperation {
    let left = app.paces.go_on(instance_id, operation, at);
    LongOperation {
        process: operation.process,
        started_at: moment(operation.started_at),
        kind: Word(operation.kind),
        is_automatic: operation.is_automatic,
        table: operation.table.clone(),
        database: operation.database.clone(),
        account: operation.account.clone(),
        phase: operation.phase.clone(),
        done: operation.done,
        total: operation.total,
        unit: Word(operation.unit),
        share: operation.total.map(|total| (operation.done / total).min(1.0)),
        seconds: at.seconds_since(operation.began_at).max(0.0),
        per_second: left.map(|left| left.per_second),
        left_seconds: left.map(|left| left.seconds),
        left_least: left.map(|left| left.least),
        left_most: left.map(|left| left.most),
        blocked_by: operation.blocked_by.clone(),
    }
}

fn queued(queued: &Queued<'_>) -> QueuedTable {
    QueuedTable {
        table: queued.table.table.clone(),
        size_bytes: queued.table.size_bytes,
        due_for: Word(queued.due_for),
        is_due: queued.is_due(),
        reached: queued.reached,
        counted: queued.counted.0,
        due_at: queued.counted.1,
        is_automatic: queued.table.is_automatic,
    }
}
