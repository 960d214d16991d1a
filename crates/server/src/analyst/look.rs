use std::sync::Arc;

use hurnix_core::Timestamp;
use hurnix_core::Window;
use hurnix_core::findings::lasting_change::{Observed, Patterns, Thresholds, Way, changes_of_instance};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_store::{Instance, Pieces, Result, ToObserve};

use super::followed_since;
use crate::state::{App, now};

/// What is remembered of an instance from one look to the next.
#[derive(Default)]
pub struct Memory {
    /// Up to when it was judged.
    pub judged_to: Option<Timestamp>,
    looked_back_to: Option<Timestamp>,
    patterns: Arc<Patterns>,
}

impl Memory {
    /// Brings the lasting changes of an instance up to date: those of the last days each time, and once a day those of
    /// all that is kept. Answers with the time of all statements per second in the last days, where any ran.
    pub async fn look(
        &mut self,
        app: &App,
        instance: &Instance,
        bucket_seconds: i64,
        to: Timestamp,
    ) -> Result<Option<f64>> {
        if Way::is_back_due(self.looked_back_to, to) {
            let way = Way::back(followed_since(app), to, bucket_seconds);
            let observed = observe(app, instance, &way).await?;
            self.patterns = judge(app, instance, observed, &way, Arc::default()).await?;
            self.looked_back_to = Some(to);
        }
        let way = Way::recent(to, bucket_seconds);
        let observed = observe(app, instance, &way).await?;
        let spent = observed.seconds_per_second();
        judge(app, instance, observed, &way, self.patterns.clone()).await?;
        Ok(spent)
    }
}

/// Finds and keeps changes; answers with what comes back each day and week.
async fn judge(
    app: &App,
    instance: &Instance,
    observed: Observed,
    way: &Way,
    known: Arc<Patterns>,
) -> Result<Arc<Patterns>> {
    let look = way.look(observed.start, now()).filter(|_| observed.count() > 0);
    let Some(look) = look else { return Ok(Arc::default()) };
    let thresholds = thresholds(instance);
    let found = tokio::task::spawn_blocking(move || changes_of_instance(&observed, thresholds, &known)).await;
    // It ends early only where Hurnix does.
    let Ok(found) = found else { return Ok(Arc::default()) };
    app.store.write_changes(instance.instance_id, followed_since(app), &look, &found.changes).await?;
    Ok(Arc::new(found.patterns))
}

/// How large a change of an instance must be.
fn thresholds(instance: &Instance) -> Thresholds {
    let usual = Thresholds::default();
    Thresholds {
        least_ratio: 1.0 + instance.settings.least_change.share_or(usual.least_ratio - 1.0),
        least_share: instance.settings.least_share.share_or(usual.least_share),
    }
}

async fn observe(app: &App, instance: &Instance, way: &Way) -> Result<Observed> {
    let id = instance.instance_id;
    let coarsest = coarsest(way.bucket_seconds);
    let by_day = pieces(app, id, RetentionGroup::Statements, way.window, Detail::Hour).await?;
    let families = app.store.families_that_matter(id, &by_day, thresholds(instance).least_of_a_day()).await?;
    let of = ToObserve {
        statements: &pieces(app, id, RetentionGroup::Statements, way.window, coarsest).await?,
        activity: &pieces(app, id, RetentionGroup::Activity, way.window, coarsest).await?,
        databases: &pieces(app, id, RetentionGroup::Databases, way.window, coarsest).await?,
        measures: &pieces(app, id, RetentionGroup::Measures, way.window, coarsest).await?,
        bucket_seconds: way.bucket_seconds,
        families: &families,
    };
    app.store.observed_series(id, &of).await
}

/// The coarsest sums of which buckets of this length are made.
pub fn coarsest(bucket_seconds: i64) -> Detail {
    let fits = |detail: &Detail| detail.bucket_seconds().is_some_and(|seconds| bucket_seconds % seconds == 0);
    [Detail::Hour, Detail::TenMinutes].into_iter().find(fits).unwrap_or(Detail::Fine)
}

async fn pieces(app: &App, id: i32, group: RetentionGroup, window: Window, coarsest: Detail) -> Result<Pieces> {
    app.store.pieces(id, &[group], window, coarsest, now()).await
}
