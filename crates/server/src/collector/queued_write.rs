use std::mem::size_of;
use std::time::Duration;

use hurnix_core::Timestamp;
use hurnix_core::readings::activity::{ActivitySample, Session};
use hurnix_core::readings::catalog::{Catalog, Column, Index, Table};
use hurnix_core::readings::counters::MeasureCounters;
use hurnix_core::readings::family::masked;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::inventory::{Account, Database, Inventory};
use hurnix_core::readings::metric::{Measure, Metric};
use hurnix_core::readings::server_log::{LogEntry, LogPosition};
use hurnix_core::readings::statement::StatementText;
use hurnix_source::{ConnectProblem, CountersReading, Limit, MeasureReading, PlanInLog, Planned, Setting};
use hurnix_store::{LoggedPlanRow, PlanRow};

/// What was read at once and is to be written at once, with how long the reading took.
#[derive(Debug)]
pub enum QueuedWrite {
    Activity(Vec<ActivitySample>),
    Counters(CountersReading, Duration),
    Catalog(Catalog),
    Inventory(Inventory),
    Settings(Timestamp, Vec<Setting>),
    Plan(i64, PlanRow),
    Measures(Figures, MeasureReading),
    Log(LogToWrite),
    Connected { at: Timestamp, version: String, limits: Vec<Limit> },
    Failing { at: Timestamp, problem: ConnectProblem },
}

/// What a reading of a server's log is worth keeping of; masked, if the instance says so.
#[derive(Debug)]
pub struct LogToWrite {
    pub entries: Vec<LogEntry>,
    /// Plans with the statements that were run with them.
    pub plans: Vec<(String, LoggedPlanRow)>,
    /// How far the log is read by that.
    pub position: LogPosition,
}

impl QueuedWrite {
    /// The kind of figures in it; nothing when it tells how collection stands.
    pub fn figures(&self) -> Option<Figures> {
        Some(match self {
            QueuedWrite::Activity(_) => Figures::Activity,
            QueuedWrite::Counters(reading, _) => reading.counters.figures(),
            QueuedWrite::Catalog(_) => Figures::Catalog,
            QueuedWrite::Inventory(_) => Figures::Inventory,
            QueuedWrite::Settings(..) => Figures::Settings,
            QueuedWrite::Plan(..) => Figures::Plans,
            QueuedWrite::Measures(figures, _) => *figures,
            QueuedWrite::Log(..) => Figures::Log,
            QueuedWrite::Connected { .. } | QueuedWrite::Failing { .. } => return None,
        })
    }

    /// About the memory that it takes, in bytes.
    pub fn bytes(&self) -> usize {
        match self {
            QueuedWrite::Activity(samples) => samples.iter().map(sample_bytes).sum(),
            QueuedWrite::Counters(reading, _) => reading.counters.bytes() + texts_bytes(&reading.texts),
            QueuedWrite::Catalog(catalog) => catalog.tables.iter().map(table_bytes).sum(),
            QueuedWrite::Inventory(inventory) => {
                inventory.databases.len() * size_of::<Database>() + inventory.accounts.len() * size_of::<Account>()
            }
            QueuedWrite::Settings(_, settings) => settings
                .iter()
                .map(|setting| {
                    size_of::<Setting>() + setting.name.len() + setting.value.as_ref().map_or(0, String::len)
                })
                .sum(),
            QueuedWrite::Plan(_, plan) => match &plan.plan {
                Ok((_, text)) | Err(text) => text.len(),
            },
            QueuedWrite::Measures(_, reading) => {
                let objects: usize = reading.measures.iter().map(|measure| measure.object.len()).sum();
                let counted = reading.counted.rows.len() * size_of::<((Metric, String), MeasureCounters)>();
                reading.measures.len() * size_of::<Measure>() + objects + counted
            }
            QueuedWrite::Log(LogToWrite { entries, plans, .. }) => {
                let plan = |(statement, plan): &(String, LoggedPlanRow)| statement.len() + plan.text.len();
                entries.iter().map(entry_bytes).sum::<usize>() + plans.iter().map(plan).sum::<usize>()
            }
            QueuedWrite::Connected { limits, .. } => {
                limits.iter().map(|limit| limit.figures.len() + limit.reason.len() + limit.remedy.len()).sum()
            }
            QueuedWrite::Failing { problem, .. } => problem.message.len() + problem.remedy.len(),
        }
    }
}

/// A plan as it was read at a moment, for the repository.
pub fn plan_row(read_at: Timestamp, plan: &Planned, database: &str) -> PlanRow {
    let plan = match plan {
        Planned::Made { text, identity } => Ok((*identity, text.clone())),
        Planned::Absent(reason) => Err(reason.clone()),
    };
    let database = Some(database.to_owned()).filter(|name| !name.is_empty());
    PlanRow { first_read_at: read_at, read_at, plan, database }
}

/// A plan of the log, with the statement that was run; both without literals unless these are kept.
pub fn logged_plan(plan: PlanInLog, keeps_literals: bool) -> (String, LoggedPlanRow) {
    let PlanInLog { at, database, logged, identity } = plan;
    let text = logged.text(!keeps_literals);
    let statement = if keeps_literals { logged.statement } else { masked(&logged.statement) };
    let (total_ms, most_ms) = (logged.ms, logged.ms);
    (statement, LoggedPlanRow { identity, first_at: at, last_at: at, times: 1, total_ms, most_ms, text, database })
}

pub fn sample_bytes(sample: &ActivitySample) -> usize {
    let session = |session: &Session| {
        size_of::<Session>()
            + session.text.len()
            + session.account.len()
            + session.program.len()
            + session.client.len()
            + session.database.len()
            + session.blocked_by.len() * size_of::<i32>()
            + session.awaited.as_ref().map_or(0, |lock| lock.mode.len() + lock.kind.len() + lock.object.len())
    };
    size_of::<ActivitySample>() + sample.active.iter().map(session).sum::<usize>()
}

pub fn texts_bytes(texts: &[StatementText]) -> usize {
    let text =
        |text: &StatementText| size_of::<StatementText>() + text.text.len() + text.account.len() + text.database.len();
    texts.iter().map(text).sum()
}

fn entry_bytes(entry: &LogEntry) -> usize {
    size_of::<LogEntry>() + entry.line.message.len() + entry.line.detail.len() + entry.line.statement.len()
}

fn table_bytes(table: &Table) -> usize {
    let columns = table.columns.iter().map(|column| size_of::<Column>() + column.name.len() + column.type_name.len());
    size_of::<Table>() + table.name.len() + columns.sum::<usize>() + table.indexes.len() * (size_of::<Index>() + 64)
}
