use std::collections::HashMap;

use hurnix_core::changes::advice::{AdviceState, CarriedOut};
use hurnix_core::findings::effect::{BeforeAfter, Effect, LEAST_BUCKETS, Verdict};
use hurnix_core::findings::lasting_change::LastingChange;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters::IndexCounters;
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{AdviceRow, EffectRecord, FamilySeries, Pieces, Result};

use super::MOST_CHANGES;
use super::book::pages;
use crate::state::{App, now};

/// An effect is measured anew until this many buckets after the change, and on no later ones.
const EFFECT_BUCKETS: f64 = 144.0;

/// Series of families, of each database when it is asked for.
pub struct Series<'a> {
    pub pieces: &'a Pieces,
    pub bucket_seconds: i64,
    pub by_database: HashMap<String, FamilySeries>,
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

/// Measures what came of advice that was carried out.
pub async fn measure(app: &App, instance_id: i32, mut history: Series<'_>) -> Result<()> {
    let bucket_seconds = history.bucket_seconds as f64;
    let for_seconds = EFFECT_BUCKETS * bucket_seconds;
    let applied = pages(app, instance_id, AdviceState::Applied).await?;
    let all: Vec<CarriedOut> = applied.iter().filter_map(carried_out).collect();
    let is_settled = |page: &AdviceRow| page.effect.as_ref().is_some_and(|effect| effect.verdict != Verdict::TooEarly);
    let due: Vec<(&AdviceRow, CarriedOut)> = applied
        .iter()
        .filter_map(|page| Some((page, carried_out(page)?)))
        .filter(|(page, one)| !is_settled(page) || now().seconds_since(one.made.to) <= for_seconds)
        .collect();
    if due.is_empty() {
        return Ok(());
    }
    let mut changes: HashMap<i64, Vec<LastingChange>> = HashMap::new();
    for row in app.store.changes(instance_id, Timestamp(0), MOST_CHANGES).await? {
        if let Some(family) = row.family_id {
            changes.entry(family).or_default().push(row.kept.change);
        }
    }
    let catalogs = app.store.catalogs(instance_id).await?;
    let unread = Unread { catalogs: &catalogs, reads: app.store.last_read(instance_id).await?.snapshot() };
    for (page, one) in due {
        // What was undone is measured no more: its effect stays what it was.
        let of = catalogs.iter().find(|catalog| catalog.database == one.told.database());
        if of.is_some_and(|catalog| catalog.at > one.made.to && !one.told.is_carried_out(catalog)) {
            continue;
        }
        let series = history.of(app, instance_id, one.told.database()).await?;
        let mut numbers: Vec<i64> = series.families.keys().copied().collect();
        numbers.sort_unstable();
        let samples = app.store.family_samples(instance_id, &numbers).await?;
        let families = Families { series, samples: &samples, changes: &changes, bucket_seconds, for_seconds };
        let mut effect = families.measured(&one, &all);
        effect.never_read = effect.after_buckets >= LEAST_BUCKETS && unread.is_unread(&one);
        if effect.never_read && matches!(effect.verdict, Verdict::Confirmed | Verdict::Harmful | Verdict::CannotTell) {
            // Whatever became of the statements, it was something else.
            effect.verdict = Verdict::NoEffect;
        }
        app.store.write_effect(page.advice_id, &EffectRecord { effect: &effect, at: now() }).await?;
    }
    Ok(())
}

fn carried_out(page: &AdviceRow) -> Option<CarriedOut<'_>> {
    let made = Window { from: page.applied_from.unwrap_or(page.evidence.to), to: page.applied_at? };
    Some(CarriedOut { advice_id: page.advice_id, told: page.advice.told(), made })
}

/// What is needed to tell both sides of a change.
struct Families<'a> {
    series: &'a FamilySeries,
    samples: &'a HashMap<i64, String>,
    changes: &'a HashMap<i64, Vec<LastingChange>>,
    bucket_seconds: f64,
    for_seconds: f64,
}

