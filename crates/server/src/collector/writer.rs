use std::collections::HashMap;
use std::sync::Arc;
use std::time::{Duration, Instant};

use hurnix_core::findings::index_watch::{IndexWatch, follow};
use hurnix_core::instance::engine::Engine;
use hurnix_core::instance::marker::{Marker, MarkerKind, catalog_markers, for_the_others, server_marker};
use hurnix_core::readings::activity::ActivitySample;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters::{IndexCounters, MeasureCounters};
use hurnix_core::readings::counters_read::CountersRead;
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::readings::figures::{Figures, Tally};
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::metric::{Measure, Metric};
use hurnix_core::readings::server_log::LogPosition;
use hurnix_core::{Named, Timestamp, Window};
use hurnix_source::{CountersReading, MeasureReading, Setting};
use hurnix_store::{Instance, LogRow, LoggedPlanRow, MeasureRow, Result, SettingRow, StoreProblem};
use tokio_util::sync::CancellationToken;

use super::named_reading;
use super::queued_write::{LogToWrite, QueuedWrite};
use super::readings::AllReadings;
use super::words::Words;
use super::write_queue::{Held, WriteQueue};
use crate::events::News;
use crate::family::family_of;
use crate::options::Intervals;
use crate::state::{App, now};

/// Waits between attempts to write while the repository is away: doubled each time, up to the longest.
const FIRST_WAIT: Duration = Duration::from_millis(500);
const LONGEST_WAIT: Duration = Duration::from_secs(15);
/// When told to stop, it goes on writing what was read for this long at most.
const LAST_WRITES: Duration = Duration::from_secs(5);
/// What is read within so many seconds after a snapshot was asked for belongs to it.
const NAMED_SECONDS: f64 = 120.0;
/// Plans read at a time.
const PLANS_AT_A_TIME: i64 = 3;

/// Writes what one instance's reader has read, in the order in which it was read.
pub struct Writer {
    app: App,
    instance: Instance,
    queue: Arc<WriteQueue>,
    samples_due: Instant,
    words: Words,
    readings: AllReadings,
    counted: HashMap<Figures, Snapshot<(Metric, String), MeasureCounters>>,
    /// How far the server's log was read, as last written.
    log_position: Option<LogPosition>,
    /// `primary` or `replica`, as last seen.
    part: Option<&'static str>,
    /// By database.
    catalogs: HashMap<String, Catalog>,
    /// Since when indexes are watched, as last written.
    index_watch: Option<HashMap<u32, IndexWatch>>,
    intervals: Intervals,
}

impl Writer {
    /// Nothing written yet.
    pub fn new(app: App, instance: Instance, queue: Arc<WriteQueue>) -> Writer {
        let intervals = app.intervals_of(&instance);
        Writer {
            samples_due: Instant::now() + intervals.activity_write,
            log_position: instance.log_position.clone(),
            words: Words::new(instance.settings.keeps_literals),
            app,
            instance,
            queue,
            readings: AllReadings::new(|figures| intervals.longest_period(figures)),
            counted: HashMap::new(),
            part: None,
            catalogs: HashMap::new(),
            index_watch: None,
            intervals,
        }
    }

    /// Writes until told to stop, and then what is left.
    pub async fn run(mut self, stop: CancellationToken) {
        loop {
            let held = tokio::select! {
                () = stop.cancelled() => break,
                held = self.queue.next(self.samples_due) => held,
            };
            let mut wait = FIRST_WAIT;
            while self.write_held(&held).await.is_retried() {
                tokio::select! {
                    () = stop.cancelled() => break,
                    () = tokio::time::sleep(wait) => {}
                }
                wait = (wait * 2).min(LONGEST_WAIT);
            }
        }
        let last = async {
            while let Some(held) = self.queue.try_next(true) {
                if self.write_held(&held).await.is_retried() {
                    break;
                }
            }
            self.write_tallies().await;
        };
        if tokio::time::timeout(LAST_WRITES, last).await.is_err() {
            tracing::warn!(instance = %self.instance.label, "the repository took too long: what was read last is lost");
        }
    }

