use hurnix_core::Timestamp;
use hurnix_core::WaitKind;
use serde::{Deserialize, Serialize};

use super::shape::Shape;
use crate::Setting;

/// Numbers of the processes of sessions in events.
pub const FIRST_PROCESS_OF_EVENTS: i32 = 900_000;
pub const PROCESSES_OF_EVENT: i32 = 1_000;
/// Temporary files of one statement that runs on and on.
pub const TEMP_FILES: i64 = 60;

/// A made-up server: what runs on it, on which tables, and what happens to it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Model {
    /// What its noise hangs on.
    pub seed: u64,
    /// When its counters began at zero.
    pub began_at: Timestamp,
    /// Version that it says it is.
    pub version: String,
    /// Its databases; the first is the one that Hurnix connects to.
    pub databases: Vec<String>,
    /// Tables of the first database.
    pub tables: Vec<TableModel>,
    /// Statements that run on it.
    pub families: Vec<FamilyModel>,
    /// Settings at the beginning.
    pub settings: Vec<Setting>,
    /// Its clients' connections.
    pub connections: Connections,
    /// The machine that it runs on.
    pub host: Host,
    /// For a replica: how far it lags behind.
    pub lag: Option<Lag>,
    /// Transaction numbers given out in a second, besides those of the statements.
    pub transactions_per_second: f64,
    /// What happens, in order of time.
    pub events: Vec<Event>,
}

/// A table.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct TableModel {
    /// Its name, in the schema `public`.
    pub name: String,
    /// Rows at the beginning.
    pub rows: f64,
    /// Bytes of a row, all in all.
    pub row_bytes: f64,
    /// Its columns: name, type, and different values as the planner keeps them.
    pub columns: Vec<(String, String, f64)>,
    /// Its indexes.
    pub indexes: Vec<IndexModel>,
}

/// An index.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct IndexModel {
    /// Its name.
    pub name: String,
    /// Its key columns.
    pub keys: Vec<String>,
    /// Whether it forbids equal keys.
    pub unique: bool,
    /// Whether a constraint needs it.
    pub constraint: bool,
    /// Bytes of an entry.
    pub entry_bytes: f64,
}

/// A statement that runs again and again. Costs are means per call.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct FamilyModel {
    /// Its text as the server keeps it. `{n}` in it stands for a number, different in each variant.
    pub text: String,
    /// How many texts the server tells apart: one, unless it takes literals for different statements.
    pub variants: u32,
    /// Account that runs it.
    pub account: String,
    /// Program that runs it.
    pub program: String,
    /// Address of the client.
    pub client: String,
    /// Position of its database.
    pub database: usize,
    /// When it runs.
    pub shape: Shape,
    /// Calls a second where its shape is 1.
    pub per_second: f64,
    /// What a call costs.
    pub cost: Cost,
    /// Kinds of wait with the server's name of the event and their share of the time; the rest it runs.
    pub waits: Vec<(WaitKind, String, f64)>,
    /// What it does to tables.
    pub touches: Vec<Touch>,
    /// Its plan.
    pub plan: String,
}

/// What a call costs.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
#[serde(default)]
pub struct Cost {
    /// Time, in milliseconds.
    pub ms: f64,
    /// Rows returned or changed.
    pub rows: f64,
    /// Pages found in the server's cache.
    pub hit_pages: f64,
    /// Pages read from outside it.
    pub read_pages: f64,
    /// Pages changed.
    pub dirtied_pages: f64,
    /// Pages of temporary files, written and read.
    pub temp_pages: f64,
    /// Write-ahead log, in bytes.
    pub log_bytes: f64,
}

/// What a call does to a table.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Touch {
    /// Position of the table.
    pub table: usize,
    /// What it does.
    pub how: How,
    /// Rows that it does it to.
    pub rows: f64,
}

/// What can be done to a table.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum How {
    /// Reads all of it.
    ReadAll,
    /// Reads by the index at this position.
    ReadBy(usize),
    /// Inserts.
    Insert,
    /// Updates.
    Update,
    /// Deletes.
    Delete,
}

