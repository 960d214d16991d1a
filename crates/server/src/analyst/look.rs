use std::sync::Arc;

use hurnix_core::findings::lasting_change::{LEAST_BEFORE, Look, Observed, Patterns, Thresholds, changes_of_instance};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{Instance, Pieces, Result, ToObserve};

use crate::state::{App, now};

/// Short buckets that are looked at with each that ends: three days of ten minutes.
pub const RECENT_BUCKETS: f64 = 432.0;
/// Of those, so many tell onsets: what lies before them shows what was usual.
const TELLING_BUCKETS: f64 = 288.0;
/// How often all of the history is looked at.
const LOOK_BACK_SECONDS: f64 = 86_400.0;
/// Its buckets, at the shortest.
pub const LOOK_BACK_BUCKET_SECONDS: i64 = 600;
/// What looking back does not find counts for so many rounds: it has all the figures there are.
const LOOK_BACK_ROUNDS: u32 = 4;
/// A family is looked at where it takes this part of the least share that counts on one day at least.
const LOOKED_AT_FROM: f64 = 0.2;
/// Onsets of one change may differ by so many buckets.
const TOLERANCE_BUCKETS: f64 = 3.0;

/// What is remembered of an instance from one look to the next.
#[derive(Default)]
pub struct Memory {
    /// Up to when it was judged.
    pub judged_to: Option<Timestamp>,
    looked_back_to: Option<Timestamp>,
    patterns: Arc<Patterns>,
}

/// How an instance is looked at.
struct Way {
    window: Window,
    bucket_seconds: i64,
    tells: Window,
    rounds: u32,
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
        let buckets_before = |buckets: f64| to.plus_seconds(-buckets * bucket_seconds as f64);
        let recent = Way {
            window: Window { from: buckets_before(RECENT_BUCKETS), to },
            bucket_seconds,
            tells: Window { from: buckets_before(TELLING_BUCKETS), to },
            rounds: 1,
        };
        let is_due = |last: Timestamp| to.seconds_since(last) >= LOOK_BACK_SECONDS;
        if self.looked_back_to.is_none_or(is_due) {
            let since = app.store.kept_since(RetentionGroup::Statements, Detail::TenMinutes, now());
            let way = Way {
                window: Window { from: since, to },
                bucket_seconds: bucket_seconds.max(LOOK_BACK_BUCKET_SECONDS),
                tells: Window { from: since, to: recent.tells.from },
                rounds: LOOK_BACK_ROUNDS,
            };
            let observed = observe(app, instance, &way).await?;
            // A short history is seen in full by the other look.
            if observed.count() > 0 && observed.start < way.tells.to {
                self.patterns = self.judge(app, instance, observed, &way, Arc::default()).await?;
            }
            self.looked_back_to = Some(to);
        }
        let observed = observe(app, instance, &recent).await?;
        let spent = observed.seconds_per_second();
        if spent.is_some() {
            self.judge(app, instance, observed, &recent, self.patterns.clone()).await?;
        }
        Ok(spent)
    }

    /// Finds and keeps changes; answers with what comes back each day and week.
    async fn judge(
        &self,
        app: &App,
        instance: &Instance,
        observed: Observed,
        way: &Way,
        known: Arc<Patterns>,
    ) -> Result<Arc<Patterns>> {
        let thresholds = thresholds(instance);
        // What began before there was anything to compare with is told by nobody, and missed by nobody.
        let first = observed.start.plus_seconds(LEAST_BEFORE as f64 * way.bucket_seconds as f64);
        let tells = Window { from: way.tells.from.max(first), to: way.tells.to };
        let found = tokio::task::spawn_blocking(move || changes_of_instance(&observed, thresholds, &known)).await;
        let Ok(found) = found else { return Ok(Arc::default()) };
        let tolerance_seconds = TOLERANCE_BUCKETS * way.bucket_seconds as f64;
        let look = Look { tells, at: now(), tolerance_seconds, rounds: way.rounds };
        app.store.write_changes(instance.instance_id, super::followed_since(app), &look, &found.changes).await?;
        Ok(Arc::new(found.patterns))
    }
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
    let statements = pieces(app, id, RetentionGroup::Statements, way.window, coarsest).await?;
    let by_day = pieces(app, id, RetentionGroup::Statements, way.window, Detail::Hour).await?;
    let least_share = LOOKED_AT_FROM * thresholds(instance).least_share;
    let families = app.store.families_that_matter(id, &by_day, least_share).await?;
    let of = ToObserve {
        activity: &pieces(app, id, RetentionGroup::Activity, way.window, coarsest).await?,
        databases: &pieces(app, id, RetentionGroup::Databases, way.window, coarsest).await?,
        measures: &pieces(app, id, RetentionGroup::Measures, way.window, coarsest).await?,
        statements: &statements,
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
