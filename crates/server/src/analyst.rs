//! Judges what was collected, over and over: lasting changes, advice, and what came of advice. It
//! fetches figures and passes them to the rules of the core.

use std::collections::HashMap;

use hurnix_core::counters::StatementCounters;
use hurnix_core::detail::Detail;
use hurnix_core::effect::{BeforeAfter, Verdict, effect};
use hurnix_core::lasting_change::{Bucket, costliest_slowdown_since, lasting_changes};
use hurnix_core::missing_index::{FamilyCost, MissingIndex, fulfilled_by, missing_indexes, names_table};
use hurnix_core::retention::RetentionGroup;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{
    AdviceDraft, AdviceFilter, AdviceRow, ChangeDraft, EffectRecord, FamilySeries, Instance, Pieces, Result,
    StoreProblem,
};

use crate::events::News;
use crate::state::{App, now};

/// Kind of advice in the book.
pub const MISSING_INDEX: &str = "missing_index";
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
        judge(app, instance.instance_id, bucket_seconds, to).await?;
        judged.insert(instance.instance_id, to);
        return Ok(());
    }
    mark_applied(app, instance.instance_id).await
}

async fn judge(app: &App, instance_id: i32, bucket_seconds: i64, to: Timestamp) -> Result<()> {
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

    let changes = changes(&series);
    app.store.write_changes(instance_id, history, now(), 3.0 * bucket_seconds as f64, &changes).await?;

    mark_applied(app, instance_id).await?;
    // When the costliest slowdown began inside the evidence, only what came after counts.
    let slowdown = costliest_slowdown_since(changes.iter().map(|draft| &draft.change));
    let longest = buckets_before(EVIDENCE_BUCKETS);
    let evidence_from = slowdown.map_or(longest, |onset| onset.max(longest));
    advise(app, instance_id, Window { from: evidence_from, to }, &series).await?;
    let history = Series { pieces: &pieces, bucket_seconds, by_database: HashMap::new() };
    measure(app, instance_id, history, EFFECT_BUCKETS * bucket_seconds as f64).await?;
    app.events.tell(instance_id, News::Findings);
    Ok(())
}

fn changes(series: &FamilySeries) -> Vec<ChangeDraft> {
    let instance_seconds_per_second = series.exec_us as f64 / 1e6 / series.seconds;
    let mut drafts: Vec<ChangeDraft> = series
        .families
        .iter()
        .flat_map(|(family_id, buckets)| {
            let changes = lasting_changes(buckets, instance_seconds_per_second, *family_id as u64);
            changes.into_iter().map(|change| ChangeDraft { family_id: *family_id, change })
        })
        .collect();
    drafts.sort_by_key(|draft| (draft.family_id, draft.change.onset));
    drafts
}

/// Open advice whose index has appeared was applied, whoever did it. What it is compared with ends
/// where its evidence ended: the index was not there yet then.
async fn mark_applied(app: &App, instance_id: i32) -> Result<()> {
    let catalogs = app.store.catalogs(instance_id).await?;
    for advice in pages(app, instance_id, "open").await? {
        let finding = missing_index(&advice)?;
        let of = catalogs.iter().find(|catalog| catalog.database == finding.database || finding.database.is_empty());
        if let Some(catalog) = of.filter(|catalog| fulfilled_by(&finding, catalog).is_some()) {
            let between = Window { from: advice.evidence.to, to: catalog.at.max(advice.evidence.to) };
            app.store.move_advice(advice.advice_id, "open", "applied", Some((between, COLLECTOR))).await?;
        }
    }
    Ok(())
}

/// Enters missing indexes in the book, database by database: what ran in one says nothing of another, be its tables
/// the same.
async fn advise(app: &App, instance_id: i32, evidence: Window, series: &FamilySeries) -> Result<()> {
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
    for (place, catalog) in catalogs.iter().enumerate() {
        let Some(database_id) = app.store.name_id(instance_id, &catalog.database).await? else { continue };
        let sums = app.store.family_sums(instance_id, &pieces, database_id).await?;
        let families = costs(app, instance_id, coverage.seconds, &sums).await?;
        for finding in missing_indexes(&families, catalog, instance_seconds_per_day) {
            let columns: Vec<&str> = finding.columns.iter().map(|key| key.name.as_str()).collect();
            let table = format!("{}.{} ({})", finding.schema, finding.table, columns.join(", "));
            let draft = AdviceDraft {
                kind: MISSING_INDEX,
                // The first one is that of the database connected to.
                subject: if place == 0 { table } else { format!("{}: {table}", catalog.database) },
                evidence,
                saved_seconds_per_day: finding.saved_seconds_per_day,
                payload: serde_json::to_value(&finding).map_err(unreadable)?,
            };
            app.store.write_advice(instance_id, now(), &draft).await?;
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
    for advice in pages(app, instance_id, "applied").await? {
        let Some(applied_at) = advice.applied_at else { continue };
        let settled = advice.effect.as_ref().is_some_and(|effect| effect.verdict != Verdict::TooEarly);
        if settled && now().seconds_since(applied_at) > for_seconds {
            continue;
        }
        let finding = missing_index(&advice)?;
        let series = history.of(app, instance_id, &finding.database).await?;
        let helped: Vec<i64> = finding.families.iter().map(|family| family.family).collect();
        let numbers: Vec<i64> = series.families.keys().copied().collect();
        let samples = app.store.family_samples(instance_id, &numbers).await?;
        let sides = |buckets: &[Bucket]| BeforeAfter {
            before: buckets
                .iter()
                .filter(|bucket| bucket.at >= advice.evidence.from && bucket.at < advice.evidence.to)
                .copied()
                .collect(),
            after: buckets.iter().filter(|bucket| bucket.at >= applied_at).copied().collect(),
        };
        let touched: Vec<BeforeAfter> = helped
            .iter()
            .map(|family| series.families.get(family).map(|buckets| sides(buckets)).unwrap_or_default())
            .collect();
        let mut controls: Vec<(i64, BeforeAfter)> = series
            .families
            .iter()
            .filter(|(family, _)| samples.get(family).is_some_and(|text| !names_table(text, &finding.table)))
            .map(|(family, buckets)| (*family, sides(buckets)))
            .collect();
        controls.sort_by_key(|(family, _)| *family);
        let controls: Vec<BeforeAfter> = controls.into_iter().map(|(_, sides)| sides).collect();
        let measured = effect(&touched, &controls, advice.advice_id as u64);
        app.store.write_effect(advice.advice_id, &EffectRecord { effect: &measured, at: now() }).await?;
    }
    Ok(())
}

async fn pages(app: &App, instance_id: i32, state: &str) -> Result<Vec<AdviceRow>> {
    let filter = AdviceFilter { state: Some(state.into()), by_age: true, offset: 0, limit: MOST_ADVICE };
    let (pages, _) = app.store.advice_list(instance_id, &filter).await?;
    Ok(pages.into_iter().filter(|advice| advice.kind == MISSING_INDEX).collect())
}

/// The finding on a page of the book.
pub fn missing_index(advice: &AdviceRow) -> Result<MissingIndex> {
    serde_json::from_value(advice.payload.clone()).map_err(unreadable)
}

fn unreadable(error: serde_json::Error) -> StoreProblem {
    StoreProblem::Unreadable { what: "finding", reason: error.to_string() }
}
