//! Made-up servers that behave like real ones: busy and quiet hours, noise, and things that happen.
//!
//! Everything follows from a [`Model`] and its seed: the same model has counted the same at the same
//! moment, whoever asks and in whatever steps. Time is the clock's, or runs as fast as it is moved.

mod counted;
mod held_locks;
mod log;
mod model;
mod noise;
mod operations;
mod processes;
mod rates;
mod replication;
mod schema;
mod sessions;
mod shape;
mod standing;

use std::collections::HashSet;
use std::sync::Arc;
use std::time::{SystemTime, UNIX_EPOCH};

use async_trait::async_trait;
use hurnix_core::readings::activity::ActivitySample;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::counters_read::CountersRead;
use hurnix_core::readings::difference::{Evictions, Snapshot};
use hurnix_core::readings::figures::{Figures, Shape as FiguresShape};
use hurnix_core::readings::held_lock::HeldLocks;
use hurnix_core::readings::inventory::Inventory;
use hurnix_core::readings::operation::Operations;
use hurnix_core::readings::plan::identity;
use hurnix_core::readings::replication::Replication;
use hurnix_core::readings::server_log::{LogPosition, LogWording};
use hurnix_core::readings::server_process::ServerProcesses;
use hurnix_core::readings::statement::{StatementKey, StatementText};
use hurnix_core::{Named, Timestamp};

use crate::postgres::PostgresWording;
use crate::{
    ConnectProblem, CountersReading, Limit, LogReading, MeasureReading, Obstacle, Planned, ReadProblem, Setting, Source,
};
use counted::Server;
use schema::{database_oid, index_oid, table_oid};
use sessions::{is_text_of, query_id, text};
use shape::minute_of;
use standing::Measures;

pub use model::{
    Change, Connections, Cost, Event, FamilyModel, Happening, HoldUp, Host, How, IndexModel, Lag, Model, Stand,
    TableModel, Touch,
};
pub use noise::Noise;
pub use shape::{Burst, Shape};

/// A made-up server that can be read.
#[derive(Debug)]
pub struct SimulatedSource {
    server: Server,
    clock: Clock,
    /// Statements whose text was told already.
    told: HashSet<StatementKey>,
    accounts: Vec<String>,
    limits: Vec<Limit>,
}

/// What a model counts and measures.
const MODELLED: [Figures; 10] = [
    Figures::Statements,
    Figures::Databases,
    Figures::Checkpoints,
    Figures::Tables,
    Figures::Indexes,
    Figures::Standing,
    Figures::Replication,
    Figures::Space,
    Figures::Host,
    Figures::Processes,
];

/// What it does not.
fn limits() -> Vec<Limit> {
    let all = Figures::of_shape(FiguresShape::Counters).chain(Figures::of_shape(FiguresShape::Measures));
    let missing = all.filter(|figures| !MODELLED.contains(figures));
    let limit = |figures: Figures| Limit {
        figures: figures.name().into(),
        concerns: vec![figures],
        in_whole: true,
        by_version: false,
        reason: format!("A simulated server does not tell {}.", figures.tell()),
        remedy: "Look at an instance that is a real server.".into(),
    };
    missing.map(limit).collect()
}

/// What time it is there.
#[derive(Debug, Clone, Copy)]
enum Clock {
    /// The machine's.
    Machine,
    /// Whatever it was moved to.
    Moved(Timestamp),
}

impl SimulatedSource {
    /// Connects to the server that runs by the machine's clock.
    ///
    /// # Errors
    /// Where the server is away.
    pub async fn connect(model: Model) -> Result<SimulatedSource, ConnectProblem> {
        let mut source = SimulatedSource::new(model, Clock::Machine);
        let at = source.answer().map_err(|problem| ConnectProblem {
            obstacle: Obstacle::NotReady,
            message: format!("The server is not there: {problem}."),
            remedy: "Hurnix connects again by itself.".into(),
        })?;
        // Weeks of minutes are counted through here, which takes seconds: on a thread where nobody else waits.
        let counting = tokio::task::spawn_blocking(move || {
            source.server.counted(at);
            source
        });
        // A panic in there is one here.
        Ok(counting.await.unwrap_or_else(|ended| std::panic::resume_unwind(ended.into_panic())))
    }

    /// The server with its time stopped at the beginning, to be moved by [`Self::move_to`].
    pub fn stopped(model: Model) -> SimulatedSource {
        let began_at = model.began_at;
        SimulatedSource::new(model, Clock::Moved(began_at))
    }

