//! Keeps the repository in order: sums up what was read, makes room ahead, and drops what is too old.

use std::time::Duration;

use hurnix_store::{Forgotten, Result};
use tokio::time::MissedTickBehavior;

use crate::state::{App, now};

/// Between two looks for buckets to sum up.
const ROUND: Duration = Duration::from_secs(10);
/// Rounds between two looks at the partitions: an hour.
const PARTITION_ROUNDS: u32 = 360;
/// A bucket is left alone for this long after its end, since what belongs to it may still be on its way.
/// Whatever comes later makes it due again.
const GRACE_SECONDS: f64 = 30.0;

/// Runs until the program stops.
pub async fn run(app: App) {
    let mut ticks = tokio::time::interval(ROUND);
    ticks.set_missed_tick_behavior(MissedTickBehavior::Delay);
    for round in 0u32.. {
        tokio::select! {
            () = app.stopping.cancelled() => return,
            _ = ticks.tick() => {}
        }
        if let Err(error) = keep(&app, round % PARTITION_ROUNDS == 0).await {
            tracing::warn!(%error, "the repository could not be kept in order; trying again");
        }
    }
}

async fn keep(app: &App, partitions_too: bool) -> Result<()> {
    while !app.stopping.is_cancelled() && app.store.roll_up(now().plus_seconds(-GRACE_SECONDS)).await? > 0 {}
    while !app.stopping.is_cancelled() && app.store.judge_families().await? > 0 {}
    if partitions_too {
        app.store.forget_old_loads().await?;
        app.store.forget_old_alarms(now()).await?;
        for partition in app.store.keep_partitions(now()).await? {
            tracing::info!(partition, "dropped: older than what is to be kept");
        }
        let Forgotten { texts, names } = app.store.forget_unused(now()).await?;
        if texts + names > 0 {
            tracing::info!(texts, names, "forgotten: texts and names of which no figures are kept");
        }
    }
    Ok(())
}
