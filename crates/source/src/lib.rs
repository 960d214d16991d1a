//! Reads a watched server into the types of `hurnix-core`, and does nothing else.
//!
//! One folder for each engine, behind one interface. What to do with the figures, and when to read
//! them, others decide.

mod obstacle;
mod reading;

/// Figures that come in files, of any engine.
pub mod bundle;

/// What a Linux kernel tells of its host.
pub mod proc;

/// Endpoints that tell of a host.
pub mod exporter;

/// PostgreSQL 13 and later, through its statistics views.
pub mod postgres;

/// Made-up servers, for the demo and for tests that need a known truth.
pub mod simulated;

use async_trait::async_trait;
use hurnix_core::Timestamp;
use hurnix_core::instance::engine::Engine;
use hurnix_core::readings::activity::ActivitySample;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters_read::Kept;
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::held_lock::HeldLocks;
use hurnix_core::readings::inventory::Inventory;
use hurnix_core::readings::operation::Operations;
use hurnix_core::readings::replication::Replication;
use hurnix_core::readings::server_log::{LogPosition, LogWording};
use hurnix_core::readings::server_process::ServerProcesses;

pub use obstacle::{ConnectProblem, Obstacle};
pub use reading::{CountersReading, Limit, LogReading, MeasureReading, PlanInLog, Planned, ReadProblem, Setting};

/// A server that is connected and can be read. All moments are by its own clock.
#[async_trait]
pub trait Source: Send {
    /// Version as the server writes it.
    fn version(&self) -> &str;

    /// Figures that it does not give, with the reason and the remedy.
    fn limits(&self) -> &[Limit];

    /// Looks whether other figures may be read than before, or looks the server over `anyhow`; says whether its
    /// limits are others now. Cheap where nothing has changed. What may not be read at all any more is an error.
    async fn look_again(&mut self, anyhow: bool) -> Result<bool, ReadProblem>;

    /// Its clock.
    async fn now(&mut self) -> Result<Timestamp, ReadProblem>;

    /// What every session that is not idle does right now, without Hurnix's own.
    async fn activity(&mut self) -> Result<ActivitySample, ReadProblem>;

    /// Counters of a kind, or nothing where the server does not keep them.
    async fn counters(&mut self, of: Figures) -> Result<Option<CountersReading>, ReadProblem>;

    /// Single figures of a kind, or nothing where they cannot be seen.
    async fn measures(&mut self, of: Figures) -> Result<Option<MeasureReading>, ReadProblem>;

    /// Tables, columns and indexes of the connected database.
    async fn catalog(&mut self) -> Result<Catalog, ReadProblem>;

    /// Databases, tablespaces, accounts, who may sign in from where, and files.
    async fn inventory(&mut self) -> Result<Inventory, ReadProblem>;

    /// All settings, but for those that Hurnix sets for its own session.
    async fn settings(&mut self) -> Result<Vec<Setting>, ReadProblem>;

    /// The plan that the server would make for a statement whatever its parameters are.
    async fn plan(&mut self, statement: &str) -> Result<Planned, ReadProblem>;

    /// Locks that are held or waited for, of things whose name contains a text, whatever its case; of all where it is
    /// empty. No more than `most` are told.
    async fn held_locks(&mut self, search: &str, most: i64) -> Result<HeldLocks, ReadProblem>;

    /// Long work that goes on, and what its own vacuum takes next.
    async fn operations(&mut self) -> Result<Operations, ReadProblem>;

    /// Whom it follows and who follows it, as it stands.
    async fn replication(&mut self) -> Result<Replication, ReadProblem>;

    /// Processes that serve no client, and what sessions still need of old row versions.
    async fn processes(&mut self) -> Result<ServerProcesses, ReadProblem>;

    /// Where its log may hold literals.
    fn log_wording(&self) -> &'static dyn LogWording;

    /// What it has written to its log since a position, or lately where there is none; nothing where its log
    /// cannot be read.
    async fn log(&mut self, from: Option<&LogPosition>) -> Result<Option<LogReading>, ReadProblem>;
}

/// How the log of servers of an engine is worded.
pub fn wording_of(engine: Engine) -> &'static dyn LogWording {
    match engine {
        // Simulated servers and bundles speak as PostgreSQL does.
        Engine::Postgres | Engine::Simulated | Engine::Bundle => &postgres::PostgresWording,
    }
}

/// Reading the counters of one kind as what they are.
#[async_trait]
pub trait ReadCounters {
    /// The counters, or nothing where the server does not keep them.
    async fn read<C: Kept>(&mut self) -> Result<Option<Snapshot<C::Key, C>>, ReadProblem>;
}

#[async_trait]
impl<S: Source + ?Sized> ReadCounters for S {
    async fn read<C: Kept>(&mut self) -> Result<Option<Snapshot<C::Key, C>>, ReadProblem> {
        Ok(self.counters(C::FIGURES).await?.and_then(|reading| C::of(reading.counters)))
    }
}
