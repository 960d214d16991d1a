use hurnix_core::Timestamp;
use hurnix_core::readings::counters::MeasureCounters;
use hurnix_core::readings::counters_read::{CountersRead, Kept};
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::{Measure, Metric};
use hurnix_core::readings::plan::LoggedPlan;
use hurnix_core::readings::server_log::{LogPosition, ToldLine};
use hurnix_core::readings::statement::StatementText;
use serde::{Deserialize, Serialize};

use crate::ConnectProblem;

/// Counters of one kind, without Hurnix's own.
#[derive(Debug, Clone, PartialEq)]
pub struct CountersReading {
    /// The counters.
    pub counters: CountersRead,
    /// Texts of statements that are new to this connection.
    pub texts: Vec<StatementText>,
}

impl CountersReading {
    /// The counters, if they are of this kind.
    pub fn of<C: Kept>(&self) -> Option<&Snapshot<C::Key, C>> {
        C::of_ref(&self.counters)
    }
}

impl<C: Into<CountersRead>> From<C> for CountersReading {
    fn from(counters: C) -> CountersReading {
        CountersReading { counters: counters.into(), texts: Vec::new() }
    }
}

/// Single figures read at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct MeasureReading {
    /// Those that are kept as they are.
    pub measures: Vec<Measure>,
    /// Those that the server counts up, by metric and object.
    pub counted: Snapshot<(Metric, String), MeasureCounters>,
}

/// A plan that the server wrote to its log when a statement had been run with it.
#[derive(Debug, Clone, PartialEq)]
pub struct PlanInLog {
    /// When.
    pub at: Timestamp,
    /// Database that it ran in.
    pub database: String,
    /// The statement and its plan, literals and all.
    pub logged: LoggedPlan,
    /// What tells the plan from others, with partitions that are read alike as one.
    pub identity: i64,
}

/// What the server has written to its log since a position.
#[derive(Debug, Clone, PartialEq)]
pub struct LogReading {
    /// The lines, in the order in which they were written, without those about Hurnix's own sessions.
    pub lines: Vec<ToldLine>,
    /// Plans of statements that were run, in the same order.
    pub plans: Vec<PlanInLog>,
    /// How far the log is read now; nothing while nothing was written.
    pub position: Option<LogPosition>,
    /// Bytes read.
    pub bytes: i64,
}

/// One setting as it is in force.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Setting {
    /// Its name.
    pub name: String,
    /// Its value in its unit; nothing when the account may not see it.
    pub value: Option<String>,
    /// Its unit, where it has one.
    pub unit: Option<String>,
    /// Where the value comes from.
    pub source: String,
    /// Whether another value waits for a restart.
    pub pending_restart: bool,
}

/// A statement's plan, made without running it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Planned {
    /// The plan as the server writes it, for any values of the parameters.
    Made {
        /// In its text form.
        text: String,
        /// What tells it from others: rule 10.
        identity: i64,
    },
    /// Why there is none.
    Absent(String),
}

/// Figures that a server does not give.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Limit {
    /// Which figures, in words.
    pub figures: String,
    /// The kinds that it keeps from being read.
    pub concerns: Vec<Figures>,
    /// Whether nothing of them is read, or only a part is missing.
    pub in_whole: bool,
    /// Whether the version of the server is all that keeps it from telling.
    #[serde(default)]
    pub by_version: bool,
    /// Why, and what is lost by it.
    pub reason: String,
    /// What would give them.
    pub remedy: String,
}

/// Why a reading failed.
#[derive(Debug, thiserror::Error)]
pub enum ReadProblem {
    /// The server said no to one reading; the connection is still good.
    #[error("the server refused the reading: {0}")]
    Refused(String),
    /// The connection is gone.
    #[error("the connection was lost: {0}")]
    Lost(String),
    /// What was read so far may not be read any more.
    #[error("{0}")]
    Obstructed(ConnectProblem),
    /// The server took longer than a reading may.
    #[error("the server did not answer within {0} s")]
    TimedOut(f64),
}
