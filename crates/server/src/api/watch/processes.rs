//! Processes of a server that serve no client, what its sessions hold back, and what else runs on its host.

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::readings::host_process::{BusyHost, BusyProcess};
use hurnix_core::readings::server_process::BackgroundProcess;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::find::find_watched;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::moment;
use crate::sources::in_time;
use crate::state::App;

/// Most other processes of a host that are told: the busiest, then the largest.
const MOST_OTHERS: usize = 100;

/// Processes of a server as they stand.
#[derive(Serialize, ToSchema)]
pub struct ProcessesOnServer {
    /// When, by its clock.
    at: DateTime<Utc>,
    /// Those that serve no client, the oldest first.
    background: Vec<ProcessOnServer>,
    /// Sessions of which vacuum keeps row versions.
    snapshots: Vec<SnapshotOnServer>,
    /// What the processes of the host do; nothing where they are not seen.
    host: Option<ProcessesOnHost>,
}

/// What the processes of a host did within a second.
#[derive(Serialize, ToSchema)]
pub struct ProcessesOnHost {
    /// Processors that the server keeps busy, by all of its processes.
    server_cores: f64,
    /// Processors that all others keep busy.
    other_cores: f64,
    /// Processes of the server, sessions among them.
    of_server: Vec<ProcessOnHost>,
    /// The others, the busiest first: 100 are told at most.
    others: Vec<ProcessOnHost>,
    /// How many others there are.
    others_count: usize,
}

/// What a process of a host did within a second.
#[derive(Serialize, ToSchema)]
pub struct ProcessOnHost {
    /// Its number.
    process: i32,
    /// What it calls itself.
    name: String,
    /// Processors that it keeps busy.
    cores: f64,
    /// Memory that it has in use, in bytes, what it shares with others counted in full.
    memory_bytes: i64,
}

/// A process that serves no client.
#[derive(Serialize, ToSchema)]
pub struct ProcessOnServer {
    /// Its number.
    process: i32,
    /// Seconds that it has gone on for, by the server's clock.
    seconds: f64,
    /// What it is, by the server's own words.
    kind: String,
    /// Whether it waits for work.
    is_idle: bool,
    /// The server's own name of what it waits for; nothing while it works.
    event: Option<String>,
    /// Its database; empty for the whole server.
    database: String,
    /// What it does, where it tells.
    text: String,
}

/// The oldest row version that a session may still see.
#[derive(Serialize, ToSchema)]
pub struct SnapshotOnServer {
    /// Its process.
    process: i32,
    /// When that began.
    started_at: DateTime<Utc>,
    /// Transactions since then.
    transactions: i64,
}

/// Processes of a server that serve no client, read now, what each of its sessions holds back of vacuum, and what the
/// processes of its host do.
#[utoipa::path(get, path = "/instances/{instance_id}/processes", tag = "watch",
    params(("instance_id" = i32, Path)), responses((status = 200, body = ProcessesOnServer)))]
pub async fn list_processes(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<ProcessesOnServer> {
    let instance = find_watched(&app, instance_id).await?;
    let mut lent = app.live.lend(&app, &instance).await.map_err(|problem| Problem::connection(&problem))?;
    let read = in_time(lent.source().processes()).await.map_err(|problem| Problem::reading(&problem))?;
    app.live.give_back(lent);
    let process = |one: BackgroundProcess| ProcessOnServer {
        process: one.process,
        seconds: read.at.seconds_since(one.started_at).max(0.0),
        is_idle: one.is_idle(),
        kind: one.kind,
        event: one.event,
        database: one.database,
        text: one.text,
    };
    let snapshots = read.snapshots.iter().map(|one| SnapshotOnServer {
        process: one.process,
        started_at: moment(one.started_at),
        transactions: one.transactions,
    });
    Ok(Json(ProcessesOnServer {
        at: moment(read.at),
        snapshots: snapshots.collect(),
        background: read.background.into_iter().map(process).collect(),
        host: read.host.map(on_host),
    }))
}

fn on_host(host: BusyHost) -> ProcessesOnHost {
    let cores = |of: &[BusyProcess]| of.iter().map(|one| one.cores).sum();
    let told =
        |BusyProcess { process, name, cores, memory_bytes }| ProcessOnHost { process, name, cores, memory_bytes };
    ProcessesOnHost {
        server_cores: cores(&host.of_server),
        other_cores: cores(&host.others),
        others_count: host.others.len(),
        of_server: host.of_server.into_iter().map(told).collect(),
        others: host.others.into_iter().take(MOST_OTHERS).map(told).collect(),
    }
}
