use serde::{Deserialize, Serialize};

use crate::readings::wait_kind::WaitKind;
use crate::time::Timestamp;

/// What the server's sessions were doing at one moment. Hurnix's own are left out.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct ActivitySample {
    /// The moment, by the watched server's clock.
    pub at: Timestamp,
    /// All client sessions, idle ones included.
    pub sessions: i32,
    /// Those that were not idle.
    pub active: Vec<Session>,
}

/// The process number by which a server names whoever waits for a transaction that was prepared: no process holds its
/// locks any more.
pub const PREPARED: i32 = 0;

/// One session that was not idle, or the prepared transactions that others wait for, as process [`PREPARED`].
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Session {
    /// Process number on the watched server.
    pub process: i32,
    /// When the process began; with its number this tells it from a later one.
    pub started_at: Timestamp,
    /// What it spends its time on, or nothing when it holds a transaction open without working.
    pub wait_kind: Option<WaitKind>,
    /// The server's own name of the wait, `type:event`; nothing while it runs.
    pub event: Option<String>,
    /// The server's number for the statement, where it tells.
    pub query_id: Option<i64>,
    /// The statement as the server shows it, possibly cut short.
    pub text: String,
    /// Account that signed in.
    pub account: String,
    /// What the program calls itself.
    pub program: String,
    /// Address of the client; empty for local sessions.
    pub client: String,
    /// Database it works in.
    pub database: String,
    /// When its transaction began.
    pub transaction_started_at: Option<Timestamp>,
    /// When its statement began.
    pub statement_started_at: Option<Timestamp>,
    /// Processes that hold the lock it waits for.
    pub blocked_by: Vec<i32>,
    /// That lock.
    pub awaited: Option<AwaitedLock>,
}

/// A lock that a session waits for.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct AwaitedLock {
    /// How it is to be held, by the server's own name, such as `AccessExclusiveLock`.
    pub mode: String,
    /// What sort of thing it is on, by the server's own name, such as `relation` or `transactionid`.
    pub kind: String,
    /// The table concerned, as `schema.name`; empty where that is not known.
    pub object: String,
}