    fn new(model: Model, clock: Clock) -> SimulatedSource {
        let mut accounts: Vec<String> = model.families.iter().map(|family| family.account.clone()).collect();
        accounts.sort();
        accounts.dedup();
        SimulatedSource {
            server: Server::new(Arc::new(model)),
            clock,
            told: HashSet::new(),
            accounts,
            limits: limits(),
        }
    }

    /// Lets time run to a moment, at once. Never back.
    pub fn move_to(&mut self, at: Timestamp) {
        if let Clock::Moved(now) = &mut self.clock {
            *now = (*now).max(at);
        }
    }

    /// The model behind it.
    pub fn model(&self) -> &Model {
        &self.server.model
    }

    fn clock(&self) -> Timestamp {
        match self.clock {
            Clock::Moved(at) => at,
            Clock::Machine => {
                let since = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
                Timestamp(since.as_micros() as i64)
            }
        }
    }

    /// What time it is, if the server is there to say so.
    fn answer(&self) -> Result<Timestamp, ReadProblem> {
        let at = self.clock();
        let away = self
            .model()
            .events
            .iter()
            .any(|event| matches!(event.what, Happening::Restart | Happening::Away) && event.goes_on(at));
        if away { Err(ReadProblem::Lost("the server closed the connection".into())) } else { Ok(at) }
    }

    /// When the server was last started.
    fn started_at(&self, at: Timestamp) -> Timestamp {
        let restarts = self.model().events.iter().filter(|event| event.what == Happening::Restart);
        let ended = restarts.filter_map(|event| event.until).filter(|until| *until <= at);
        ended.max().unwrap_or(self.model().began_at)
    }

    fn snapshot<K, C>(&self, at: Timestamp, rows: Vec<(K, C)>) -> Snapshot<K, C> {
        Snapshot::new(at, self.started_at(at), rows)
    }

    fn measured(&self, at: Timestamp, found: Measures) -> MeasureReading {
        MeasureReading { measures: found.measures, counted: self.snapshot(at, found.counted) }
    }

    fn statements(&mut self, at: Timestamp) -> CountersReading {
        let counted = self.server.counted(at);
        let since_reset = self.server.since_reset(&counted);
        let (mut rows, mut texts) = (Vec::new(), Vec::new());
        for (position, counters) in since_reset.iter().enumerate().filter(|(_, counters)| counters.calls > 0) {
            let variants = self.model().families[position].variants;
            for variant in 0..variants {
                let counters = of_variant(counters, variant, variants);
                if counters.calls == 0 {
                    continue;
                }
                let key = self.key(position, variant);
                if self.told.insert(key) {
                    let family = &self.model().families[position];
                    texts.push(StatementText {
                        key,
                        text: text(family, variant),
                        account: family.account.clone(),
                        database: self.model().databases[family.database].clone(),
                    });
                }
                rows.push((key, counters));
            }
        }
        let resets =
            self.model().events.iter().filter(|event| event.what == Happening::ResetStatements && event.at <= at);
        let reset_at = resets.map(|event| event.at).max().unwrap_or(self.model().began_at);
        let snapshot = Snapshot { reset_at: Some(reset_at), evictions: Evictions::Times(0), ..self.snapshot(at, rows) };
        CountersReading { counters: snapshot.into(), texts }
    }

    fn key(&self, family: usize, variant: u32) -> StatementKey {
        let of = &self.model().families[family];
        let account = self.accounts.iter().position(|account| *account == of.account).unwrap_or_default();
        StatementKey {
            database_oid: database_oid(of.database),
            account_oid: 10 + account as u32,
            query_id: query_id(self.model().seed, family, variant),
            top_level: true,
        }
    }
}

/// The part of what a family has counted that falls to one of its variants; all parts add up to the whole.
fn of_variant(counters: &StatementCounters, variant: u32, variants: u32) -> StatementCounters {
    let (variant, variants) = (i64::from(variant), i64::from(variants));
    if variants == 1 {
        return *counters;
    }
    let part = |value: &i64| value / variants + i64::from(value % variants > variant);
    StatementCounters::from_values(&counters.values().iter().map(part).collect::<Vec<_>>())
}

#[async_trait]
impl Source for SimulatedSource {
    fn version(&self) -> &str {
        &self.model().version
    }

