//! The past of a simulated server, lived through in fast time: it is read as any server is, its
//! differences are taken by the same rule, and what was read is written a day at a time.

use std::collections::HashMap;

use async_trait::async_trait;
use hurnix_core::instance::marker::{Marker, MarkerKind, catalog_markers};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::activity::ActivitySample;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters::{Counters, MeasureCounters};
use hurnix_core::readings::counters_read::CountersRead;
use hurnix_core::readings::difference::{Difference, Snapshot};
use hurnix_core::readings::figures::{Figures, Rhythm, Shape};
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::metric::{Measure, Metric};
use hurnix_core::readings::server_log::{LogEntry, LogPosition, entries};
use hurnix_core::readings::statement::StatementText;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Timestamp, time::MICROS_PER_SECOND};
use hurnix_source::simulated::{Model, SimulatedSource};
use hurnix_source::{Planned, ReadProblem, Setting, Source};
use hurnix_store::{
    BackfilledMeasures, BackfilledSnapshot, Kind, LogRow, MeasureRow, Period, Result, Store, StoreProblem,
    WrittenSnapshot,
};
use serde::Serialize;

use super::backfill_sums::{bucket_of, loads, measures as summed};
use super::queued_write::plan_row;
use super::step::{Step, by_object};
use super::words::{Keyed, Words};
use super::writer::setting_row;

/// How densely a stretch of the past was read, in seconds between two readings.
struct Density {
    activity: i64,
    counters: i64,
    space: i64,
}

/// Long ago, every ten minutes do.
const LONG_AGO: Density = Density { activity: 60, counters: 600, space: 3600 };
/// Lately, as a server under care is read.
const LATELY: Density = Density { activity: 10, counters: 60, space: 600 };
const LATELY_SECONDS: f64 = SECONDS_PER_DAY;
/// Longest period that has figures.
const LONGEST_SECONDS: f64 = 1500.0;

/// Lives through the past of a model up to a moment, and writes it. Doing it again changes nothing, so one
/// that was interrupted is done anew.
pub async fn backfill(store: &Store, instance_id: i32, model: Model, until: Timestamp) -> Result<()> {
    let mut at = model.began_at;
    let mut past = Backfill {
        source: SimulatedSource::stopped(model),
        instance_id,
        words: Words::new(false),
        counters: all_followed(),
        counted: HashMap::new(),
        texts: Vec::new(),
        samples: Vec::new(),
        measures: Vec::new(),
        markers: Vec::new(),
        log: Vec::new(),
        log_position: None,
        settings: Vec::new(),
        changed_settings: Vec::new(),
        catalog: None,
    };
    let lately = until.plus_seconds(-LATELY_SECONDS);
    let kept_since = store.fine_since(until);
    while at < until {
        let density = if at < lately { &LONG_AGO } else { &LATELY };
        at = at.plus_seconds(density.activity as f64).min(until);
        past.source.move_to(at);
        // What a made-up server refuses at one moment is missing there, as it would be of a real one.
        let _ = past.look(at, density, at == until).await;
        if (at.0 / MICROS_PER_SECOND) % SECONDS_PER_DAY as i64 == 0 || at == until {
            // Of what is not kept as it was read, only sums would be left.
            past.write(store, at <= kept_since).await?;
        }
    }
    past.hand_over(store, until).await
}

struct Backfill {
    source: SimulatedSource,
    instance_id: i32,
    words: Words,
    counters: HashMap<Figures, Box<dyn Followed>>,
    counted: HashMap<Figures, Snapshot<(Metric, String), MeasureCounters>>,
    /// Statements told so far that may have a plan.
    texts: Vec<StatementText>,
    samples: Vec<ActivitySample>,
    measures: Vec<(Figures, Timestamp, Vec<Measure>)>,
    markers: Vec<Marker>,
    /// Entries of the log that are not written yet.
    log: Vec<LogEntry>,
    log_position: Option<LogPosition>,
    settings: Vec<Setting>,
    /// Settings that are not written yet, with when they were read.
    changed_settings: Vec<(Timestamp, Vec<Setting>)>,
    catalog: Option<Catalog>,
}

/// Readings of one kind of counters, one after the other, whichever kind it is.
#[async_trait]
trait Followed: Send + Sync {
    /// Takes the next reading; answers with what it shows to have happened.
    fn take(&mut self, read: CountersRead) -> Vec<Marker>;

    /// Writes what was taken since the last time.
    async fn write(&mut self, store: &Store, instance_id: i32, words: &mut Words, as_sums: bool) -> Result<()>;

    /// Leaves the last reading for whoever reads on: the next difference starts from it.
    async fn hand_over(&self, store: &Store, instance_id: i32, at: Timestamp) -> Result<()>;
}

