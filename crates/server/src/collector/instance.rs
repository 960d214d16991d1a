use std::collections::VecDeque;
use std::future::Future;
use std::time::{Duration, Instant};

use hurnix_core::Window;
use hurnix_core::activity::ActivitySample;
use hurnix_core::catalog::Catalog;
use hurnix_core::counters::{CheckpointCounters, DatabaseCounters, IndexCounters, StatementCounters, TableCounters};
use hurnix_core::marker::{Marker, MarkerKind, catalog_markers};
use hurnix_core::statement::StatementKey;
use hurnix_source::postgres::{Address, ConnectProblem, Obstacle, Plan, PostgresSource, ReadProblem, TlsMode};
use hurnix_store::{Instance, PlanRow, SettingRow};
use tokio::time::MissedTickBehavior;
use tokio_util::sync::CancellationToken;

use super::readings::Readings;
use super::words::Words;
use crate::events::News;
use crate::state::{App, now};

/// Waits between attempts to connect: doubled each time, up to the longest.
const FIRST_WAIT: Duration = Duration::from_secs(1);
const LONGEST_WAIT: Duration = Duration::from_secs(30);
/// A reading may take this long; the server's own limit ends most of them earlier.
const READ_LIMIT: Duration = Duration::from_secs(10);
/// Samples held in memory while the repository is away: ten minutes at one a second.
const MOST_SAMPLES: usize = 600;
/// Plans read at a time.
const PLANS_AT_A_TIME: i64 = 3;

/// Collects one instance until told to stop. Whatever goes wrong, it tries again.
pub async fn collect(app: App, instance: Instance, stop: CancellationToken) {
    let mut collection = Collection::new(app, instance);
    let mut wait = FIRST_WAIT;
    while !stop.is_cancelled() {
        let problem = tokio::select! {
            () = stop.cancelled() => None,
            problem = collection.connect_and_read(&mut wait) => Some(problem),
        };
        let Some(problem) = problem else { break };
        collection.note(&problem).await;
        // Spread out, so that many instances do not come back at the same moment.
        let spread = wait.mul_f64(0.75 + 0.5 * f64::from(crate::secrets::random::<1>()[0]) / 255.0);
        tokio::select! {
            () = stop.cancelled() => {}
            () = tokio::time::sleep(spread) => {}
        }
        wait = (wait * 2).min(LONGEST_WAIT);
    }
    collection.flush().await;
}

struct Collection {
    app: App,
    instance: Instance,
    words: Words,
    samples: VecDeque<ActivitySample>,
    written_at: Instant,
    statements: Readings<StatementKey, StatementCounters>,
    tables: Readings<u32, TableCounters>,
    indexes: Readings<u32, IndexCounters>,
    databases: Readings<u32, DatabaseCounters>,
    checkpoints: Readings<u32, CheckpointCounters>,
    catalog_due: Instant,
    catalog: Option<Catalog>,
    settings_due: Instant,
    plans_due: Instant,
}

impl Collection {
    fn new(app: App, instance: Instance) -> Self {
        let intervals = app.intervals.clone();
        let start = Instant::now();
        Collection {
            app,
            instance,
            words: Words::default(),
            samples: VecDeque::new(),
            written_at: start,
            statements: Readings::new(intervals.statements),
            tables: Readings::new(intervals.tables),
            indexes: Readings::new(intervals.tables),
            databases: Readings::new(intervals.databases),
            checkpoints: Readings::new(intervals.databases),
            catalog_due: start,
            catalog: None,
            settings_due: start,
            plans_due: start + intervals.statements * 2,
        }
    }

