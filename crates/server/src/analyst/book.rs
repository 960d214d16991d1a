use std::collections::HashMap;

use hurnix_core::Window;
use hurnix_core::changes::advice::{Advice, AdviceState, Evidence, FamilyCost, IndexUseSeen, advise};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters::{IndexCounters, StatementCounters};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_store::{AdviceDraft, AdviceFilter, AdviceRow, Instance, Result};

use super::planner_costs::planner_check;
use crate::index_use::index_use;
use crate::state::{App, now};

/// Who is said to have applied advice that nobody marked.
const COLLECTOR: &str = "collector";
/// Standard deviations by which a count of calls may be above what is usual, by chance.
const CHANCE: f64 = 2.0;
/// Days that tell how often a family runs.
const RATE_DAYS: f64 = 7.0;
/// Pages of the book looked at in a round.
const MOST_ADVICE: i64 = 500;

/// Open advice whose change is seen in the catalog was applied, whoever did it. What it is compared with ends
/// where its evidence ended: the change was not made yet then.
pub async fn mark_applied(app: &App, instance_id: i32) -> Result<()> {
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

/// What a round rests on.
pub struct Round {
    /// Window of the figures that serve as evidence.
    pub evidence: Window,
    /// Time of all statements of the instance, in seconds per day.
    pub seconds_per_day: f64,
    /// Length of a round in seconds.
    pub bucket_seconds: f64,
}

/// Enters advice in the book, database by database: what ran in one says nothing of another, be its tables the same.
pub async fn enter_advice(app: &App, instance: &Instance, round: &Round) -> Result<()> {
    let (instance_id, window) = (instance.instance_id, round.evidence);
    let instance_seconds_per_day = round.seconds_per_day;
    let catalogs = app.store.catalogs(instance_id).await?;
    if catalogs.is_empty() {
        return Ok(());
    }
    let pieces =
        app.store.pieces(instance_id, &[RetentionGroup::Statements], window, Detail::for_sums(window), now()).await?;
    if app.store.coverage(instance_id, &pieces).await?.seconds <= 0.0 {
        return Ok(());
    }
    let reads = app.store.last_read::<IndexCounters, _>(instance_id).await?.snapshot();
    let watched = index_use(app, instance).await?;
    let is_replica = app.store.is_replica(instance_id, now()).await?.unwrap_or(false);
    let seen = reads.as_ref().map(|reads| IndexUseSeen { at: now(), reads, watched: &watched, is_replica });
    let applied = pages(app, instance_id, AdviceState::Applied).await?;
    let open = pages(app, instance_id, AdviceState::Open).await?;
    for (place, catalog) in catalogs.iter().enumerate() {
        // The first one is that of the database connected to, whose indexes are followed.
        let is_first = place == 0;
        let Some(database_id) = app.store.name_id(instance_id, &catalog.database).await? else { continue };
        let families = family_costs(app, instance_id, window, Some(database_id)).await?;
        let index_use = seen.filter(|_| is_first);
        let cost_factor = planner_check(app, &families, catalog).await?.factor();
        let evidence = Evidence { catalog, families: &families, instance_seconds_per_day, cost_factor, index_use };
        let mut given: Vec<(String, Advice)> = Vec::new();
        // Over a whole workload this takes seconds.
        for advice in tokio::task::block_in_place(|| advise(&evidence)) {
            let subject = advice.told().subject();
            let subject = if is_first { subject } else { format!("{}: {subject}", catalog.database) };
            if let Some(useless) = measured_as_useless(&applied, &advice, &subject) {
                app.store.withhold_advice(useless, now()).await?;
                continue;
            }
            given.push((subject.clone(), advice.clone()));
            app.store.write_advice(instance_id, now(), &AdviceDraft { advice, subject, evidence: window }).await?;
        }
        let anew: Vec<&Advice> = given.iter().map(|(_, advice)| advice).collect();
        for page in open.iter().filter(|page| page.advice.told().database() == catalog.database) {
            let page_of = (page.advice.kind(), &page.subject);
            let is_given = given.iter().any(|(subject, advice)| (advice.kind(), subject) == page_of);
            let silent_buckets = now().seconds_since(page.updated_at) / round.bucket_seconds;
            let told = page.advice.told();
            if !is_given && (told.is_taken_over_by(&anew) || told.lapses(&evidence, silent_buckets)) {
                app.store.move_advice(page.advice_id, AdviceState::Open, AdviceState::Lapsed, None).await?;
            }
        }
    }
    Ok(())
}

/// The newest page on which the same advice was measured, where that is why it is not given again.
fn measured_as_useless(applied: &[AdviceRow], advice: &Advice, subject: &str) -> Option<i64> {
    let is_same = |page: &&AdviceRow| page.advice.kind() == advice.kind() && page.subject == subject;
    let page = applied.iter().filter(is_same).max_by_key(|page| page.applied_at)?;
    let verdict = page.effect.as_ref()?.verdict;
    advice.is_withheld_by(&page.advice, verdict).then_some(page.advice_id)
}

/// What the families of a database cost in a window; how often they run, by the days before its end.
async fn family_costs(
    app: &App,
    instance_id: i32,
    window: Window,
    database_id: Option<i32>,
) -> Result<Vec<FamilyCost>> {
    let lately = summed(app, instance_id, window, database_id).await?;
    let days = Window { from: window.to.plus_seconds(-RATE_DAYS * SECONDS_PER_DAY).min(window.from), to: window.to };
    let in_days = summed(app, instance_id, days, database_id).await?;
    let numbers: Vec<i64> = lately.by_family.keys().copied().collect();
    let samples = app.store.family_samples(instance_id, &numbers).await?;
    let cost = |(family, counters): (&i64, &StatementCounters)| {
        let (text, first_seen_at) = samples.get(family)?.clone();
        // What came with the last release did not run before it.
        let known_seconds = window.to.seconds_since(first_seen_at).min(in_days.seconds).max(lately.seconds);
        let calls = in_days.by_family.get(family).map_or(counters.calls, |counters| counters.calls) as f64;
        // A few calls in a short time may be chance: what is certain is fewer.
        let calls = (calls - CHANCE * calls.sqrt()).max(0.0);
        Some(FamilyCost {
            family: *family,
            text,
            calls_per_day: calls / known_seconds.max(1.0) * SECONDS_PER_DAY,
            calls: counters.calls,
            exec_us: counters.exec_us,
            rows: counters.rows,
            hit_pages: counters.hit_pages,
            read_pages: counters.read_pages,
        })
    };
    let mut families: Vec<FamilyCost> = lately.by_family.iter().filter_map(cost).collect();
    families.sort_by_key(|family| family.family);
    Ok(families)
}

/// What the families of a database cost in the last day.
pub async fn costs_of_last_day(app: &App, instance_id: i32, catalog: &Catalog) -> Result<Vec<FamilyCost>> {
    let Some(database_id) = app.store.name_id(instance_id, &catalog.database).await? else { return Ok(Vec::new()) };
    let to = now();
    let window = Window { from: to.plus_seconds(-SECONDS_PER_DAY), to };
    family_costs(app, instance_id, window, Some(database_id)).await
}

/// Sums of a window, and the seconds of it that were observed.
struct Summed {
    seconds: f64,
    by_family: HashMap<i64, StatementCounters>,
}

async fn summed(app: &App, instance_id: i32, window: Window, database_id: Option<i32>) -> Result<Summed> {
    let groups = &[RetentionGroup::Statements];
    let pieces = app.store.pieces(instance_id, groups, window, Detail::for_sums(window), now()).await?;
    let seconds = app.store.coverage(instance_id, &pieces).await?.seconds;
    Ok(Summed { seconds, by_family: app.store.family_sums(instance_id, &pieces, database_id).await? })
}

/// Pages of the book in one state, the newest first.
pub async fn pages(app: &App, instance_id: i32, state: AdviceState) -> Result<Vec<AdviceRow>> {
    let filter = AdviceFilter { state: Some(state), by_age: true, offset: 0, limit: MOST_ADVICE };
    Ok(app.store.advice_list(instance_id, &filter).await?.0)
}
