use std::collections::BTreeSet;
use std::sync::Arc;
use std::time::Instant;

use hurnix_core::Timestamp;
use hurnix_core::Window;
use hurnix_core::findings::lasting_change::{Observed, Patterns, Remembered, Thresholds, Way, changes_of_instance};
use hurnix_core::findings::normal_range::Unusual;
use hurnix_core::findings::threshold::Watching;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_store::{Instance, Pieces, Result, ToObserve};

use super::followed_since;
use super::thresholds::beyond_thresholds;
use crate::own_metrics::JudgedOver;
use crate::state::{App, now};
use crate::zone::{clock_of, zone};

/// What is remembered of an instance from one look to the next.
#[derive(Default)]
pub struct Memory {
    /// Up to when it was judged.
    pub judged_to: Option<Timestamp>,
    looked_back_to: Option<Timestamp>,
    patterns: Arc<Patterns>,
    unusual: Unusual,
    watching: Watching,
    recent: Option<Recent>,
}

/// The last days as they are remembered, of families that matter by these thresholds.
struct Recent {
    thresholds: Thresholds,
    remembered: Remembered,
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
            // What was remembered is read anew too.
            self.recent = None;
            let begun = Instant::now();
            let way = Way::back(followed_since(app), to, bucket_seconds);
            let observed = Reading { app, instance, way }.all().await?;
            let observed = Arc::new(observed);
            self.learn_ranges(app, instance, observed.clone()).await?;
            self.patterns = judge(app, instance, &way, observed, Arc::default()).await?;
            self.looked_back_to = Some(to);
            app.own_metrics.count_look(JudgedOver::History, begun.elapsed());
        }
        let begun = Instant::now();
        let way = Way::recent(to, bucket_seconds);
        let observed = Arc::new(self.recent(&Reading { app, instance, way }).await?);
        let spent = observed.seconds_per_second();
        let there = zone(&instance.settings.day_zone);
        let mut unusual = self.unusual.judge(&observed, |at| clock_of(there, at));
        unusual.extend(beyond_thresholds(app, instance, &mut self.watching, bucket_seconds, to).await?);
        judge(app, instance, &way, observed.clone(), self.patterns.clone()).await?;
        app.unusual.note(instance.instance_id, unusual);
        app.own_metrics.count_look(JudgedOver::LastDays, begun.elapsed());
        let remembered = Remembered { observed: Arc::unwrap_or_clone(observed), to };
        self.recent = Some(Recent { thresholds: thresholds(instance), remembered });
        Ok(spent)
    }

    /// Learns what is usual of the server, from all that is kept. What was known stays where that breaks off.
    async fn learn_ranges(&mut self, app: &App, instance: &Instance, observed: Arc<Observed>) -> Result<()> {
        let (mut unusual, there) = (self.unusual.clone(), zone(&instance.settings.day_zone));
        let learnt = tokio::task::spawn_blocking(move || {
            unusual.learn(&observed, |at| clock_of(there, at));
            unusual
        });
        match learnt.await {
            Ok(learnt) => {
                // Where nothing could be learnt, what was kept is still the best that is known.
                if learnt.ranges().next().is_some() {
                    app.store.write_usual_ranges(instance.instance_id, now(), learnt.ranges()).await?;
                }
                self.unusual = learnt;
            }
            Err(error) => tracing::error!(instance = %instance.label, %error, "usual ranges could not be learnt"),
        }
        Ok(())
    }

    /// What the last days showed: as much of it as is remembered, and what is new.
    async fn recent(&mut self, reading: &Reading<'_>) -> Result<Observed> {
        let Way { window, bucket_seconds, .. } = reading.way;
        let serves = |recent: &Recent| {
            recent.thresholds == thresholds(reading.instance) && recent.remembered.serves(window, bucket_seconds)
        };
        match self.recent.take().filter(serves) {
            Some(Recent { mut remembered, .. }) => {
                reading.newest(&mut remembered).await?;
                Ok(remembered.observed)
            }
            None => reading.all().await,
        }
    }
}

/// Finds and keeps changes; answers with what comes back each day and week.
async fn judge(
    app: &App,
    instance: &Instance,
    way: &Way,
    observed: Arc<Observed>,
    known: Arc<Patterns>,
) -> Result<Arc<Patterns>> {
    let look = way.look(observed.start, now()).filter(|_| observed.count() > 0);
    let Some(look) = look else { return Ok(Arc::default()) };
    let thresholds = thresholds(instance);
    let found = tokio::task::spawn_blocking(move || changes_of_instance(&observed, thresholds, &known)).await;
    let found = match found {
        Ok(found) => found,
        Err(error) => {
            tracing::error!(instance = %instance.label, %error, "the look for lasting changes broke off");
            return Ok(Arc::default());
        }
    };
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

/// What a way of looking at an instance needs to be read.
struct Reading<'a> {
    app: &'a App,
    instance: &'a Instance,
    way: Way,
}

impl Reading<'_> {
    /// Everything in its window.
    async fn all(&self) -> Result<Observed> {
        let families = self.families_that_matter(self.way.window).await?;
        let id = self.instance.instance_id;
        self.app.store.observed_series(id, &self.to_observe(self.way.window).await?, &families).await
    }

    /// What is new in it, of families that matter by now as well.
    async fn newest(&self, remembered: &mut Remembered) -> Result<()> {
        let (store, id) = (&self.app.store, self.instance.instance_id);
        let mut told: BTreeSet<i64> = remembered.observed.families.iter().map(|family| family.family).collect();
        let again = remembered.again_from();
        let matter = self.families_that_matter(self.way.last_day()).await?;
        let new: Vec<i64> = matter.into_iter().filter(|family| told.insert(*family)).collect();
        if !new.is_empty() {
            let before = Window { from: remembered.observed.start, to: again };
            remembered.tell(store.observed_families(id, &self.to_observe(before).await?, &new).await?);
        }
        let told: Vec<i64> = told.into_iter().collect();
        let since = Window { from: again, to: self.way.window.to };
        let newest = store.observed_series(id, &self.to_observe(since).await?, &told).await?;
        remembered.go_on(newest, self.way.window);
        Ok(())
    }

    async fn families_that_matter(&self, window: Window) -> Result<Vec<i64>> {
        let Reading { app, instance, .. } = self;
        let id = instance.instance_id;
        let by_day = pieces(app, id, RetentionGroup::Statements, window, Detail::Hour).await?;
        app.store.families_that_matter(id, &by_day, thresholds(instance).least_of_a_day()).await
    }

    async fn to_observe(&self, window: Window) -> Result<ToObserve> {
        let bucket_seconds = self.way.bucket_seconds;
        let of = |group| pieces(self.app, self.instance.instance_id, group, window, coarsest(bucket_seconds));
        Ok(ToObserve {
            statements: of(RetentionGroup::Statements).await?,
            activity: of(RetentionGroup::Activity).await?,
            databases: of(RetentionGroup::Databases).await?,
            measures: of(RetentionGroup::Measures).await?,
            bucket_seconds,
        })
    }
}

/// The coarsest sums of which buckets of this length are made.
pub fn coarsest(bucket_seconds: i64) -> Detail {
    let fits = |detail: &Detail| detail.bucket_seconds().is_some_and(|seconds| bucket_seconds % seconds == 0);
    [Detail::Hour, Detail::TenMinutes].into_iter().find(fits).unwrap_or(Detail::Fine)
}

async fn pieces(app: &App, id: i32, group: RetentionGroup, window: Window, coarsest: Detail) -> Result<Pieces> {
    app.store.pieces(id, &[group], window, coarsest, now()).await
}