/// A chain for each kind of counters.
fn all_followed() -> HashMap<Figures, Box<dyn Followed>> {
    let mut all: HashMap<Figures, Box<dyn Followed>> = HashMap::new();
    macro_rules! chains {
        ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {$(
            let chain: Follow<$counters> = Follow { last: None, taken: Vec::new() };
            all.insert(Figures::$kind, Box::new(chain));
        )+};
    }
    hurnix_core::all_counters!(chains);
    all
}

/// Readings of one kind, and the steps from one to the next that are not written yet.
struct Follow<C: Kind> {
    last: Option<Snapshot<C::Key, C>>,
    /// Each with the head of the reading that it leads to; or why nothing is known.
    taken: Vec<Taken<C>>,
}

type Taken<C> = (Snapshot<<C as Counters>::Key, ()>, std::result::Result<Difference<<C as Counters>::Key, C>, String>);

#[async_trait]
impl<C> Followed for Follow<C>
where
    C: Kind + Serialize,
    C::Key: Keyed<Object = C::Object> + Serialize,
{
    fn take(&mut self, read: CountersRead) -> Vec<Marker> {
        let Some(snapshot) = C::of(read) else { return Vec::new() };
        let step: Step<C> = Step::new(self.last.as_ref(), &snapshot, LONGEST_SECONDS);
        let markers = step.markers();
        let head = Snapshot {
            reset_at: snapshot.reset_at,
            ..Snapshot::new(snapshot.at, snapshot.server_started_at, Vec::new())
        };
        let outcome = match step.outcome {
            Some(outcome) => outcome.map_err(|none| none.to_string()),
            None => Err("first reading".to_owned()),
        };
        self.taken.push((head, outcome));
        self.last = Some(step.followed);
        markers
    }

    async fn write(&mut self, store: &Store, instance_id: i32, words: &mut Words, as_sums: bool) -> Result<()> {
        if let Some(last) = &self.last {
            words.learn_keys(store, instance_id, last.rows.iter().map(|(key, _)| key), last.at).await?;
            words.note_floods(store, instance_id, last.rows.iter().map(|(key, _)| key), last.at).await?;
        }
        let past: Vec<BackfilledSnapshot<C::Object, C>> = self
            .taken
            .drain(..)
            .map(|(head, outcome)| BackfilledSnapshot {
                taken_at: head.at,
                read_ms: 0.0,
                server_started_at: head.server_started_at,
                reset_at: head.reset_at,
                period: outcome.map(|difference| (difference.from, by_object(words, &difference))),
            })
            .collect();
        let (mut buckets, mut single) = (Vec::new(), Vec::new());
        for snapshot in past {
            match bucket_of(&snapshot).filter(|_| as_sums) {
                Some(bucket) => buckets.push(bucket),
                None => single.push(snapshot),
            }
        }
        if !buckets.is_empty() {
            store.write_buckets(instance_id, Detail::TenMinutes, &buckets).await?;
        }
        store.backfill_snapshots(instance_id, &single).await?;
        Ok(())
    }

    async fn hand_over(&self, store: &Store, instance_id: i32, at: Timestamp) -> Result<()> {
        // Nothing where the server was away at the end.
        let Some(last) = self.last.as_ref().filter(|last| at.seconds_since(last.at) < 1.0) else { return Ok(()) };
        // A moment later than its period, which is written already.
        let written: WrittenSnapshot<C::Object, C, _> = WrittenSnapshot {
            taken_at: at,
            read_ms: 0.0,
            server_started_at: last.server_started_at,
            reset_at: last.reset_at,
            period: Ok(Period { from: last.at, rows: &[] }),
            as_read: &Snapshot { at, ..last.clone() },
        };
        match store.write_snapshot(instance_id, &written).await {
            Ok(_) | Err(StoreProblem::Overtaken) => Ok(()),
            Err(problem) => Err(problem),
        }
    }
}

impl Backfill {
    /// Reads what is due at a moment; the last one reads everything.
    async fn look(&mut self, at: Timestamp, density: &Density, last: bool) -> std::result::Result<(), ReadProblem> {
        let second = at.0 / MICROS_PER_SECOND;
        let due = |every: i64| last || second % every == 0;
        self.samples.push(self.source.activity().await?);
        if due(density.counters) {
            for figures in Figures::of_shape(Shape::Counters) {
                let Some(reading) = self.source.counters(figures).await? else { continue };
                self.texts.extend(reading.texts);
                if let Some(chain) = self.counters.get_mut(&figures) {
                    self.markers.extend(chain.take(reading.counters));
                }
            }
            for figures in Figures::of_shape(Shape::Measures).filter(|figures| figures.rhythm() != Rhythm::Space) {
                self.measure(figures).await?;
            }
            if let Some(reading) = self.source.log(self.log_position.as_ref()).await? {
                self.log.extend(entries(reading.lines, Some(self.source.log_wording())));
                self.log_position = reading.position;
            }
        }
        if due(density.space) {
            for figures in Figures::of_shape(Shape::Measures).filter(|figures| figures.rhythm() == Rhythm::Space) {
                self.measure(figures).await?;
            }
            let catalog = self.source.catalog().await?;
            if let Some(earlier) = self.catalog.replace(catalog.clone()) {
                self.markers.extend(catalog_markers(&earlier, &catalog));
            }
            let settings = self.source.settings().await?;
            let changed = settings.iter().zip(&self.settings).filter(|(now, then)| now != then);
            let marker = |(now, then): (&Setting, &Setting)| {
                let (old, new) = (then.value.clone().unwrap_or_default(), now.value.clone().unwrap_or_default());
                Marker { at, kind: MarkerKind::Setting, text: format!("{}: {old} → {new}", now.name) }
            };
            let found: Vec<Marker> = changed.map(marker).collect();
            self.markers.extend(found);
            if settings != self.settings {
                self.changed_settings.push((at, settings.clone()));
            }
            self.settings = settings;
        }
        Ok(())
    }

