//! Reads every instance over and over and writes what it read: one task for each instance.

mod instance;
mod readings;
mod words;

use std::collections::HashMap;
use std::time::Duration;

use hurnix_store::Instance;
use tokio::task::JoinHandle;
use tokio_util::sync::CancellationToken;

use crate::state::App;

/// How often the list of instances is looked at without being told that it changed.
const LOOK_AGAIN: Duration = Duration::from_secs(30);

/// Runs until the program stops. Starts a task for each instance, and starts it anew when the way to
/// reach the instance was changed.
pub async fn run(app: App) {
    let mut tasks: HashMap<i32, Running> = HashMap::new();
    loop {
        match app.store.instances().await {
            Ok(instances) => adjust(&app, &mut tasks, instances).await,
            Err(error) => tracing::warn!(%error, "the list of instances could not be read"),
        }
        tokio::select! {
            () = app.stopping.cancelled() => break,
            () = app.instances_changed.notified() => {}
            () = tokio::time::sleep(LOOK_AGAIN) => {}
        }
    }
    for (_, running) in tasks {
        running.end().await;
    }
}

struct Running {
    reached_by: ReachedBy,
    stop: CancellationToken,
    task: JoinHandle<()>,
}

impl Running {
    async fn end(self) {
        self.stop.cancel();
        if let Err(error) = self.task.await {
            tracing::error!(%error, "a collector task ended badly");
        }
    }
}

/// What makes a connection; when it differs, the connection must be made anew.
#[derive(PartialEq)]
struct ReachedBy(String, i32, String, String, Vec<u8>, String);

fn reached_by(instance: &Instance) -> ReachedBy {
    ReachedBy(
        instance.host.clone(),
        instance.port,
        instance.database_name.clone(),
        instance.account_name.clone(),
        instance.secret_sealed.clone(),
        instance.tls_mode.clone(),
    )
}

async fn adjust(app: &App, tasks: &mut HashMap<i32, Running>, instances: Vec<Instance>) {
    for instance in instances {
        let wanted = reached_by(&instance);
        match tasks.remove(&instance.instance_id) {
            Some(running) if running.reached_by == wanted && !running.task.is_finished() => {
                tasks.insert(instance.instance_id, running);
                continue;
            }
            Some(outdated) => outdated.end().await,
            None => {}
        }
        let stop = app.stopping.child_token();
        let instance_id = instance.instance_id;
        let task = tokio::spawn(instance::collect(app.clone(), instance, stop.clone()));
        tasks.insert(instance_id, Running { reached_by: wanted, stop, task });
    }
}
