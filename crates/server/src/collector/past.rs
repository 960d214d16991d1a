//! The past of a simulated server, lived through in fast time: it is read as any server is, its
//! differences are taken by the same rule, and what was read is written a day at a time.

use std::collections::HashMap;
use std::hash::Hash;

use hurnix_core::activity::ActivitySample;
use hurnix_core::catalog::Catalog;
use hurnix_core::counters::{
    CheckpointCounters, DatabaseCounters, IndexCounters, MeasureCounters, StatementCounters, TableCounters,
};
use hurnix_core::difference::{Difference, Snapshot, between, followed};
use hurnix_core::figures::Figures;
use hurnix_core::marker::{Marker, MarkerKind, catalog_markers};
use hurnix_core::metric::{Measure, Metric, rates};
use hurnix_core::server_log::{LogEntry, LogPosition, entries};
use hurnix_core::statement::{StatementKey, StatementText};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{At, time::MICROS_PER_SECOND};
use hurnix_source::simulated::{Model, SimulatedSource};
use hurnix_source::{MeasureReading, Plan, ReadProblem, Setting, Source};
use hurnix_store::{
    Kind, LogRow, MeasureRow, PastMeasures, PastSnapshot, Period, PeriodRow, Result, Store, StoreProblem,
    WrittenSnapshot,
};
use serde::Serialize;