impl Families<'_> {
    fn text(&self, family: i64) -> &str {
        self.samples.get(&family).map_or("", String::as_str)
    }

    /// The effect of one piece on its own where that can be told, and else of all that was carried out with it.
    fn measured(&self, one: &CarriedOut, all: &[CarriedOut]) -> Effect {
        let apart = LEAST_BUCKETS as f64 * self.bucket_seconds;
        let mut numbers: Vec<i64> = self.series.families.keys().copied().collect();
        // What it was meant for and has not run at all lately is touched, too.
        numbers.extend(one.told.families().into_iter().filter(|family| !self.series.families.contains_key(family)));
        numbers.sort_unstable();
        let is_measured = |family: &i64| one.told.is_measured_on(*family, self.text(*family));
        let touched = numbers.iter().copied().filter(is_measured).map(|family| {
            let others = one.others(family, all, apart);
            let sides = self.sides(family, one, others.earlier, others.later);
            (others, sides)
        });
        let (own, shared): (Vec<_>, Vec<_>) = touched.partition(|(others, _)| others.together.is_empty());
        let runs_alone = own.iter().any(|(_, sides)| sides.with_calls().0 >= LEAST_BUCKETS);
        let measured_on = if runs_alone || shared.is_empty() { own } else { shared };
        let mut together_with: Vec<i64> =
            measured_on.iter().flat_map(|(others, _)| others.together.iter().copied()).collect();
        together_with.sort_unstable();
        together_with.dedup();
        let after_until = measured_on.iter().filter_map(|(others, _)| others.later).min();

        // What any advice may have touched that was carried out in the time looked at cannot serve as a control.
        let may_be_touched = |family: &i64| all.iter().any(|other| other.told.may_touch(self.text(*family)));
        let is_control = |family: &&i64| !self.text(**family).is_empty() && !may_be_touched(family);
        let controls: Vec<BeforeAfter> =
            numbers.iter().filter(is_control).map(|family| self.sides(*family, one, None, None)).collect();
        let sides: Vec<BeforeAfter> = measured_on.into_iter().map(|(_, sides)| sides).collect();
        let effect = one.told.measured(sides, &controls, one.advice_id as u64);
        Effect { together_with, after_until, ..effect }
    }

    /// Both sides of the change for a family: since it came to the level that it was on, and until something else moved
    /// it, a day later at most.
    fn sides(
        &self,
        family: i64,
        one: &CarriedOut,
        earlier: Option<Timestamp>,
        later: Option<Timestamp>,
    ) -> BeforeAfter {
        let Some(buckets) = self.series.families.get(&family) else { return BeforeAfter::default() };
        let changes = self.changes.get(&family).map_or(&[][..], Vec::as_slice);
        let lasting = || changes.iter().filter(|change| !change.passed).map(|change| change.onset);
        let apart = LEAST_BUCKETS as f64 * self.bucket_seconds;
        // The onset of what the change itself brought may be told a little too early.
        let is_before = |onset: &Timestamp| one.made.from.seconds_since(*onset) >= apart;
        let level_since = lasting().filter(is_before).chain(earlier).max();
        let passed: Vec<Window> = changes
            .iter()
            .filter(|change| change.passed)
            .filter_map(|change| Some(Window { from: change.onset, to: change.until? }))
            .collect();
        let end = one.made.to.plus_seconds(self.for_seconds);
        let soonest = one.made.to.plus_seconds(apart);
        let moved_again = lasting().filter(|onset| *onset > soonest).min();
        let until = later.into_iter().chain(moved_again).fold(end, Timestamp::min);
        BeforeAfter::of(buckets, one.made, level_since, &passed, Some(until))
    }
}

/// What is known of the reads of indexes: of the database connected to only, which is the first.
struct Unread<'a> {
    catalogs: &'a [Catalog],
    reads: Option<Snapshot<u32, IndexCounters>>,
}

impl Unread<'_> {
    fn is_unread(&self, one: &CarriedOut) -> bool {
        let (Some(catalog), Some(reads)) = (self.catalogs.first(), &self.reads) else { return false };
        let is_counted = reads.at > one.made.to && reads.counted_since().is_none_or(|since| since <= one.made.from);
        catalog.database == one.told.database() && is_counted && one.told.is_unread(catalog, reads)
    }
}
