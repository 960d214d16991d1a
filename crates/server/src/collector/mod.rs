//! Reads instances over and over and writes what it read. Several processes may share the instances of
//! one repository: each collects those that it holds a lease on.

mod backfill;
mod backfill_sums;
mod instance;
mod named_reading;
mod queued_write;
mod readings;
mod schedule;
mod step;
pub(crate) mod words;
mod write_queue;
mod writer;

use std::collections::HashMap;
use std::sync::Arc;

use hurnix_core::Timestamp;
use hurnix_core::instance::collection_state::CollectionState;
use hurnix_store::{Instance, Leases};
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::state::App;
use write_queue::Memory;

pub use backfill::backfill;

/// A lease is renewed this many times before it would end.
const RENEWALS: u32 = 3;

/// Runs until the program stops. Starts a task for each instance held, starts it anew when the way to
/// reach the instance was changed, and ends it when the lease is lost.
pub async fn run(app: App) {
    let memory = Memory::new(app.intervals.memory_mib as usize * 1024 * 1024, app.own_metrics.clone());
    let mut tasks: HashMap<i32, Running> = HashMap::new();
    loop {
        // While the repository is away, what is held is collected on: if somebody else took it over,
        // what both have read is written once.
        match app.store.lease(&app.collector_id, app.intervals.lease.as_secs_f64()).await {
            Ok(leases) => {
                let surplus = adjust(&app, &memory, &mut tasks, leases).await;
                if !surplus.is_empty()
                    && let Err(error) = app.store.release(&app.collector_id, &surplus).await
                {
                    tracing::warn!(%error, "instances could not be given to other processes");
                }
            }
            Err(error) => tracing::warn!(%error, "the leases of instances could not be renewed"),
        }
        tokio::select! {
            () = app.stopping.cancelled() => break,
            () = app.instances_changed.notified() => {}
            () = tokio::time::sleep(app.intervals.lease / RENEWALS) => {}
        }
    }
    end(tasks.into_values().collect()).await;
    if let Err(error) = app.store.leave(&app.collector_id).await {
        tracing::warn!(%error, "the leases could not be given back; they end by themselves");
    }
}

struct Running {
    reached_by: Instance,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

/// Ends tasks, all at the same time.
async fn end(all: Vec<Running>) {
    all.iter().for_each(|running| running.stop.cancel());
    for running in all {
        if let Err(error) = running.task.await {
            tracing::error!(%error, "a collector task ended badly");
        }
    }
}

/// What makes a connection, and what is read over it and how often; when it differs, the connection must be
/// made anew. Without what collecting itself writes.
fn reached_by(instance: &Instance) -> Instance {
    Instance {
        collection: CollectionState::Waiting,
        problem: None,
        collection_since: Timestamp(0),
        last_success_at: None,
        server_version: None,
        limits: serde_json::Value::Null,
        cost_share: None,
        cost_bytes: None,
        stretch: None,
        log_position: None,
        group: None,
        shown_changed_at: Timestamp(0),
        ..instance.clone()
    }
}

/// Starts and ends tasks so that they match what is held; answers with the instances that were held in
/// surplus, whose tasks have ended.
async fn adjust(app: &App, memory: &Arc<Memory>, tasks: &mut HashMap<i32, Running>, leases: Leases) -> Vec<i32> {
    let Leases { mut held, surplus } = leases;
    let given_up: Vec<i32> = held.split_off(held.len() - surplus).iter().map(|instance| instance.instance_id).collect();
    let wanted: HashMap<i32, Instance> =
        held.iter().map(|instance| (instance.instance_id, reached_by(instance))).collect();
    let outdated: Vec<i32> = tasks
        .iter()
        .filter(|(id, running)| wanted.get(id) != Some(&running.reached_by) || running.task.is_finished())
        .map(|(id, _)| *id)
        .collect();
    end(outdated.iter().filter_map(|id| tasks.remove(id)).collect()).await;
    for instance in held {
        let instance_id = instance.instance_id;
        tasks.entry(instance_id).or_insert_with(|| {
            let (reached_by, stop) = (reached_by(&instance), app.stopping.child_token());
            let task = tokio::spawn(instance::collect(app.clone(), instance, memory.clone(), stop.clone()));
            Running { reached_by, stop, task }
        });
    }
    given_up
}