    async fn write_held(&mut self, held: &Held) -> Outcome {
        let figures = held.queued.figures();
        let what = figures.map_or("state", Figures::name);
        match self.write(&held.queued).await {
            Ok(markers) => {
                if let Err(problem) = self.add_markers(&markers).await {
                    tracing::warn!(instance = %self.instance.label, %problem, "markers could not be written");
                }
                self.tell(&held.queued);
                if let QueuedWrite::Activity(_) = held.queued {
                    self.samples_due = Instant::now() + self.intervals.activity_write;
                    self.write_tallies().await;
                }
                if let QueuedWrite::Counters(reading, _) = &held.queued
                    && figures == Some(Figures::Statements)
                {
                    self.want_plans(reading.counters.at()).await;
                }
                Outcome::Done
            }
            Err(problem) if problem.is_passing() => {
                tracing::warn!(instance = %self.instance.label, figures = what, %problem, "not written yet");
                Outcome::Retry
            }
            // The other process has written what this one would have.
            Err(StoreProblem::Overtaken) => Outcome::Done,
            Err(problem) => {
                tracing::error!(instance = %self.instance.label, figures = what, %problem, "a reading is lost");
                if let Some(figures) = figures {
                    self.queue.tally(figures, Tally { dropped: 1, ..Tally::default() });
                }
                Outcome::Done
            }
        }
    }

    fn tell(&self, queued: &QueuedWrite) {
        let news = match queued {
            QueuedWrite::Activity(_) => News::Activity,
            QueuedWrite::Counters(reading, _) if reading.counters.figures() == Figures::Statements => News::Statements,
            QueuedWrite::Plan(..) => News::Statements,
            QueuedWrite::Counters(..) | QueuedWrite::Measures(..) => News::Figures,
            QueuedWrite::Catalog(_) | QueuedWrite::Inventory(_) | QueuedWrite::Settings(..) => News::Contents,
            QueuedWrite::Log(log) if log.entries.is_empty() => return,
            QueuedWrite::Log(..) => News::Log,
            QueuedWrite::Connected { .. } | QueuedWrite::Failing { .. } => News::Collection,
        };
        self.app.events.tell(self.instance.instance_id, news);
    }

    /// Writes one queued; answers with what it shows to have happened.
    async fn write(&mut self, queued: &QueuedWrite) -> Result<Vec<Marker>> {
        let (app, id) = (self.app.clone(), self.instance.instance_id);
        let store = &app.store;
        match queued {
            QueuedWrite::Activity(samples) => self.write_activity(samples).await.map(|()| Vec::new()),
            QueuedWrite::Counters(CountersReading { counters, texts }, took) => {
                self.words.learn_statements(store, id, texts, counters.at()).await?;
                if let CountersRead::Indexes(snapshot) = counters {
                    self.watch_indexes(snapshot).await?;
                }
                let markers = self.readings.write(store, id, &mut self.words, counters, *took).await?;
                self.keep_named(counters).await?;
                Ok(markers)
            }
            QueuedWrite::Catalog(catalog) => self.write_catalog(catalog).await,
            QueuedWrite::Inventory(inventory) => store.write_inventory(id, inventory).await.map(|()| Vec::new()),
            QueuedWrite::Settings(at, settings) => self.write_settings(*at, settings).await,
            QueuedWrite::Plan(family_id, plan) => store.write_plan(*family_id, plan).await.map(|_| Vec::new()),
            QueuedWrite::Measures(figures, reading) => self.write_measures(*figures, reading).await,
            QueuedWrite::Log(log) => self.write_log(log).await.map(|()| Vec::new()),
            QueuedWrite::Connected { at, version, limits } => {
                let limits = serde_json::to_value(limits).unwrap_or_default();
                let before = store.instance(id).await?.and_then(|instance| instance.server_version);
                store.note_connected(id, *at, version, &limits).await?;
                Ok(server_marker(MarkerKind::Version, *at, before.as_deref(), version).into_iter().collect())
            }
            QueuedWrite::Failing { at, problem } => {
                let problem = serde_json::to_value(problem).unwrap_or_default();
                store.note_failing(id, *at, &problem).await.map(|()| Vec::new())
            }
        }
    }

    /// Keeps what was read with the snapshots of a name that wait for it.
    async fn keep_named(&self, read: &CountersRead) -> Result<()> {
        let (store, id, figures) = (&self.app.store, self.instance.instance_id, read.figures());
        let Some(asked_at) =
            self.instance.snapshot_asked_at.filter(|asked| now().seconds_since(*asked) < NAMED_SECONDS)
        else {
            return Ok(());
        };
        let waiting = store.snapshots_waiting(id, figures, asked_at.plus_seconds(-NAMED_SECONDS)).await?;
        if waiting.is_empty() {
            return Ok(());
        }
        let reading = named_reading::written(store, id, &self.words, read).await?;
        for snapshot in waiting {
            store.write_named_reading(snapshot, figures, read.at(), &reading).await?;
        }
        Ok(())
    }