    async fn measure(&mut self, figures: Figures) -> std::result::Result<(), ReadProblem> {
        let Some(reading) = self.source.measures(figures).await? else { return Ok(()) };
        let mut measures = reading.measures;
        let at = reading.counted.at;
        if let Some(last) = self.counted.get(&figures) {
            measures.extend(rates(last, &reading.counted, LONGEST_SECONDS));
        }
        self.counted.insert(figures, reading.counted);
        self.measures.push((figures, at, measures));
        Ok(())
    }

    /// Writes what was read since the last time, as it was read or as sums.
    async fn write(&mut self, store: &Store, as_sums: bool) -> Result<()> {
        let id = self.instance_id;
        let now = self.samples.last().map_or(Timestamp(0), |sample| sample.at);
        self.words.learn_statements(store, id, &self.texts, now).await?;
        self.write_plans(store, now).await?;
        for chain in self.counters.values_mut() {
            chain.write(store, id, &mut self.words, as_sums).await?;
        }

        let samples = std::mem::take(&mut self.samples);
        let sessions = samples.iter().flat_map(|sample| &sample.active);
        self.words.learn_sessions(store, id, sessions, now).await?;
        let row = |session| self.words.row(session);
        let rows: Vec<_> = samples
            .iter()
            .map(|sample| (sample.at, sample.sessions, sample.active.iter().map(row).collect()))
            .collect();
        if as_sums {
            store.write_load(id, Detail::TenMinutes, &loads(&rows)).await?;
        } else {
            store.backfill_activity(id, &rows).await?;
        }

        let measures = std::mem::take(&mut self.measures);
        for (_, at, measures) in &measures {
            self.words.learn_objects(store, id, measures, *at).await?;
        }
        let row = |measure: &Measure| MeasureRow {
            metric: measure.metric,
            object_id: self.words.object(measure),
            value: measure.value,
        };
        let past: Vec<BackfilledMeasures> = measures
            .iter()
            .map(|(figures, at, measures)| BackfilledMeasures {
                figures: *figures,
                at: *at,
                rows: measures.iter().map(row).collect(),
            })
            .collect();
        if as_sums {
            store.write_measure_buckets(id, Detail::TenMinutes, &summed(&past)).await?;
        } else {
            store.backfill_measures(id, &past).await?;
        }
        let log = std::mem::take(&mut self.log);
        self.words.learn_log(store, id, &log, now).await?;
        let rows: Vec<LogRow> = log.iter().map(|entry| self.words.log_row(entry)).collect();
        store.backfill_log(id, &rows).await?;
        for (at, settings) in self.changed_settings.drain(..) {
            let rows: Vec<_> = settings.iter().map(setting_row).collect();
            store.write_settings(id, at, &rows).await?;
        }
        store.add_markers(id, &std::mem::take(&mut self.markers)).await
    }

    /// Reads and writes plans of the statements told so far; those that have none are asked once.
    async fn write_plans(&mut self, store: &Store, now: Timestamp) -> Result<()> {
        let mut planned = Vec::new();
        for text in std::mem::take(&mut self.texts) {
            let Some(object) = self.words.statement(&text.key) else { continue };
            match self.source.plan(&text.text).await {
                Ok(plan) => {
                    store.write_plan(object.family_id, &plan_row(now, &plan, "")).await?;
                    if let Planned::Made { .. } = plan {
                        planned.push(text);
                    }
                }
                Err(_) => planned.push(text),
            }
        }
        self.texts = planned;
        Ok(())
    }

    /// Leaves everything for whoever reads on: last snapshots and catalog.
    async fn hand_over(self, store: &Store, until: Timestamp) -> Result<()> {
        let (id, at) = (self.instance_id, until.plus_seconds(1e-6));
        for chain in self.counters.values() {
            chain.hand_over(store, id, at).await?;
        }
        if let Some(catalog) = &self.catalog {
            store.write_catalog(id, catalog).await?;
        }
        if let Some(position) = &self.log_position {
            match store.write_log(id, &[], None, position).await {
                Ok(()) | Err(StoreProblem::Overtaken) => {}
                Err(problem) => return Err(problem),
            }
        }
        Ok(())
    }
}
