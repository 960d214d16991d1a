use serde::{Deserialize, Serialize};

use crate::time::Timestamp;

/// How a server stands among those that it follows, and those that follow it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Replication {
    /// When, by its clock.
    pub at: Timestamp,
    /// When it was started.
    pub started_at: Timestamp,
    /// Number that it shares with its replicas; nothing where it does not tell.
    pub system_identifier: Option<String>,
    /// What it calls itself where it follows another; empty where it has no name.
    pub name: String,
    /// Whether it replays the log of another.
    pub is_replica: bool,
    /// Bytes of WAL that it has: written there, or received and kept by a replica.
    pub position: i64,
    /// The next transaction number, as far as it knows.
    pub next_transaction: i64,
    /// What it follows; nothing for a primary.
    pub upstream: Option<Upstream>,
    /// Those that read its WAL; base backups are not among them.
    pub followers: Vec<Follower>,
    /// Its replication slots.
    pub slots: Vec<Slot>,
    /// Statements that replay has ended, by what was in its way, by the server's own names, since `conflicts_since`.
    pub conflicts: Vec<(String, i64)>,
    /// When those counts were last reset; nothing where they never were.
    pub conflicts_since: Option<Timestamp>,
}

/// What a replica follows, by its own account.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Upstream {
    /// Its address; empty where the replica reads an archive only.
    pub host: String,
    /// Its port.
    pub port: Option<u16>,
    /// Slot that the replica uses there.
    pub slot: Option<String>,
    /// Whether it is connected just now.
    pub is_connected: bool,
    /// When the replica last heard from it.
    pub heard_at: Option<Timestamp>,
    /// Bytes of WAL that are replayed.
    pub replayed: i64,
    /// When the commit was made that was replayed last.
    pub replayed_commit_at: Option<Timestamp>,
    /// Whether replay is paused.
    pub is_paused: bool,
    /// Seconds that replay waits on purpose.
    pub delay_seconds: f64,
}

/// A server that reads the WAL of another, as that one sees it.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Follower {
    /// Process that sends to it.
    pub process: i32,
    /// What it calls itself.
    pub name: String,
    /// Account that it signed in as.
    pub account: String,
    /// Its address; empty for the same machine.
    pub client: String,
    /// When it connected.
    pub started_at: Timestamp,
    /// How it reads, by the server's own words: `streaming`, `catchup` …
    pub state: String,
    /// Whether commits wait for it, by the server's own words: `sync`, `quorum`, `potential`, `async`.
    pub synchronous: String,
    /// Slot that it uses.
    pub slot: Option<String>,
    /// Whether it reads changes of rows (logical), and not the WAL itself.
    pub is_logical: bool,
    /// Bytes of WAL that it has not replayed; nothing until it has told.
    pub behind_bytes: Option<i64>,
    /// Seconds from writing WAL here to replaying it there; nothing where it has replayed all for a while.
    pub lag_seconds: Option<f64>,
}

/// A replication slot.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Slot {
    /// Its name.
    pub name: String,
    /// Whether changes of rows are read from it (logical).
    pub is_logical: bool,
    /// Its database; empty for slots of the whole server.
    pub database: String,
    /// Whether somebody reads from it just now.
    pub is_active: bool,
    /// Whether it goes with the session that made it.
    pub is_temporary: bool,
    /// Bytes of WAL that are kept for it; nothing where it needs none yet, or lost it.
    pub kept_bytes: Option<i64>,
    /// Whether that WAL is still there, by the server's own words: `reserved`, `extended`, `unreserved`, `lost`.
    pub state: String,
    /// Bytes that may be written before it loses what it needs; nothing where there is no limit.
    pub safe_bytes: Option<i64>,
    /// Transactions since the oldest row version that is kept for it.
    pub xmin_age: Option<i64>,
    /// When it was last read from, from version 17 on; nothing while it is read from.
    pub inactive_since: Option<Timestamp>,
}
