//! Judges what was collected, over and over: lasting changes, advice, and what came of advice. It
//! fetches figures and passes them to the rules of the core.

mod book;
mod effects;
mod look;
mod planner_costs;
mod thresholds;

use std::collections::HashMap;

use hurnix_core::findings::lasting_change::{Measured, Way, costliest_slowdown_since};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{Instance, Result};

use crate::events::News;
use crate::state::{App, Collected, now};
use book::{Round, enter_advice, mark_applied};
pub use book::{costs_of_last_day, pages};
use effects::{Series, measure};
use look::Memory;
pub use look::coarsest;
pub use planner_costs::planner_check;

/// Changes of an instance that are looked at.
const MOST_CHANGES: i64 = 10_000;
/// Newest buckets that serve as evidence for advice.
const EVIDENCE_BUCKETS: f64 = 12.0;

/// Since when changes are followed: what they were found in is kept no longer.
pub fn followed_since(app: &Collected) -> Timestamp {
    app.store.kept_since(RetentionGroup::Statements, Detail::TenMinutes, now())
}

/// Runs until the program stops.
pub async fn run(app: App) {
    let mut ticks = tokio::time::interval(app.intervals.analysis);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut memories: HashMap<i32, Memory> = HashMap::new();
    loop {
        tokio::select! {
            () = app.stopping.cancelled() => return,
            _ = ticks.tick() => {}
        }
        match app.store.held_by(&app.collector_id).await {
            Ok(instances) => {
                memories.retain(|id, _| instances.iter().any(|instance| instance.instance_id == *id));
                for instance in instances.iter().filter(|instance| instance.last_success_at.is_some()) {
                    let memory = memories.entry(instance.instance_id).or_default();
                    if let Err(error) = judge_if_due(&app, instance, memory).await {
                        tracing::warn!(instance = %instance.label, %error, "figures could not be judged");
                    }
                }
            }
            Err(error) => tracing::warn!(%error, "the list of instances could not be read"),
        }
    }
}

/// Judges an instance anew once another bucket of time has ended; whether advice was applied is looked at
/// each time.
async fn judge_if_due(app: &App, instance: &Instance, memory: &mut Memory) -> Result<()> {
    let intervals = app.intervals_of(instance);
    let bucket_seconds = intervals.bucket.as_secs() as i64;
    // The newest bucket is still filling, and its last reading on its way. Snapshots carry the watched
    // server's time; both clocks are taken to agree to within a bucket.
    let arrived = now().plus_seconds(-1.5 * intervals.statements.as_secs_f64());
    let to = arrived.bucket(bucket_seconds);
    if memory.judged_to != Some(to) {
        judge(app, instance, memory, bucket_seconds, to).await?;
        memory.judged_to = Some(to);
        return Ok(());
    }
    mark_applied(app, instance.instance_id).await
}

async fn judge(app: &App, instance: &Instance, memory: &mut Memory, bucket_seconds: i64, to: Timestamp) -> Result<()> {
    let instance_id = instance.instance_id;
    let Some(spent) = memory.look(app, instance, bucket_seconds, to).await? else { return Ok(()) };
    let buckets_before = |buckets: f64| to.plus_seconds(-buckets * bucket_seconds as f64);
    let recent = Way::recent(to, bucket_seconds).window;

    mark_applied(app, instance_id).await?;
    // When the costliest slowdown began inside the evidence, only what came after counts.
    let kept = app.store.changes(instance_id, recent.from, Some(Measured::TimePerCall), MOST_CHANGES).await?;
    let of_statements = kept.iter().filter(|row| row.subject.family.is_some());
    let slowdown = costliest_slowdown_since(of_statements.map(|row| &row.kept.change));
    let longest = buckets_before(EVIDENCE_BUCKETS);
    let evidence_from = slowdown.map_or(longest, |onset| onset.max(longest));
    let round = Round {
        evidence: Window { from: evidence_from, to },
        seconds_per_day: spent * SECONDS_PER_DAY,
        bucket_seconds: bucket_seconds as f64,
    };
    enter_advice(app, instance, &round).await?;
    let coarsest = coarsest(bucket_seconds);
    let pieces = app.store.pieces(instance_id, &[RetentionGroup::Statements], recent, coarsest, now()).await?;
    let history = Series { pieces: &pieces, bucket_seconds, by_database: HashMap::new() };
    measure(app, instance_id, history).await?;
    app.events.tell(instance_id, News::Findings);
    Ok(())
}
