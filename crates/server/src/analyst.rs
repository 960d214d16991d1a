//! Judges what was collected, over and over: lasting changes, advice, and what came of advice. It
//! fetches figures and passes them to the rules of the core.

use std::collections::HashMap;

use hurnix_core::changes::advice::{AdviceKind, AdviceState, Evidence, FamilyCost, IndexUseSeen, advise};
use hurnix_core::findings::effect::{BeforeAfter, Verdict};
use hurnix_core::findings::lasting_change::{costliest_slowdown_since, lasting_changes, sure_together};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::{IndexCounters, StatementCounters};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{
    AdviceDraft, AdviceFilter, AdviceRow, ChangeDraft, EffectRecord, FamilySeries, Instance, Pieces, Result,
};

use crate::events::News;
use crate::index_use::index_use;
use crate::state::{App, now};

/// Who is said to have applied advice that nobody marked.
pub const COLLECTOR: &str = "collector";
/// Buckets in which lasting changes are looked for: three days of ten minutes.
const HISTORY_BUCKETS: f64 = 432.0;
/// Newest buckets that serve as evidence for advice.
const EVIDENCE_BUCKETS: f64 = 12.0;
/// An effect is measured anew until this many buckets after the change.
const EFFECT_BUCKETS: f64 = 144.0;
/// Pages of the book looked at in a round.
const MOST_ADVICE: i64 = 500;

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

    let changes = changes(&series, bucket_seconds as f64);
    app.store.write_changes(instance_id, history, now(), 3.0 * bucket_seconds as f64, &changes).await?;

    mark_applied(app, instance_id).await?;
    // When the costliest slowdown began inside the evidence, only what came after counts.
    let slowdown = costliest_slowdown_since(changes.iter().map(|draft| &draft.change));
    let longest = buckets_before(EVIDENCE_BUCKETS);
    let evidence_from = slowdown.map_or(longest, |onset| onset.max(longest));
    enter_advice(app, instance, Window { from: evidence_from, to }, &series).await?;
    let history = Series { pieces: &pieces, bucket_seconds, by_database: HashMap::new() };
    measure(app, instance_id, history, EFFECT_BUCKETS * bucket_seconds as f64).await?;
    app.events.tell(instance_id, News::Findings);
    Ok(())
}

/// The changes of all families. Each is one of very many that could have been found: of those told, at most one in
/// twenty is none.
fn changes(series: &FamilySeries, bucket_seconds: f64) -> Vec<ChangeDraft> {
    let instance_seconds_per_second = series.exec_us as f64 / 1e6 / series.seconds;
    let mut drafts: Vec<ChangeDraft> = series
        .families
        .iter()
        .flat_map(|(family_id, buckets)| {
            let changes = lasting_changes(buckets, bucket_seconds, instance_seconds_per_second);
            changes.into_iter().map(|change| ChangeDraft { family_id: *family_id, change })
        })
        .collect();
    let chances: Vec<f64> = drafts.iter().map(|draft| draft.change.chance).collect();
    let surest = sure_together(&chances, series.families.len());
    drafts.retain(|draft| surest.is_some_and(|chance| draft.change.chance <= chance));
    drafts.sort_by_key(|draft| (draft.family_id, draft.change.onset));
    drafts
}

/// Open advice whose change is seen in the catalog was applied, whoever did it. What it is compared with ends
/// where its evidence ended: the change was not made yet then.
async fn mark_applied(app: &App, instance_id: i32) -> Result<()> {
    let catalogs = app.store.catalogs(instance_id).await?;
    for page in pages(app, instance_id, AdviceState::Open).await? {
        let told = page.advice.told();
        let of = catalogs
            .iter()
            .find(|catalog| catalog.database == told.database() || told.database().is_empty())
            .filter(|catalog| told.is_carried_out(catalog));
        if let Some(catalog) = of {
            let between = Window { from: page.evidence.to, to: catalog.at.max(page.evidence.to) };
            let applied = Some((between, COLLECTOR));
            app.store.move_advice(page.advice_id, AdviceState::Open, AdviceState::Applied, applied).await?;
        }
    }
    Ok(())
}