    /// Reads until something goes wrong, and answers what.
    async fn connect_and_read(&mut self, wait: &mut Duration) -> ConnectProblem {
        let address = match self.address() {
            Ok(address) => address,
            Err(problem) => return problem,
        };
        let mut source = match PostgresSource::connect(&address).await {
            Ok(source) => source,
            Err(problem) => return problem,
        };
        *wait = FIRST_WAIT;
        let server = source.server();
        tracing::info!(instance = %self.instance.label, version = %server.version, "collecting");
        let limits = serde_json::to_value(&server.limits).unwrap_or_default();
        let noted = self.app.store.note_connected(self.instance.instance_id, now(), &server.version, &limits).await;
        if let Err(error) = noted {
            tracing::warn!(instance = %self.instance.label, %error, "the state of collection could not be written");
        }
        self.app.events.tell(self.instance.instance_id, News::Collection);

        let mut ticks = tokio::time::interval(self.app.intervals.activity);
        ticks.set_missed_tick_behavior(MissedTickBehavior::Skip);
        loop {
            ticks.tick().await;
            match self.tick(&mut source).await {
                Ok(()) => {}
                // One reading refused, such as one that would have waited for a lock: the next may work.
                Err(ReadProblem::Refused(reason)) => {
                    tracing::warn!(instance = %self.instance.label, reason, "the server refused a reading");
                }
                Err(problem) => {
                    return ConnectProblem {
                        obstacle: match problem {
                            ReadProblem::TimedOut(_) => Obstacle::TimedOut,
                            _ => Obstacle::NotReady,
                        },
                        message: format!("Reading was interrupted: {problem}."),
                        remedy: "Hurnix connects again by itself.".into(),
                    };
                }
            }
        }
    }

    fn address(&self) -> Result<Address, ConnectProblem> {
        let instance = &self.instance;
        let password = self.app.sealer.unseal(&instance.secret_sealed).map_err(|error| ConnectProblem {
            obstacle: Obstacle::WrongPassword,
            message: "The stored password cannot be opened.".into(),
            remedy: error.to_string(),
        })?;
        Ok(Address {
            host: instance.host.clone(),
            port: instance.port as u16,
            database: instance.database_name.clone(),
            account: instance.account_name.clone(),
            password,
            tls: serde_json::from_value(instance.tls_mode.clone().into()).unwrap_or(TlsMode::Prefer),
        })
    }

    /// One look at the sessions, and whatever else is due.
    async fn tick(&mut self, source: &mut PostgresSource) -> Result<(), ReadProblem> {
        let sample = limited(source.activity()).await?;
        if self.samples.len() == MOST_SAMPLES {
            self.samples.pop_front();
            tracing::warn!(instance = %self.instance.label, "a sample was dropped: the repository is away for too long");
        }
        self.samples.push_back(sample);
        if self.written_at.elapsed() >= self.app.intervals.activity_write {
            self.flush().await;
        }
        self.read_counters(source).await?;
        self.read_catalog(source).await?;
        self.read_settings(source).await?;
        self.read_plans(source).await
    }

    /// Writes the samples held. Those that cannot be written are kept for the next time.
    async fn flush(&mut self) {
        self.written_at = Instant::now();
        let Some(newest) = self.samples.back().map(|sample| sample.at) else { return };
        let (store, instance_id) = (&self.app.store, self.instance.instance_id);
        let sessions = self.samples.iter().flat_map(|sample| &sample.active);
        let written = async {
            self.words.learn_sessions(store, instance_id, sessions, newest).await?;
            let rows: Vec<_> = self
                .samples
                .iter()
                .map(|sample| {
                    (sample.at, sample.sessions, sample.active.iter().map(|session| self.words.row(session)).collect())
                })
                .collect();
            store.write_activity(instance_id, &rows).await
        };
        match written.await {
            Ok(()) => {
                self.samples.clear();
                self.app.events.tell(instance_id, News::Activity);
            }
            Err(error) => tracing::warn!(instance = %self.instance.label, %error, "activity could not be written yet"),
        }
    }

    async fn read_counters(&mut self, source: &mut PostgresSource) -> Result<(), ReadProblem> {
        let store = self.app.store.clone();
        let instance_id = self.instance.instance_id;
        if self.statements.is_due() {
            let start = Instant::now();
            if let Some(reading) = limited(source.statements()).await? {
                let took = start.elapsed();
                let written = async {
                    self.words.learn_statements(&store, instance_id, &reading.texts, reading.snapshot.at).await?;
                    self.statements.write_statements(&store, instance_id, &self.words, reading.snapshot, took).await
                };
                let written = written.await;
                self.mark(written).await;
                self.app.events.tell(instance_id, News::Statements);
            }
        }
        macro_rules! read {
            ($field:ident) => {
                if self.$field.is_due() {
                    let start = Instant::now();
                    let snapshot = limited(source.$field()).await?;
                    let written = self.$field.write(&store, instance_id, snapshot, start.elapsed()).await;
                    self.mark(written).await;
                }
            };
        }
        read!(databases);
        read!(checkpoints);
        read!(tables);
        read!(indexes);
        Ok(())
    }

