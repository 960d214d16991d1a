use serde::{Deserialize, Serialize};

use crate::readings::host_process::BusyHost;
use crate::time::Timestamp;

/// Processes of a server as they stand: its own, and what sessions still need of old row versions.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct ServerProcesses {
    /// When, by its clock.
    pub at: Timestamp,
    /// Those that serve no client.
    pub background: Vec<BackgroundProcess>,
    /// Sessions of which vacuum keeps row versions, Hurnix's own left out.
    pub snapshots: Vec<SessionSnapshot>,
    /// What the processes of the host do; nothing where they are not seen.
    pub host: Option<BusyHost>,
}

/// A process of the server that serves no client.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct BackgroundProcess {
    /// Its number.
    pub process: i32,
    /// When it began.
    pub started_at: Timestamp,
    /// What it is, by the server's own words, such as `checkpointer`.
    pub kind: String,
    /// The server's own name of what it waits for, as type and event; nothing while it works.
    pub event: Option<String>,
    /// Its database; empty for the whole server.
    pub database: String,
    /// What it does, where it tells, possibly cut short.
    pub text: String,
}

impl BackgroundProcess {
    /// Whether it waits for work, as the server's own main loops do.
    pub fn is_idle(&self) -> bool {
        self.event.as_ref().is_some_and(|event| event.starts_with("Activity:"))
    }
}

/// The oldest row version that a session may still see.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct SessionSnapshot {
    /// Its process.
    pub process: i32,
    /// When that began.
    pub started_at: Timestamp,
    /// Transactions since then: vacuum keeps what died later.
    pub transactions: i64,
}
