//! Judges what was collected, over and over: lasting changes, advice, and what came of advice. It
//! fetches figures and passes them to the rules of the core.

mod book;
mod effects;

use std::collections::HashMap;

use hurnix_core::findings::lasting_change::{Bucket, LastingChange, changes_of_instance, costliest_slowdown_since};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{Instance, Result};

use crate::events::News;
use crate::state::{App, now};
use book::{Round, enter_advice, mark_applied};
use effects::{Series, measure};

/// Buckets in which lasting changes are looked for: three days of ten minutes.
const HISTORY_BUCKETS: f64 = 432.0;
/// Changes of an instance that are looked at.
const MOST_CHANGES: i64 = 10_000;
/// Newest buckets that serve as evidence for advice.
const EVIDENCE_BUCKETS: f64 = 12.0;

/// Since when changes are followed: an older one has become the level that newer ones are compared with.
pub fn followed_since(app: &App, instance: &Instance) -> Timestamp {
    now().plus_seconds(-HISTORY_BUCKETS * app.intervals_of(instance).bucket.as_secs_f64())
}

/// Runs until the program stops.
pub async fn run(app: App) {
    let mut ticks = tokio::time::interval(app.intervals.analysis);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut judged = HashMap::new();
    loop {
        tokio::select! {
            () = app.stopping.cancelled() => return,
            _ = ticks.tick() => {}
        }
        match app.store.held_by(&app.collector_id).await {
            Ok(instances) => {
                judged.retain(|id, _| instances.iter().any(|instance| instance.instance_id == *id));
                for instance in instances.iter().filter(|instance| instance.last_success_at.is_some()) {
                    if let Err(error) = judge_if_due(&app, instance, &mut judged).await {
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
async fn judge_if_due(app: &App, instance: &Instance, judged: &mut HashMap<i32, Timestamp>) -> Result<()> {
    let intervals = app.intervals_of(instance);
    let bucket_seconds = intervals.bucket.as_secs() as i64;
    // The newest bucket is still filling, and its last reading on its way. Snapshots carry the watched
    // server's time; both clocks are taken to agree to within a bucket.
    let arrived = now().plus_seconds(-1.5 * intervals.statements.as_secs_f64());
    let to = Timestamp(arrived.0.div_euclid(bucket_seconds * 1_000_000) * bucket_seconds * 1_000_000);
    if judged.get(&instance.instance_id) != Some(&to) {
        judge(app, instance, bucket_seconds, to).await?;
        judged.insert(instance.instance_id, to);
        return Ok(());
    }
    mark_applied(app, instance.instance_id).await
}

async fn judge(app: &App, instance: &Instance, bucket_seconds: i64, to: Timestamp) -> Result<()> {
    let instance_id = instance.instance_id;
    let buckets_before = |buckets: f64| to.plus_seconds(-buckets * bucket_seconds as f64);
    let history = Window { from: buckets_before(HISTORY_BUCKETS), to };
    // Buckets of whole ten minutes or hours are summed up already.
    let coarsest = [Detail::Hour, Detail::TenMinutes]
        .into_iter()
        .find(|detail| detail.bucket_seconds().is_some_and(|seconds| bucket_seconds % seconds == 0))
        .unwrap_or(Detail::Fine);
    let pieces = app.store.pieces(instance_id, &[RetentionGroup::Statements], history, coarsest, now()).await?;
    let series = app.store.family_series(instance_id, &pieces, bucket_seconds, None).await?;
    if series.seconds <= 0.0 {
        return Ok(());
    }

    let seconds_per_day = series.exec_us as f64 / 1e6 / series.seconds * SECONDS_PER_DAY;
    let families: Vec<(i64, Vec<Bucket>)> = series.families.into_iter().collect();
    let found = changes_of_instance(&families, bucket_seconds as f64, series.seconds);
    let of_families = found.families.into_iter().map(|(family, change)| (Some(family), change));
    let of_whole = found.whole_server.into_iter().map(|change| (None, change));
    let found: Vec<(Option<i64>, LastingChange)> = of_families.chain(of_whole).collect();
    app.store.write_changes(instance_id, history, now(), 3.0 * bucket_seconds as f64, &found).await?;

    mark_applied(app, instance_id).await?;
    // When the costliest slowdown began inside the evidence, only what came after counts.
    let kept = app.store.changes(instance_id, history.from, MOST_CHANGES).await?;
    let slowdown =
        costliest_slowdown_since(kept.iter().filter(|row| row.family_id.is_some()).map(|row| &row.kept.change));
    let longest = buckets_before(EVIDENCE_BUCKETS);
    let evidence_from = slowdown.map_or(longest, |onset| onset.max(longest));
    let round =
        Round { evidence: Window { from: evidence_from, to }, seconds_per_day, bucket_seconds: bucket_seconds as f64 };
    enter_advice(app, instance, &round).await?;
    let history = Series { pieces: &pieces, bucket_seconds, by_database: HashMap::new() };
    measure(app, instance_id, history).await?;
    app.events.tell(instance_id, News::Findings);
    Ok(())
}