/// Enters advice in the book, database by database: what ran in one says nothing of another, be its tables the same.
async fn enter_advice(app: &App, instance: &Instance, evidence: Window, series: &FamilySeries) -> Result<()> {
    let instance_id = instance.instance_id;
    let catalogs = app.store.catalogs(instance_id).await?;
    if catalogs.is_empty() {
        return Ok(());
    }
    let pieces = app
        .store
        .pieces(instance_id, &[RetentionGroup::Statements], evidence, Detail::for_window(evidence), now())
        .await?;
    let coverage = app.store.coverage(instance_id, &pieces).await?;
    if coverage.seconds <= 0.0 {
        return Ok(());
    }
    let instance_seconds_per_day = series.exec_us as f64 / 1e6 / series.seconds * SECONDS_PER_DAY;
    let reads = app.store.last_read::<IndexCounters, _>(instance_id).await?.snapshot();
    let watched = index_use(app, instance).await?;
    let is_replica = app.store.is_replica(instance_id, now()).await?.unwrap_or(false);
    let mut given: Vec<(AdviceKind, String)> = Vec::new();
    for (place, catalog) in catalogs.iter().enumerate() {
        // The first one is that of the database connected to, whose indexes are followed.
        let is_first = place == 0;
        let Some(database_id) = app.store.name_id(instance_id, &catalog.database).await? else { continue };
        let sums = app.store.family_sums(instance_id, &pieces, database_id).await?;
        let families = costs(app, instance_id, coverage.seconds, &sums).await?;
        let seen = reads.as_ref().map(|reads| IndexUseSeen { at: now(), reads, watched: &watched, is_replica });
        let index_use = seen.filter(|_| is_first);
        let found = advise(&Evidence { catalog, families: &families, instance_seconds_per_day, index_use });
        for advice in found {
            let subject = advice.told().subject();
            let subject = if is_first { subject } else { format!("{}: {subject}", catalog.database) };
            given.push((advice.kind(), subject.clone()));
            app.store.write_advice(instance_id, now(), &AdviceDraft { advice, subject, evidence }).await?;
        }
    }
    let seen = reads.as_ref().map(|reads| IndexUseSeen { at: now(), reads, watched: &watched, is_replica });
    for page in pages(app, instance_id, AdviceState::Open).await?.into_iter().filter(|page| page.advice.kind().lapses())
    {
        let of = catalogs.iter().enumerate().find(|(_, catalog)| catalog.database == page.advice.told().database());
        let Some((place, catalog)) = of else { continue };
        let index_use = seen.filter(|_| place == 0);
        let evidence = Evidence { catalog, families: &[], instance_seconds_per_day, index_use };
        let is_given = given.iter().any(|(kind, subject)| (*kind, subject) == (page.advice.kind(), &page.subject));
        if !is_given && page.advice.told().is_refuted(&evidence) {
            app.store.move_advice(page.advice_id, AdviceState::Open, AdviceState::Lapsed, None).await?;
        }
    }
    Ok(())
}

/// What families cost, by their sums.
async fn costs(
    app: &App,
    instance_id: i32,
    seconds: f64,
    sums: &HashMap<i64, StatementCounters>,
) -> Result<Vec<FamilyCost>> {
    let numbers: Vec<i64> = sums.keys().copied().collect();
    let samples = app.store.family_samples(instance_id, &numbers).await?;
    let mut families: Vec<FamilyCost> = sums
        .iter()
        .filter_map(|(family, counters)| {
            Some(FamilyCost {
                family: *family,
                text: samples.get(family)?.clone(),
                seconds,
                calls: counters.calls,
                exec_us: counters.exec_us,
                rows: counters.rows,
                hit_pages: counters.hit_pages,
                read_pages: counters.read_pages,
            })
        })
        .collect();
    families.sort_by_key(|family| family.family);
    Ok(families)
}

/// Series of families, of each database when it is asked for.
struct Series<'a> {
    pieces: &'a Pieces,
    bucket_seconds: i64,
    by_database: HashMap<String, FamilySeries>,
}

impl Series<'_> {
    /// What ran in a database; in all of them where none is named.
    async fn of(&mut self, app: &App, instance_id: i32, database: &str) -> Result<&FamilySeries> {
        if !self.by_database.contains_key(database) {
            let database_id = app.store.name_id(instance_id, database).await?;
            let series = app.store.family_series(instance_id, self.pieces, self.bucket_seconds, database_id).await?;
            self.by_database.insert(database.to_owned(), series);
        }
        Ok(&self.by_database[database])
    }
}

/// Measures what came of applied advice.
async fn measure(app: &App, instance_id: i32, mut history: Series<'_>, for_seconds: f64) -> Result<()> {
    for page in pages(app, instance_id, AdviceState::Applied).await? {
        let Some(applied_at) = page.applied_at else { continue };
        let settled = page.effect.as_ref().is_some_and(|effect| effect.verdict != Verdict::TooEarly);
        if settled && now().seconds_since(applied_at) > for_seconds {
            continue;
        }
        let told = page.advice.told();
        let series = history.of(app, instance_id, told.database()).await?;
        let mut numbers: Vec<i64> = series.families.keys().copied().collect();
        numbers.sort_unstable();
        let samples = app.store.family_samples(instance_id, &numbers).await?;
        let text = |family: &i64| samples.get(family).map(String::as_str);
        let sides = |family: &i64| BeforeAfter {
            before: series.families[family]
                .iter()
                .filter(|bucket| bucket.at >= page.evidence.from && bucket.at < page.evidence.to)
                .copied()
                .collect(),
            after: series.families[family].iter().filter(|bucket| bucket.at >= applied_at).copied().collect(),
        };
        let is_touched = |family: &&i64| told.is_measured_on(**family, text(family).unwrap_or_default());
        let mut touched: Vec<BeforeAfter> = numbers.iter().filter(is_touched).map(sides).collect();
        // What it was meant for and has not run at all lately is touched, too.
        let gone = told.families().into_iter().filter(|family| !series.families.contains_key(family));
        touched.extend(gone.map(|_| BeforeAfter::default()));
        let is_control = |family: &&i64| text(family).is_some_and(|text| !told.may_touch(text));
        let controls: Vec<BeforeAfter> = numbers.iter().filter(is_control).map(sides).collect();
        let measured = told.measured(touched, &controls, page.advice_id as u64);
        app.store.write_effect(page.advice_id, &EffectRecord { effect: &measured, at: now() }).await?;
    }
    Ok(())
}

async fn pages(app: &App, instance_id: i32, state: AdviceState) -> Result<Vec<AdviceRow>> {
    let filter = AdviceFilter { state: Some(state), by_age: true, offset: 0, limit: MOST_ADVICE };
    Ok(app.store.advice_list(instance_id, &filter).await?.0)
}
