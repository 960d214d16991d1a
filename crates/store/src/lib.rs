//! The repository: everything Hurnix keeps, in PostgreSQL.
//!
//! The only crate with SQL on the repository. It holds no rule: it writes what the collector read,
//! sums and sorts, and hands the figures to `hurnix-core`. All lists are sorted, filtered and paged in
//! SQL. What belongs to one snapshot is written in one transaction.

mod care;
mod findings;
mod people;
mod repository_state;
mod series;
mod views;

use std::pin::Pin;
use std::time::Duration;

use chrono::{DateTime, Utc};
use hurnix_core::keeping::retention::Retention;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::postgres::{PgPoolOptions, PgRow};
use sqlx::{Connection, Executor, PgConnection, Pool, Postgres, Row};

use crate::repository_state::STEPS;

pub use care::catalog::{SettingChange, SettingRow};
pub use care::glance::{GLANCE_CELL_SECONDS, SeenLoad};
pub use care::instances::{Instance, NewInstance};
pub use care::kept_reports::{KeptReport, KeptReportFilter, KeptReportOrder, NewKeptReport};
pub use care::leases::Leases;
pub use care::logged_plans::LoggedPlanRow;
pub use care::maintenance_windows::{MaintenanceWindow, WindowFor};
pub use care::markers::MarkerRow;
pub use care::named_snapshots::NamedSnapshot;
pub use care::own_state::{OwnState, SILENT_SECONDS};
pub use care::plans::{PlanRow, PlanUse};
pub use care::report_schedules::ReportSchedule;
pub use care::search::{FoundKind, FoundRow};
pub use findings::advice::{AdviceDraft, AdviceFilter, AdviceRow, EffectRecord};
pub use findings::alarms::{AlarmFilter, AlarmRow};
pub use findings::changes::{ChangeAnswer, ChangeRow};
pub use findings::literal_floods::LiteralFloodRow;
pub use people::accounts::{Account, NewAccount};
pub use people::actions::{ActionOrder, ActionRow, NewAction};
pub use people::audit::{AuditEntry, AuditFilter, AuditOrder, AuditRow};
pub use people::credentials::Credential;
pub use people::sessions::{Caller, Means, NewSession, SessionRow, TokenRow};
pub use repository_state::RepositoryState;
pub use series::activity::{ActivityRow, Breakdown, BreakdownRow, Dimension, LoadCell, OnlyPart};
pub use series::backfill::{BackfilledMeasures, BackfilledSnapshot};
pub use series::databases::DatabaseSums;
pub use series::executions::{ExecutionOrder, ExecutionSeen};
pub use series::kept::{Bucket, KeptBusy, KeptLoad, KeptMeasures, KeptSample, KeptSession};
pub use series::last_seen::Forgotten;
pub use series::measures::{MeasureRow, MetricCell, NewestMeasure};
pub use series::names::NewFamily;
pub use series::newest_look::SessionSeen;
pub use series::observed::ToObserve;
pub use series::periods::{
    KeptBy, Kind, LastRead, NamedObject, Object, Period, PeriodRow, StatementObject, WrittenSnapshot,
};
pub use series::pieces::Pieces;
pub use series::server_log::{KeptLogEntry, LogCount, LogFilter, LogOrder, LogRow};
pub use series::statement_list::{Bounds, SeenOf, StatementOrder, StatementQuery, StatementRow, StatementTotals};
pub use series::statement_sums::Stretch;
pub use series::statements::{Coverage, FamilyRow};
pub use series::tallies::TallyRow;

/// A connected repository, at the newest version of its schema.
#[derive(Debug, Clone)]
pub struct Store {
    pool: Pool<Postgres>,
    retention: Retention,
}

