use serde::{Deserialize, Serialize};

use crate::time::Timestamp;

/// A lock of a server that a session holds, or waits for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HeldLock {
    /// Process number; [`crate::readings::activity::PREPARED`] for prepared transactions.
    pub process: i32,
    /// When the process began, or the transaction was prepared; nothing for the server's own.
    pub started_at: Option<Timestamp>,
    /// Account that signed in.
    pub account: String,
    /// What the program calls itself.
    pub program: String,
    /// Address of the client; empty for local sessions.
    pub client: String,
    /// Whether it is idle in its transaction.
    pub is_idle: bool,
    /// When its transaction began.
    pub transaction_started_at: Option<Timestamp>,
    /// Its statement, or the last one, possibly cut short; literals and all.
    pub text: String,
    /// How it is held, by the server's own name.
    pub mode: String,
    /// What sort of thing it is on, by the server's own name.
    pub kind: String,
    /// The table or index, as `schema.name`; a number where it is of another database; empty where it is of neither.
    pub object: String,
    /// Database of what it is on; empty for what belongs to none.
    pub database: String,
    /// Whether it is held, and not waited for.
    pub is_held: bool,
    /// Sessions that wait for the same thing.
    pub waiting: i32,
}

/// Locks of a server as they stand.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct HeldLocks {
    /// When, by its clock.
    pub at: Timestamp,
    /// Those that somebody waits for first, then the strongest; no more than were asked for.
    pub locks: Vec<HeldLock>,
    /// How many there are.
    pub count: i64,
}
