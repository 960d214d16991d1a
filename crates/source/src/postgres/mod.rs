//! PostgreSQL 13 and later.
//!
//! An account with `pg_monitor` is enough. Every statement sent carries the comment `/* hurnix */` behind its first
//! word, where every version keeps it, and every session the program name `hurnix`, so that Hurnix can leave itself
//! out of its own figures.

mod account_script;
mod act;
mod activity;
mod address;
mod advice;
mod catalog;
mod connect;
mod connect_time;
mod counters;
mod discover;
mod guard;
mod held_locks;
mod host;
mod host_processes;
mod inventory;
mod log;
mod measures;
mod missing;
mod operations;
mod plan;
mod processes;
mod progress;
mod quote;
mod remedy;
mod replication;
mod rights;
mod server;
mod settings;
mod statement_view;
mod statements;
mod tls;
mod version;
mod waits;

use async_trait::async_trait;
use hurnix_core::Timestamp;
use hurnix_core::readings::activity::ActivitySample;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::held_lock::HeldLocks;
use hurnix_core::readings::inventory::Inventory;
use hurnix_core::readings::operation::Operations;
use hurnix_core::readings::replication::Replication;
use hurnix_core::readings::server_log::{LogPosition, LogWording};
use hurnix_core::readings::server_process::ServerProcesses;
use sqlx::PgConnection;

use crate::{CountersReading, Limit, LogReading, MeasureReading, Planned, ReadProblem, Setting, Source};

pub use account_script::{AccountMayRead, account_script};
pub use act::{Order, Outcome, Progress, order};
pub use address::Address;
pub use advice::{Piece, index_statement, statement_to_run};
pub use discover::{DatabaseFound, ServerFound, databases, server_at};
pub use host::host_script;
pub use host_processes::host_processes_script;
pub use inventory::access_script;
pub use log::{PostgresWording, log_script, told};
pub use quote::quote;
pub use remedy::remedy_statement;
pub use server::Server;
pub use waits::wait_kind;

/// What Hurnix's sessions call themselves.
pub const PROGRAM: &str = "hurnix";

/// What Hurnix's statements carry.
const MARK: &str = "/* hurnix */";

/// A statement with the mark behind its first word.
fn marked(statement: &str) -> String {
    let (verb, rest) = statement.split_once(char::is_whitespace).unwrap_or((statement, ""));
    format!("{verb} {MARK} {rest}")
}

/// An open connection to a watched server, with what was found out about it.
#[derive(Debug)]
pub struct PostgresSource {
    connection: PgConnection,
    server: Server,
    /// What decided what may be read when it was last looked over.
    mark: String,
    statements: statements::Known,
    connecting: connect_time::Connecting,
}

impl From<sqlx::Error> for ReadProblem {
    fn from(error: sqlx::Error) -> Self {
        match error {
            // Class 57P: the server is going away; class HX: the relay has ended the connection.
            sqlx::Error::Database(refusal)
                if !refusal.code().is_some_and(|code| code.starts_with("57P") || code.starts_with("HX")) =>
            {
                ReadProblem::Refused(refusal.message().to_owned())
            }
            other => ReadProblem::Lost(other.to_string()),
        }
    }
}

impl PostgresSource {
    /// What was found out about the server when connecting.
    pub fn server(&self) -> &Server {
        &self.server
    }

    /// Closes the connection in order.
    pub async fn close(self) {
        // A connection that does not close in order is dropped, which closes it too.
        let _ = sqlx::Connection::close(self.connection).await;
    }
}

fn at(micros: i64) -> Timestamp {
    Timestamp(micros)
}

/// Each kind of figures is read in the file of its name.
#[async_trait]
impl Source for PostgresSource {
    fn version(&self) -> &str {
        &self.server.version
    }

    fn limits(&self) -> &[Limit] {
        &self.server.limits
    }

    async fn look_again(&mut self, anyhow: bool) -> Result<bool, ReadProblem> {
        self.look_again(anyhow).await
    }

    async fn now(&mut self) -> Result<Timestamp, ReadProblem> {
        self.read_now().await
    }

    async fn activity(&mut self) -> Result<ActivitySample, ReadProblem> {
        self.read_activity().await
    }

    async fn counters(&mut self, of: Figures) -> Result<Option<CountersReading>, ReadProblem> {
        self.read_counters(of).await
    }

    async fn measures(&mut self, of: Figures) -> Result<Option<MeasureReading>, ReadProblem> {
        self.read_measures(of).await
    }

    async fn catalog(&mut self) -> Result<Catalog, ReadProblem> {
        self.read_catalog().await
    }

    async fn inventory(&mut self) -> Result<Inventory, ReadProblem> {
        self.read_inventory().await
    }

    async fn settings(&mut self) -> Result<Vec<Setting>, ReadProblem> {
        self.read_settings().await
    }

    async fn plan(&mut self, statement: &str) -> Result<Planned, ReadProblem> {
        self.read_plan(statement).await
    }

    async fn held_locks(&mut self, search: &str, most: i64) -> Result<HeldLocks, ReadProblem> {
        self.read_held_locks(search, most).await
    }

    async fn operations(&mut self) -> Result<Operations, ReadProblem> {
        self.read_operations().await
    }

    async fn replication(&mut self) -> Result<Replication, ReadProblem> {
        self.read_replication_state().await
    }

    async fn processes(&mut self) -> Result<ServerProcesses, ReadProblem> {
        self.read_processes().await
    }

    fn log_wording(&self) -> &'static dyn LogWording {
        &PostgresWording
    }

    async fn log(&mut self, from: Option<&LogPosition>) -> Result<Option<LogReading>, ReadProblem> {
        self.read_log(from).await
    }
}