/// Why the repository did not do what it was asked.
#[derive(Debug, thiserror::Error)]
pub enum StoreProblem {
    /// Another row has this name already.
    #[error("{what} {value} exists already")]
    Taken {
        /// The input that names it.
        field: &'static str,
        /// What exists already.
        what: &'static str,
        /// Its name.
        value: String,
    },
    /// Instances use it.
    #[error("instances use it")]
    InUse,
    /// Nobody would be left who can manage accounts.
    #[error("nobody else is an administrator")]
    LastAdministrator,
    /// Nobody would be left who can approve what the other administrator proposes.
    #[error("a second administrator must be left while a second person must approve")]
    SecondPerson,
    /// Another process has written a newer snapshot meanwhile.
    #[error("another process has read this instance meanwhile")]
    Overtaken,
    /// The database failed or is away.
    #[error("the repository failed: {0}")]
    Database(#[from] sqlx::Error),
    /// The schema could not be brought to the newest version.
    #[error("the repository's schema could not be brought up to date: {0}")]
    Migration(#[from] sqlx::migrate::MigrateError),
    /// Something stored cannot be read back.
    #[error("a stored {what} cannot be read: {reason}")]
    Unreadable {
        /// What it was meant to be.
        what: &'static str,
        /// What is wrong with it.
        reason: String,
    },
}

impl StoreProblem {
    /// Whether the repository is away, overloaded or being restarted: trying again later may work.
    pub fn is_passing(&self) -> bool {
        match self {
            StoreProblem::Database(sqlx::Error::Database(refusal)) => {
                // Connection exceptions, lack of resources, operator intervention, and deadlocks.
                refusal.code().is_some_and(|code| ["08", "53", "57", "40"].iter().any(|class| code.starts_with(class)))
            }
            StoreProblem::Database(error) => matches!(
                error,
                sqlx::Error::Io(_)
                    | sqlx::Error::Tls(_)
                    | sqlx::Error::PoolTimedOut
                    | sqlx::Error::PoolClosed
                    | sqlx::Error::WorkerCrashed
                    | sqlx::Error::Protocol(_)
            ),
            _ => false,
        }
    }

    /// Whether a row belongs to a time for which no partition was made.
    fn lacks_partition(&self) -> bool {
        matches!(self, StoreProblem::Database(sqlx::Error::Database(refusal))
            if refusal.code().as_deref() == Some("23514") && refusal.message().starts_with("no partition of relation"))
    }
}

/// What the functions of this crate return.
pub type Result<T> = std::result::Result<T, StoreProblem>;

impl Store {
    /// Connects, brings the schema up to date, and makes room for the figures of today.
    pub async fn open(url: &str, retention: Retention) -> Result<Store> {
        // A pool would try again for seconds, and tell only that it did.
        PgConnection::connect(url).await?.close().await?;
        // To compile a statement takes longer than most of them do: a day's hold-ups 0.6 s in place of 0.1 s. And what a
        // page asks is sorted and summed up in memory, not in files.
        let pool = PgPoolOptions::new()
            .max_connections(12)
            .acquire_timeout(MOST_WAIT)
            .after_connect(|connection, _| {
                Box::pin(async move { connection.execute("SET jit = off; SET work_mem = '32MB'").await.map(drop) })
            })
            .connect(url)
            .await?;
        STEPS.run(&pool).await?;
        let store = Store { pool, retention };
        store.make_views().await?;
        let now = at(Utc::now());
        store
            .make_partitions(Window { from: now.plus_seconds(-SECONDS_PER_DAY), to: now.plus_seconds(SECONDS_PER_DAY) })
            .await?;
        Ok(store)
    }
}

/// How long anything waits for a connection to the repository. Where nobody answers at all that is told at once; this
/// is for one that is busy, and for a machine that is.
const MOST_WAIT: Duration = Duration::from_secs(15);

/// Tries a change that may have to give way to what the collector writes meanwhile.
const MOST_TRIES: usize = 5;

/// Does something in the repository, and again where the server broke it off to end a deadlock: it was undone in
/// whole. Who changes or removes an instance and who writes its figures lock the same rows, each in their own order.
async fn again_after_deadlock<'a, T>(
    mut change: impl FnMut() -> Pin<Box<dyn Future<Output = sqlx::Result<T>> + Send + 'a>>,
) -> sqlx::Result<T> {
    for _ in 1..MOST_TRIES {
        match change().await {
            Err(sqlx::Error::Database(refusal)) if refusal.code().as_deref() == Some("40P01") => {}
            other => return other,
        }
    }
    change().await
}

/// A moment as PostgreSQL's time. Moments beyond its reach become its ends.
fn time(at: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.0).unwrap_or(if at.0 < 0 {
        DateTime::UNIX_EPOCH
    } else {
        DateTime::<Utc>::MAX_UTC
    })
}

fn at(time: DateTime<Utc>) -> Timestamp {
    Timestamp(time.timestamp_micros())
}

/// A member of a closed set, by the name that a column holds.
fn word<T: Named>(row: &PgRow, column: &'static str) -> Result<T> {
    let name: &str = row.get(column);
    T::named(name).ok_or_else(|| StoreProblem::Unreadable { what: column, reason: format!("{name} is no word of it") })
}

fn to_json(what: &'static str, value: &impl serde::Serialize) -> Result<serde_json::Value> {
    serde_json::to_value(value).map_err(|error| StoreProblem::Unreadable { what, reason: error.to_string() })
}

fn from_json<T: serde::de::DeserializeOwned>(what: &'static str, value: serde_json::Value) -> Result<T> {
    serde_json::from_value(value).map_err(|error| StoreProblem::Unreadable { what, reason: error.to_string() })
}