    async fn write_activity(&mut self, samples: &[ActivitySample]) -> Result<()> {
        let (store, id) = (&self.app.store, self.instance.instance_id);
        let Some(newest) = samples.last().map(|sample| sample.at) else { return Ok(()) };
        let sessions = samples.iter().flat_map(|sample| &sample.active);
        self.words.learn_sessions(store, id, sessions, newest).await?;
        let row = |session| self.words.row(session);
        let rows: Vec<_> = samples
            .iter()
            .map(|sample| (sample.at, sample.sessions, sample.active.iter().map(row).collect()))
            .collect();
        store.write_activity(id, &rows).await?;
        Ok(())
    }

    /// Notes since when each index was seen and not read. Before the reading itself is written: what is noted twice
    /// is noted alike.
    async fn watch_indexes(&mut self, snapshot: &Snapshot<u32, IndexCounters>) -> Result<()> {
        let (app, id) = (self.app.clone(), self.instance.instance_id);
        let before = match self.index_watch.take() {
            Some(before) => before,
            None => app.store.index_watch(id).await?,
        };
        let earlier = self.readings.last::<IndexCounters>(&app.store, id).await?;
        let now = follow(&before, earlier.as_ref(), snapshot);
        let changed = now.iter().filter(|(oid, watch)| before.get(oid) != Some(watch));
        let changed: Vec<_> = changed.map(|(oid, watch)| (*oid, *watch)).collect();
        let written = app.store.write_index_watch(id, &changed, now.keys().copied()).await;
        self.index_watch = Some(if written.is_ok() { now } else { before });
        written
    }

    /// Single figures as they are, and those that are counted up as rates since the last reading.
    async fn write_measures(&mut self, figures: Figures, reading: &MeasureReading) -> Result<Vec<Marker>> {
        let (store, id) = (&self.app.store, self.instance.instance_id);
        let mut measures = reading.measures.clone();
        if let Some(last) = self.counted.get(&figures) {
            measures.extend(rates(last, &reading.counted, self.intervals.longest_period(figures)));
        }
        self.words.learn_objects(store, id, &measures, reading.counted.at).await?;
        let row = |measure: &Measure| MeasureRow {
            metric: measure.metric,
            object_id: self.words.object(measure),
            value: measure.value,
        };
        let rows: Vec<MeasureRow> = measures.iter().map(row).collect();
        let part = measures
            .iter()
            .find(|measure| measure.metric == Metric::Recovering)
            .map(|measure| part_of(measure.value > 0.0));
        if part.is_some() && self.part.is_none() {
            // It may have changed while nobody looked.
            self.part = store.is_replica(id, reading.counted.at).await?.map(part_of);
        }
        store.write_measures(id, figures, reading.counted.at, &rows).await?;
        self.counted.insert(figures, reading.counted.clone());
        let Some(now) = part else { return Ok(Vec::new()) };
        let then = self.part.replace(now);
        Ok(server_marker(MarkerKind::Failover, reading.counted.at, then, now).into_iter().collect())
    }

    /// Keeps markers of the server, and those that concern others of its system with them.
    async fn add_markers(&self, markers: &[Marker]) -> Result<()> {
        let store = &self.app.store;
        store.add_markers(self.instance.instance_id, markers).await?;
        let told: Vec<Marker> =
            markers.iter().filter_map(|marker| for_the_others(marker, &self.instance.label)).collect();
        if told.is_empty() {
            return Ok(());
        }
        for other in family_of(&self.app, &self.instance).await? {
            store.add_markers(other.instance_id, &told).await?;
        }
        Ok(())
    }

    /// Entries of the server's log and plans in it, with how far it is read by that.
    async fn write_log(&mut self, log: &LogToWrite) -> Result<()> {
        let LogToWrite { entries, plans, position } = log;
        let (store, id) = (&self.app.store, self.instance.instance_id);
        self.words.learn_log(store, id, entries, now()).await?;
        let rows: Vec<LogRow> = entries.iter().map(|entry| self.words.log_row(entry)).collect();
        let written = store.write_log(id, &rows, self.log_position.as_ref(), position).await;
        if let Err(StoreProblem::Overtaken) = written {
            // Where it stands now; what the other process has read it has written, too.
            self.log_position = store.instance(id).await?.and_then(|instance| instance.log_position);
        } else if written.is_ok() {
            self.log_position = Some(position.clone());
            // Once the position is kept: otherwise another process has read them, too. They are written once or never, so
            // that no execution counts twice.
            if let Err(problem) = self.write_logged_plans(plans).await {
                tracing::warn!(instance = %self.instance.label, %problem, "plans of the log could not be written");
            }
        }
        written
    }

