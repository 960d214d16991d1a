use std::collections::HashSet;

use serde::{Deserialize, Serialize};

use crate::readings::activity::AwaitedLock;
use crate::time::Timestamp;

/// A session, told from a later one with the same process number by when its process began.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct SessionKey {
    /// Process number; [`crate::readings::activity::PREPARED`] for prepared transactions.
    pub process: i32,
    /// When the process began, or the transaction was prepared; the epoch where nobody saw it.
    pub started_at: Timestamp,
}

/// Who is behind a session.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash, Serialize, Deserialize)]
pub struct Who {
    /// Account that signed in.
    pub account: String,
    /// What the program calls itself.
    pub program: String,
    /// Address of the client; empty for local sessions.
    pub client: String,
    /// Database it works in.
    pub database: String,
}

/// A session that waits for a lock, or for which others wait.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Party {
    /// Which.
    pub session: SessionKey,
    /// Whose it is.
    pub who: Who,
    /// Whether it holds a transaction open without working.
    pub is_idle: bool,
    /// When its transaction began.
    pub transaction_started_at: Option<Timestamp>,
    /// When its statement began.
    pub statement_started_at: Option<Timestamp>,
    /// Family of its statement, or of the last one.
    pub family: Option<i64>,
    /// Processes that keep it waiting, by the server's word: those that hold what it wants, and those that wait for the
    /// same before it.
    pub blocked_by: Vec<i32>,
    /// The lock that it waits for.
    pub awaited: Option<AwaitedLock>,
}

/// Those of a look at the sessions who wait for locks or are waited for.
#[derive(Debug, Clone, PartialEq)]
pub struct Look {
    /// When.
    pub at: Timestamp,
    /// Seconds that the look stands for: those since the one before, as far as that is near.
    pub seconds: f64,
    /// Those concerned.
    pub(super) parties: Vec<Party>,
}

impl Look {
    /// A look. Holders that the server named and nobody saw, such as background processes, are parties without a name.
    pub fn new(at: Timestamp, seconds: f64, mut parties: Vec<Party>) -> Look {
        let mut seen: HashSet<i32> = parties.iter().map(|party| party.session.process).collect();
        let named = parties.iter().flat_map(|party| party.blocked_by.iter().copied());
        let unseen: Vec<i32> = named.filter(|process| seen.insert(*process)).collect();
        parties.extend(
            unseen
                .into_iter()
                .map(|process| Party { session: SessionKey { process, started_at: Timestamp(0) }, ..Party::default() }),
        );
        Look { at, seconds, parties }
    }

    /// Those concerned, by their position.
    pub fn parties(&self) -> &[Party] {
        &self.parties
    }
}