    async fn read_catalog(&mut self, source: &mut PostgresSource) -> Result<(), ReadProblem> {
        if Instant::now() < self.catalog_due {
            return Ok(());
        }
        self.catalog_due = Instant::now() + self.app.intervals.catalog;
        let catalog = limited(source.catalog()).await?;
        let (store, instance_id) = (self.app.store.clone(), self.instance.instance_id);
        let written = async {
            if self.catalog.is_none() {
                self.catalog = store.catalog(instance_id).await?;
            }
            store.write_catalog(instance_id, &catalog).await?;
            Ok(self.catalog.as_ref().map_or_else(Vec::new, |earlier| catalog_markers(earlier, &catalog)))
        };
        let written = written.await;
        if self.mark(written).await {
            self.catalog = Some(catalog);
        }
        Ok(())
    }

    async fn read_settings(&mut self, source: &mut PostgresSource) -> Result<(), ReadProblem> {
        if Instant::now() < self.settings_due {
            return Ok(());
        }
        self.settings_due = Instant::now() + self.app.intervals.settings;
        let settings: Vec<SettingRow> = limited(source.settings())
            .await?
            .into_iter()
            .map(|setting| SettingRow {
                name: setting.name,
                value: setting.value,
                unit: setting.unit,
                source: setting.source,
                pending_restart: setting.pending_restart,
            })
            .collect();
        let at = limited(source.now()).await?;
        let written = self.app.store.write_settings(self.instance.instance_id, at, &settings).await.map(|changed| {
            changed
                .into_iter()
                .map(|(name, old, new)| {
                    let (old, new) = (old.unwrap_or_default(), new.unwrap_or_default());
                    Marker { at, kind: MarkerKind::Setting, text: format!("{name}: {old} → {new}") }
                })
                .collect()
        });
        self.mark(written).await;
        Ok(())
    }

    async fn read_plans(&mut self, source: &mut PostgresSource) -> Result<(), ReadProblem> {
        if Instant::now() < self.plans_due {
            return Ok(());
        }
        let interval = self.app.intervals.plans;
        self.plans_due = Instant::now() + interval;
        let at = limited(source.now()).await?;
        let recent = Window { from: at.plus_seconds(-6.0 * interval.as_secs_f64()), to: at };
        let stale_before = at.plus_seconds(-12.0 * interval.as_secs_f64());
        let wanted = self
            .app
            .store
            .families_without_plan(self.instance.instance_id, recent, stale_before, PLANS_AT_A_TIME)
            .await;
        for (family_id, sample) in wanted.unwrap_or_else(|error| {
            tracing::warn!(instance = %self.instance.label, %error, "statements without plan could not be listed");
            Vec::new()
        }) {
            let plan = match limited(source.plan(&sample)).await? {
                Plan::Text(text) => Ok(text),
                Plan::Absent(reason) => Err(reason),
            };
            if let Err(error) = self.app.store.write_plan(family_id, &PlanRow { read_at: at, plan }).await {
                tracing::warn!(instance = %self.instance.label, %error, "a plan could not be written");
            }
        }
        Ok(())
    }

    /// Keeps what a reading shows to have happened; says whether the reading was written.
    async fn mark(&self, written: hurnix_store::Result<Vec<Marker>>) -> bool {
        let kept = match written {
            Ok(markers) => self.app.store.add_markers(self.instance.instance_id, &markers).await,
            Err(error) => Err(error),
        };
        if let Err(error) = &kept {
            tracing::warn!(instance = %self.instance.label, %error, "a reading could not be written");
        }
        kept.is_ok()
    }

    async fn note(&self, problem: &ConnectProblem) {
        tracing::warn!(instance = %self.instance.label, %problem, "not collecting");
        let value = serde_json::to_value(problem).unwrap_or_default();
        if let Err(error) = self.app.store.note_failing(self.instance.instance_id, now(), &value).await {
            tracing::warn!(instance = %self.instance.label, %error, "the state of collection could not be written");
        }
        self.app.events.tell(self.instance.instance_id, News::Collection);
    }
}

async fn limited<T>(reading: impl Future<Output = Result<T, ReadProblem>>) -> Result<T, ReadProblem> {
    tokio::time::timeout(READ_LIMIT, reading).await.unwrap_or(Err(ReadProblem::TimedOut(READ_LIMIT.as_secs_f64())))
}