    fn limits(&self) -> &[Limit] {
        &self.limits
    }

    async fn look_again(&mut self, _: bool) -> Result<bool, ReadProblem> {
        Ok(false)
    }

    async fn now(&mut self) -> Result<Timestamp, ReadProblem> {
        self.answer()
    }

    async fn activity(&mut self) -> Result<ActivitySample, ReadProblem> {
        Ok(self.server.activity(self.answer()?))
    }

    async fn counters(&mut self, of: Figures) -> Result<Option<CountersReading>, ReadProblem> {
        let at = self.answer()?;
        let counted = self.server.counted(at);
        let read: CountersRead = match of {
            Figures::Statements => return Ok(Some(self.statements(at))),
            Figures::Databases => {
                let rows = counted.databases.into_iter().enumerate();
                self.snapshot(at, rows.map(|(n, counters)| (database_oid(n), counters)).collect()).into()
            }
            Figures::Checkpoints => self.snapshot(at, vec![(0u32, counted.checkpoints)]).into(),
            Figures::Tables => {
                let rows = counted.tables.into_iter().enumerate();
                self.snapshot(at, rows.map(|(n, counters)| (table_oid(n), counters)).collect()).into()
            }
            Figures::Indexes => {
                let rows = counted.indexes.into_iter().enumerate().flat_map(|(table, indexes)| {
                    let there = self.server.indexes(table, at).len();
                    let named = |(n, counters)| (index_oid(table, n), counters);
                    indexes.into_iter().take(there).enumerate().map(named).collect::<Vec<_>>()
                });
                self.snapshot(at, rows.collect()).into()
            }
            _ => return Ok(None),
        };
        Ok(Some(read.into()))
    }

    async fn measures(&mut self, of: Figures) -> Result<Option<MeasureReading>, ReadProblem> {
        let at = self.answer()?;
        let counted = self.server.counted(at);
        let found = match of {
            Figures::Standing => self.server.standing(at),
            Figures::Replication => self.server.replication(at, &counted),
            Figures::Space => self.server.space(at),
            Figures::Host => self.server.host(at, &counted),
            Figures::Processes => self.server.server_cpu(at, &counted),
            _ => return Ok(None),
        };
        Ok(Some(self.measured(at, found)))
    }

    async fn catalog(&mut self) -> Result<Catalog, ReadProblem> {
        let at = self.answer()?;
        self.server.counted(at);
        Ok(self.server.catalog(at))
    }

    async fn inventory(&mut self) -> Result<Inventory, ReadProblem> {
        Ok(self.server.inventory(self.answer()?, &self.accounts))
    }

    async fn settings(&mut self) -> Result<Vec<Setting>, ReadProblem> {
        Ok(self.server.settings(self.answer()?))
    }

    async fn plan(&mut self, statement: &str) -> Result<Planned, ReadProblem> {
        let at = self.answer()?;
        let model = &self.server.model;
        let Some(position) = model.families.iter().position(|family| is_text_of(family, statement)) else {
            return Ok(Planned::Absent("The server does not know this statement.".into()));
        };
        let rate = self.server.changes.in_minute(model, minute_of(at)).of(position);
        Ok(match rate.plan {
            "" => Planned::Absent("The server plans no statement of this sort.".into()),
            plan => Planned::Made { text: plan.to_owned(), identity: identity(plan) },
        })
    }

    async fn held_locks(&mut self, search: &str, most: i64) -> Result<HeldLocks, ReadProblem> {
        Ok(self.server.held_locks(self.answer()?, search, most))
    }

    async fn operations(&mut self) -> Result<Operations, ReadProblem> {
        Ok(self.server.operations(self.answer()?))
    }

    async fn replication(&mut self) -> Result<Replication, ReadProblem> {
        let at = self.answer()?;
        Ok(Replication { started_at: self.started_at(at), ..self.server.replication_state(at) })
    }

    async fn processes(&mut self) -> Result<ServerProcesses, ReadProblem> {
        let at = self.answer()?;
        let started_at = self.started_at(at);
        Ok(self.server.processes(at, started_at))
    }

    fn log_wording(&self) -> &'static dyn LogWording {
        &PostgresWording
    }

    async fn log(&mut self, from: Option<&LogPosition>) -> Result<Option<LogReading>, ReadProblem> {
        let at = self.answer()?;
        Ok(Some(self.server.log(from, self.started_at(at), at)))
    }
}