/// Connections of clients.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Connections {
    /// Sessions that are always there.
    pub kept: i32,
    /// Sessions begun in a second.
    pub per_second: f64,
    /// How long such a session lasts, in seconds.
    pub seconds: f64,
    /// Connections that the server allows.
    pub allowed: i32,
}

/// The machine.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Host {
    /// Processors.
    pub cpus: i32,
    /// Memory, in bytes.
    pub memory_bytes: f64,
    /// The volume that holds the data, in bytes.
    pub volume_bytes: f64,
    /// Of that, taken by other things.
    pub other_bytes: f64,
    /// Power drawn when idle, and more for each busy processor, in watts.
    pub watts: (f64, f64),
}

/// How far a replica lags behind.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Lag {
    /// When it lags.
    pub shape: Shape,
    /// By how many seconds where its shape is 1.
    pub seconds: f64,
    /// Address of what it follows.
    #[serde(default)]
    pub follows: String,
    /// WAL that is written there in a second.
    #[serde(default)]
    pub log_bytes_per_second: f64,
}

/// Something that happens from a moment on, until another or for good.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Event {
    /// When it begins.
    pub at: Timestamp,
    /// When it ends; never when not given.
    pub until: Option<Timestamp>,
    /// What happens.
    pub what: Happening,
}

/// What can happen.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Happening {
    /// A statement costs, or runs, differently.
    Change(Change),
    /// One execution runs on and on, for as long as the event lasts.
    Giant {
        /// Position of the family.
        family: usize,
        /// Temporary space that it fills meanwhile, in bytes.
        temp_bytes: f64,
    },
    /// A session holds a row while it does nothing, and others want that row.
    HoldUp(HoldUp),
    /// The server finds sessions that wait for each other in a circle, at the beginning of the event.
    Deadlock,
    /// The server is started anew at the end of the event, and away until then.
    Restart,
    /// The server cannot be reached.
    Away,
    /// Counters of statements are set to zero.
    ResetStatements,
    /// A setting has another value.
    Setting {
        /// Its name.
        name: String,
        /// Its value.
        value: String,
    },
    /// Clients connect more or less often.
    Connecting {
        /// Sessions begun in a second.
        per_second: f64,
        /// How long they last, in seconds.
        seconds: f64,
    },
    /// A replica lags by another factor.
    Lag(f64),
    /// A transaction stays open, and vacuum cannot pass it.
    OldTransaction {
        /// Whether it was prepared for a second phase, and so has no session.
        prepared: bool,
    },
    /// The server vacuums a table by itself, for as long as the event lasts.
    Vacuum {
        /// Position of the table.
        table: usize,
    },
    /// There is one more index.
    IndexMade {
        /// Position of its table.
        table: usize,
        /// The index.
        index: IndexModel,
    },
}

/// How a statement changes.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Change {
    /// Position of the family.
    pub family: usize,
    /// Factor of its calls.
    pub calls: f64,
    /// What a call costs from then on; as before when not given.
    pub cost: Option<Cost>,
    /// What it does to tables from then on; as before when not given.
    pub touches: Option<Vec<Touch>>,
    /// What it waits for from then on; as before when not given.
    pub waits: Option<Vec<(WaitKind, String, f64)>>,
    /// Its plan from then on; as before when not given.
    pub plan: Option<String>,
}

/// A hold-up.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HoldUp {
    /// Position of the table whose row is held.
    pub table: usize,
    /// The holder's account.
    pub account: String,
    /// The holder's program.
    pub program: String,
    /// What the holder ran last.
    pub text: String,
    /// Position of the family that wants the row.
    pub family: usize,
    /// How many sessions wait at most.
    pub waiters: i32,
    /// Seconds between the arrivals of two of them.
    pub arrival_seconds: f64,
    /// How they stand behind the holder.
    #[serde(default)]
    pub stand: Stand,
}

/// How sessions stand behind a holder.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Stand {
    /// All want one row: the first waits for the holder, the others for the first one's place.
    #[default]
    InLine,
    /// Each holds what the next wants, as deep as there are waiters.
    InChain,
    /// The first wants to change the table, and the others only read it, but stand behind the first.
    BehindChange,
}
