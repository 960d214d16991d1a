//! Looks for troubles over and over, each at its own pace, and keeps the alarms of the instances that this process holds.

use std::collections::HashMap;

use hurnix_core::Timestamp;
use hurnix_core::findings::alarm::{Looked, Patience};
use hurnix_core::findings::first_look::{looked_for, quick_signs, quickly_looked_for, signs};
use hurnix_core::findings::normal_range::OF_RANGES;
use hurnix_source::postgres::remedy_statement;
use hurnix_store::{Instance, Result};

use crate::events::News;
use crate::first_look::{evidence, quick_evidence};
use crate::options::Intervals;
use crate::state::{App, now};

/// What happened lately is what happened in so many buckets.
const LATELY_BUCKETS: f64 = 6.0;

/// Runs until the program stops.
pub async fn run(app: App) {
    let mut ticks = tokio::time::interval(app.intervals.alarms);
    ticks.set_missed_tick_behavior(tokio::time::MissedTickBehavior::Delay);
    let mut looked_over: HashMap<i32, Timestamp> = HashMap::new();
    loop {
        tokio::select! {
            () = app.stopping.cancelled() => return,
            _ = ticks.tick() => {}
        }
        match app.store.held_by(&app.collector_id).await {
            Ok(instances) => {
                looked_over.retain(|id, _| instances.iter().any(|instance| instance.instance_id == *id));
                for instance in &instances {
                    if app.stopping.is_cancelled() {
                        return;
                    }
                    if let Err(error) = look(&app, instance, &mut looked_over).await {
                        tracing::warn!(instance = %instance.label, %error, "alarms could not be brought up to date");
                    }
                }
            }
            Err(error) => tracing::warn!(%error, "the list of instances could not be read"),
        }
    }
}

/// Looks for what is urgent, and for everything where that is due.
async fn look(app: &App, instance: &Instance, looked_over: &mut HashMap<i32, Timestamp>) -> Result<()> {
    let (id, intervals) = (instance.instance_id, app.intervals_of(instance));
    if instance.last_success_at.is_none() {
        return Ok(());
    }
    let is_due = |last: &Timestamp| now().seconds_since(*last) >= intervals.space.as_secs_f64();
    // What changed for good, or is unusual, was judged just now: that is told at once.
    let is_judged = app.unusual.is_judged_anew(id);
    let is_changed = if is_judged || looked_over.get(&id).is_none_or(is_due) {
        looked_over.insert(id, now());
        let evidence = evidence(app, instance, LATELY_BUCKETS * intervals.bucket.as_secs_f64()).await?;
        let (mut signs, mut troubles) = (signs(&evidence, remedy_statement), looked_for(&evidence));
        if evidence.history.problem.is_none()
            && !evidence.history.is_silent
            && let Some(unusual) = app.unusual.of(id)
        {
            signs.extend(unusual);
            troubles.extend(OF_RANGES);
        }
        let looked = Looked { at: evidence.at, looked_for: &troubles, signs };
        app.store.follow_alarms(id, looked, &patience(&intervals)).await?
    } else {
        let evidence = quick_evidence(app, instance).await?;
        let (mut signs, troubles) = (quick_signs(&evidence, remedy_statement), quickly_looked_for(&evidence));
        // What a threshold told of these stands until figures are judged again.
        let judged = app.unusual.of(id).unwrap_or_default();
        signs.extend(judged.into_iter().filter(|sign| troubles.contains(&sign.trouble)));
        let looked = Looked { at: evidence.at, looked_for: &troubles, signs };
        app.store.follow_alarms(id, looked, &patience(&intervals)).await?
    };
    if is_changed {
        app.events.tell(id, News::Alarms);
    }
    Ok(())
}

fn patience(intervals: &Intervals) -> Patience {
    Patience {
        closes_after_seconds: intervals.alarm_closes_after.as_secs_f64(),
        reopens_within_seconds: intervals.alarm_reopens_within.as_secs_f64(),
    }
}