    async fn write_logged_plans(&mut self, plans: &[(String, LoggedPlanRow)]) -> Result<()> {
        let (store, id) = (&self.app.store, self.instance.instance_id);
        let plans = self.words.plans_by_family(store, id, plans, now()).await?;
        store.write_logged_plans(&plans).await
    }

    async fn write_catalog(&mut self, catalog: &Catalog) -> Result<Vec<Marker>> {
        let (store, id) = (&self.app.store, self.instance.instance_id);
        if self.catalogs.is_empty() {
            let read =
                [vec![self.instance.database_name.clone()], self.instance.settings.more_databases.clone()].concat();
            store.forget_catalogs(id, &read).await?;
            let kept = store.catalogs(id).await?;
            self.catalogs = kept.into_iter().map(|catalog| (catalog.database.clone(), catalog)).collect();
        }
        store.write_catalog(id, catalog).await?;
        let earlier = self.catalogs.insert(catalog.database.clone(), catalog.clone());
        let mut markers = earlier.map_or_else(Vec::new, |earlier| catalog_markers(&earlier, catalog));
        if catalog.database != self.instance.database_name && self.instance.engine == Engine::Postgres {
            markers.iter_mut().for_each(|marker| marker.text = format!("{}: {}", catalog.database, marker.text));
        }
        Ok(markers)
    }

    async fn write_settings(&mut self, at: Timestamp, settings: &[Setting]) -> Result<Vec<Marker>> {
        let rows: Vec<SettingRow> = settings.iter().map(setting_row).collect();
        let changed = self.app.store.write_settings(self.instance.instance_id, at, &rows).await?;
        let marker = |(name, old, new): (String, Option<String>, Option<String>)| {
            let (old, new) = (old.unwrap_or_default(), new.unwrap_or_default());
            Marker { at, kind: MarkerKind::Setting, text: format!("{name}: {old} → {new}") }
        };
        Ok(changed.into_iter().map(marker).collect())
    }

    /// Says which of the statements that cost most lately have no plan, or an old one.
    async fn want_plans(&self, at: Timestamp) {
        let interval = self.intervals.plans.as_secs_f64();
        let recent = Window { from: at.plus_seconds(-6.0 * interval), to: at };
        let stale_before = at.plus_seconds(-12.0 * interval);
        let id = self.instance.instance_id;
        match self.app.store.families_without_plan(id, recent, stale_before, PLANS_AT_A_TIME).await {
            Ok(wanted) => self.queue.want_plans(wanted),
            Err(problem) => {
                tracing::warn!(instance = %self.instance.label, %problem, "statements without plan could not be listed");
            }
        }
    }

    /// Writes how reading went. What cannot be written now is added to the next time.
    async fn write_tallies(&mut self) {
        let (store, id) = (&self.app.store, self.instance.instance_id);
        let tallies = self.queue.take_tallies();
        if !tallies.is_empty()
            && let Err(problem) = store.add_tallies(id, now(), &tallies).await
        {
            tracing::warn!(instance = %self.instance.label, %problem, "tallies could not be written yet");
            self.queue.give_back_tallies(tallies);
        }
        if let Some((cost, stretch)) = self.queue.take_pace()
            && let Err(problem) = store.note_pace(id, cost, stretch).await
        {
            tracing::warn!(instance = %self.instance.label, %problem, "the pace of reading could not be written");
        }
    }
}

/// Which part a server has among its replicas.
fn part_of(is_replica: bool) -> &'static str {
    if is_replica { "replica" } else { "primary" }
}

/// A setting as the repository keeps it.
pub fn setting_row(setting: &Setting) -> SettingRow {
    SettingRow {
        name: setting.name.clone(),
        value: setting.value.clone(),
        unit: setting.unit.clone(),
        source: setting.source.clone(),
        pending_restart: setting.pending_restart,
    }
}

/// What came of an attempt to write.
#[derive(PartialEq)]
enum Outcome {
    Done,
    Retry,
}

impl Outcome {
    fn is_retried(&self) -> bool {
        *self == Outcome::Retry
    }
}