use super::parcel::plan_row;
use super::readings::{by_family, by_number, markers};
use super::words::Words;
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
pub async fn live_through(store: &Store, instance_id: i32, model: Model, until: At) -> Result<()> {
    let mut at = model.began_at;
    let mut past = Past {
        source: SimulatedSource::stopped(model),
        instance_id,
        words: Words::new(false),
        statements: Follow::default(),
        tables: Follow::default(),
        indexes: Follow::default(),
        databases: Follow::default(),
        checkpoints: Follow::default(),
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
    while at < until {
        let density = if at < lately { &LONG_AGO } else { &LATELY };
        at = at.plus_seconds(density.activity as f64).min(until);
        past.source.move_to(at);
        // What a made-up server refuses at one moment is missing there, as it would be of a real one.
        let _ = past.look(at, density, at == until).await;
        if (at.0 / MICROS_PER_SECOND) % SECONDS_PER_DAY as i64 == 0 || at == until {
            past.write(store).await?;
        }
    }
    past.hand_over(store, until).await
}

struct Past {
    source: SimulatedSource,
    instance_id: i32,
    words: Words,
    statements: Follow<StatementKey, StatementCounters>,
    tables: Follow<u32, TableCounters>,
    indexes: Follow<u32, IndexCounters>,
    databases: Follow<u32, DatabaseCounters>,
    checkpoints: Follow<u32, CheckpointCounters>,
    counted: HashMap<Figures, Snapshot<(Metric, String), MeasureCounters>>,
    /// Statements told so far that may have a plan.
    texts: Vec<StatementText>,
    samples: Vec<ActivitySample>,
    measures: Vec<(Figures, At, Vec<Measure>)>,
    markers: Vec<Marker>,
    /// Entries of the log that are not written yet.
    log: Vec<LogEntry>,
    log_position: Option<LogPosition>,
    settings: Vec<Setting>,
    /// Settings that are not written yet, with when they were read.
    changed_settings: Vec<(At, Vec<Setting>)>,
    catalog: Option<Catalog>,
}

/// Snapshots of one kind, one after the other, and the differences not written yet.
struct Follow<K, C> {
    last: Option<Snapshot<K, C>>,
    /// Each with the head of the snapshot that it leads to; or why there is none.
    differences: Vec<(Snapshot<K, ()>, Outcome<K, C>)>,
}

type Outcome<K, C> = std::result::Result<Difference<K, C>, String>;

impl<K, C> Default for Follow<K, C> {
    fn default() -> Self {
        Follow { last: None, differences: Vec::new() }
    }
}

impl<K: Eq + Hash + Clone, C: Kind> Follow<K, C> {
    /// Takes the next snapshot; answers with what it shows to have happened.
    fn take(&mut self, snapshot: Snapshot<K, C>) -> Vec<Marker> {
        let difference = self.last.as_ref().map(|last| between(last, &snapshot, LONGEST_SECONDS));
        let found = match &difference {
            Some(Err(none)) => markers(&snapshot, none),
            _ => Vec::new(),
        };
        let snapshot = match self.last.as_ref() {
            Some(last) => followed(last, snapshot),
            None => snapshot,
        };
        let head = Snapshot {
            reset_at: snapshot.reset_at,
            ..Snapshot::new(snapshot.at, snapshot.server_started_at, Vec::new())
        };
        let outcome = match difference {
            Some(Ok(difference)) => Ok(difference),
            Some(Err(none)) => Err(none.to_string()),
            None => Err("first reading".to_owned()),
        };
        self.differences.push((head, outcome));
        self.last = Some(snapshot);
        found
    }

    /// Writes what was taken since the last time.
    async fn write(
        &mut self,
        store: &Store,
        instance_id: i32,
        rows_of: impl Fn(&Difference<K, C>) -> Vec<PeriodRow<C::Object, C>>,
    ) -> Result<()> {
        let past: Vec<PastSnapshot<C::Object, C>> = self
            .differences
            .drain(..)
            .map(|(head, outcome)| PastSnapshot {
                taken_at: head.at,
                read_ms: 0.0,
                server_started_at: head.server_started_at,
                reset_at: head.reset_at,
                period: outcome.map(|difference| (difference.from, rows_of(&difference))),
            })
            .collect();
        store.write_past(instance_id, &past).await?;
        Ok(())
    }

    /// Leaves the last snapshot for whoever reads on: the next difference starts from it.
    async fn hand_over(&self, store: &Store, instance_id: i32, at: At) -> Result<()>
    where
        K: Serialize,
        C: Serialize,
    {
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

impl Past {
    /// Reads what is due at a moment; the last one reads everything.
    async fn look(&mut self, at: At, density: &Density, last: bool) -> std::result::Result<(), ReadProblem> {
        let second = at.0 / MICROS_PER_SECOND;
        let due = |every: i64| last || second % every == 0;
        self.samples.push(self.source.activity().await?);
        if due(density.counters) {
            if let Some(reading) = self.source.statements().await? {
                self.texts.extend(reading.texts);
                self.markers.extend(self.statements.take(reading.snapshot));
            }
            self.markers.extend(self.databases.take(self.source.databases().await?));
            self.markers.extend(self.checkpoints.take(self.source.checkpoints().await?));
            self.markers.extend(self.tables.take(self.source.tables().await?));
            self.markers.extend(self.indexes.take(self.source.indexes().await?));
            let standing = self.source.standing().await?;
            self.measure(Figures::Standing, standing);
            let replication = self.source.replication().await?;
            self.measure(Figures::Replication, replication);
            if let Some(host) = self.source.host().await? {
                self.measure(Figures::Host, host);
            }
            if let Some(reading) = self.source.log(self.log_position.as_ref()).await? {
                self.log.extend(entries(reading.lines, true));
                self.log_position = reading.position;
            }
        }
        if due(density.space) {
            let space = self.source.space().await?;
            self.measure(Figures::Space, space);
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

    fn measure(&mut self, figures: Figures, reading: MeasureReading) {
        let mut measures = reading.measures;
        let at = reading.counted.at;
        if let Some(last) = self.counted.get(&figures) {
            measures.extend(rates(last, &reading.counted, LONGEST_SECONDS));
        }
        self.counted.insert(figures, reading.counted);
        self.measures.push((figures, at, measures));
    }

    /// Writes what was read since the last time.
    async fn write(&mut self, store: &Store) -> Result<()> {
        let id = self.instance_id;
        let now = self.samples.last().map_or(At(0), |sample| sample.at);
        self.words.learn_statements(store, id, &self.texts, now).await?;
        self.write_plans(store, now).await?;
        let words = &self.words;
        self.statements.write(store, id, |difference| by_family(words, difference)).await?;
        self.databases.write(store, id, by_number).await?;
        self.checkpoints.write(store, id, by_number).await?;
        self.tables.write(store, id, by_number).await?;
        self.indexes.write(store, id, by_number).await?;

        let samples = std::mem::take(&mut self.samples);
        let sessions = samples.iter().flat_map(|sample| &sample.active);
        self.words.learn_sessions(store, id, sessions, now).await?;
        let row = |session| self.words.row(session);
        let rows: Vec<_> = samples
            .iter()
            .map(|sample| (sample.at, sample.sessions, sample.active.iter().map(row).collect()))
            .collect();
        store.write_past_activity(id, &rows).await?;

        let measures = std::mem::take(&mut self.measures);
        for (_, at, measures) in &measures {
            self.words.learn_objects(store, id, measures, *at).await?;
        }
        let row = |measure: &Measure| MeasureRow {
            metric: measure.metric,
            object_id: self.words.object(measure),
            value: measure.value,
        };
        let past: Vec<PastMeasures> = measures
            .iter()
            .map(|(figures, at, measures)| PastMeasures {
                figures: *figures,
                at: *at,
                rows: measures.iter().map(row).collect(),
            })
            .collect();
        store.write_past_measures(id, &past).await?;
        let log = std::mem::take(&mut self.log);
        self.words.learn_log(store, id, &log, now).await?;
        let rows: Vec<LogRow> = log.iter().map(|entry| self.words.log_row(entry)).collect();
        store.write_past_log(id, &rows).await?;
        for (at, settings) in self.changed_settings.drain(..) {
            let rows: Vec<_> = settings.iter().map(setting_row).collect();
            store.write_settings(id, at, &rows).await?;
        }
        store.add_markers(id, &std::mem::take(&mut self.markers)).await
    }

    /// Reads and writes plans of the statements told so far; those that have none are asked once.
    async fn write_plans(&mut self, store: &Store, now: At) -> Result<()> {
        let mut planned = Vec::new();
        for text in std::mem::take(&mut self.texts) {
            let Some(object) = self.words.statement(&text.key) else { continue };
            match self.source.plan(&text.text).await {
                Ok(plan) => {
                    store.write_plan(object.family_id, &plan_row(now, &plan, "")).await?;
                    if let Plan::Text(_) = plan {
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
    async fn hand_over(self, store: &Store, until: At) -> Result<()> {
        let (id, at) = (self.instance_id, until.plus_seconds(1e-6));
        self.statements.hand_over(store, id, at).await?;
        self.databases.hand_over(store, id, at).await?;
        self.checkpoints.hand_over(store, id, at).await?;
        self.tables.hand_over(store, id, at).await?;
        self.indexes.hand_over(store, id, at).await?;
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
