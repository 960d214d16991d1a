use std::collections::HashMap;

use hurnix_core::changes::advice::{AdviceState, CarriedOut, SeenFamily};
use hurnix_core::findings::effect::{EFFECT_BUCKETS, Verdict};
use hurnix_core::findings::lasting_change::{Bucket, LastingChange, Measured};
use hurnix_core::readings::counters::IndexCounters;
use hurnix_core::{Timestamp, Window};
use hurnix_store::{AdviceRow, EffectRecord, Pieces, Result};

use super::MOST_CHANGES;
use super::book::pages;
use crate::state::{App, now};

/// Series of families, of each database when it is asked for.
pub struct Series<'a> {
    pub pieces: &'a Pieces,
    pub bucket_seconds: i64,
    pub by_database: HashMap<String, HashMap<i64, Vec<Bucket>>>,
}

impl Series<'_> {
    /// What ran in a database; in all of them where none is named.
    async fn of(&mut self, app: &App, instance_id: i32, database: &str) -> Result<&HashMap<i64, Vec<Bucket>>> {
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
    let applied = pages(app, instance_id, AdviceState::Applied).await?;
    let all: Vec<CarriedOut> = applied.iter().filter_map(carried_out).collect();
    let is_settled = |page: &AdviceRow| page.effect.as_ref().is_some_and(|effect| effect.verdict != Verdict::TooEarly);
    let is_due = |page: &AdviceRow, one: &CarriedOut| {
        !is_settled(page) || now().seconds_since(one.made.to) <= EFFECT_BUCKETS * bucket_seconds
    };
    let due: Vec<(&AdviceRow, CarriedOut)> =
        applied.iter().filter_map(|page| Some((page, carried_out(page).filter(|one| is_due(page, one))?))).collect();
    if due.is_empty() {
        return Ok(());
    }
    let mut changes: HashMap<i64, Vec<LastingChange>> = HashMap::new();
    for row in app.store.changes(instance_id, Timestamp(0), Some(Measured::TimePerCall), MOST_CHANGES).await? {
        if let Some(family) = row.subject.family {
            changes.entry(family).or_default().push(row.kept.change);
        }
    }
    let catalogs = app.store.catalogs(instance_id).await?;
    let reads = app.store.last_read::<IndexCounters, _>(instance_id).await?.snapshot();
    let first = due.iter().map(|(_, one)| one.made.from).min().unwrap_or_else(now);
    let markers = app.store.markers(instance_id, Window { from: first, to: now() }).await?;
    for (page, one) in due {
        let of = catalogs.iter().position(|catalog| catalog.database == one.told.database());
        let catalog = of.map(|place| &catalogs[place]);
        // What was undone is measured no more: its effect stays what it was.
        if catalog.is_some_and(|catalog| catalog.at > one.made.to && !one.told.is_carried_out(catalog)) {
            continue;
        }
        let series = history.of(app, instance_id, one.told.database()).await?;
        let mut numbers: Vec<i64> = series.keys().copied().collect();
        numbers.sort_unstable();
        let samples = app.store.family_samples(instance_id, &numbers).await?;
        let seen = |family: &i64| SeenFamily {
            family: *family,
            text: samples.get(family).map_or("", |(text, _)| text.as_str()),
            buckets: &series[family],
            changes: changes.get(family).map_or(&[], Vec::as_slice),
        };
        let families: Vec<SeenFamily> = numbers.iter().map(seen).collect();
        let effect = one.effect(&all, &families, bucket_seconds);
        // Reads of indexes are followed in the database connected to only, which is the first.
        let followed = catalog.zip(reads.as_ref()).filter(|_| of == Some(0));
        let is_unread = followed.is_some_and(|(catalog, reads)| one.told.is_unread(one.made, catalog, reads));
        let mut effect = if is_unread { effect.of_unread() } else { effect }.following(page.effect.as_ref());
        let until = one.made.to.plus_seconds(EFFECT_BUCKETS * bucket_seconds);
        let until = effect.after_until.map_or(until, |other| other.min(until));
        effect.meanwhile = markers
            .iter()
            .filter(|marker| marker.kind.may_move_statements() && marker.at >= one.made.from && marker.at < until)
            .map(|marker| marker.text.clone())
            .collect();
        app.store.write_effect(one.advice_id, &EffectRecord { effect: &effect, at: now() }).await?;
    }
    Ok(())
}

fn carried_out(page: &AdviceRow) -> Option<CarriedOut<'_>> {
    let made = Window { from: page.applied_from.unwrap_or(page.evidence.to), to: page.applied_at? };
    Some(CarriedOut { advice_id: page.advice_id, told: page.advice.told(), made })
}
