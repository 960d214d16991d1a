use serde::{Deserialize, Serialize};

/// A kind of figures that is read from a server as one: with its own interval, cost, and tally.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Figures {
    /// What every session does right now.
    Activity,
    /// Counters by statement.
    Statements,
    /// Counters by database.
    Databases,
    /// Counters of checkpoints.
    Checkpoints,
    /// Counters by table.
    Tables,
    /// Counters by index.
    Indexes,
    /// Tables, columns and indexes themselves.
    Catalog,
    /// Databases, accounts, who may sign in, and files.
    Inventory,
    /// Settings.
    Settings,
    /// Plans of costly statements.
    Plans,
    /// Sessions, transactions and locks as they stand, in single figures.
    Standing,
    /// The write-ahead log and its replicas, in single figures.
    Replication,
    /// Sizes, ages and the state of upkeep, in single figures.
    Space,
    /// The host: processors, memory, storage, network, power, in single figures.
    Host,
    /// What the server writes to its log.
    Log,
}

impl Figures {
    /// All kinds, in the order in which they are read when several are due.
    pub const ALL: [Figures; 15] = [
        Figures::Activity,
        Figures::Statements,
        Figures::Databases,
        Figures::Checkpoints,
        Figures::Tables,
        Figures::Indexes,
        Figures::Catalog,
        Figures::Inventory,
        Figures::Settings,
        Figures::Plans,
        Figures::Standing,
        Figures::Replication,
        Figures::Space,
        Figures::Host,
        Figures::Log,
    ];

    /// The kind's name in the repository and the API.
    pub fn name(self) -> &'static str {
        match self {
            Figures::Activity => "activity",
            Figures::Statements => "statements",
            Figures::Databases => "databases",
            Figures::Checkpoints => "checkpoints",
            Figures::Tables => "tables",
            Figures::Indexes => "indexes",
            Figures::Catalog => "catalog",
            Figures::Inventory => "inventory",
            Figures::Settings => "settings",
            Figures::Plans => "plans",
            Figures::Standing => "standing",
            Figures::Replication => "replication",
            Figures::Space => "space",
            Figures::Host => "host",
            Figures::Log => "log",
        }
    }

    /// What they tell, and so what is lost where they are absent.
    pub fn tell(self) -> &'static str {
        match self {
            Figures::Activity => "who is busy, with what, and what they wait for",
            Figures::Statements => "what each statement costs, which became slower, and what an index would save",
            Figures::Databases => "transactions, cache hits, temporary files and deadlocks of each database",
            Figures::Checkpoints => "checkpoints and what the background writer does",
            Figures::Tables => "reads, writes and whole-table reads of each table",
            Figures::Indexes => "how each index is used",
            Figures::Catalog => "tables, columns, indexes and the planner's statistics: what index advice rests on",
            Figures::Inventory => "databases with their properties, accounts, who may sign in from where, and files",
            Figures::Settings => "settings, where they come from, and when they changed",
            Figures::Plans => "the plans of costly and changed statements, and when a plan changed",
            Figures::Standing => "sessions, transactions and locks as they stand, and the server's clock",
            Figures::Replication => "replicas, their lag, slots, and the write-ahead log",
            Figures::Space => "sizes, growth, ages of transactions and statistics, and upkeep in progress",
            Figures::Host => "processors, memory, storage, network and power of the host",
            Figures::Log => "errors, deadlocks, lock waits and temporary files, one by one",
        }
    }

    /// Position in [`Figures::ALL`].
    pub fn position(self) -> usize {
        self as usize
    }
}

/// How a kind of figures stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Supply {
    /// It is read, all of it.
    Collected,
    /// It is read, and something of it is missing.
    Limited,
    /// The server does not give it.
    Absent,
    /// It was read before, and has not been for longer than it should be.
    Overdue,
    /// It was never read yet.
    Waiting,
}

/// After so many of its intervals a kind of figures is overdue.
const OVERDUE_INTERVALS: f64 = 3.0;
/// However short its interval, it is not overdue before this: writing takes a moment.
const SOONEST_OVERDUE_SECONDS: f64 = 60.0;

impl Supply {
    /// How a kind stands that is kept from being read in whole (`Some(true)`) or in part (`Some(false)`), was
    /// last read so many seconds ago, and is to be read so often.
    pub fn judge(limited: Option<bool>, since_last: Option<f64>, interval_seconds: f64) -> Supply {
        let longest = (OVERDUE_INTERVALS * interval_seconds).max(SOONEST_OVERDUE_SECONDS);
        match (limited, since_last) {
            (Some(true), _) => Supply::Absent,
            (_, None) => Supply::Waiting,
            (_, Some(since)) if since > longest => Supply::Overdue,
            (Some(false), _) => Supply::Limited,
            (None, _) => Supply::Collected,
        }
    }
}

/// How reading one kind of figures went.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Tally {
    /// Readings made.
    pub read: i64,
    /// Readings that the server refused or did not answer in time.
    pub refused: i64,
    /// Readings that were due and not made: no connection, or the one before took too long.
    pub missed: i64,
    /// Readings made and then lost, because the repository was away for longer than memory could hold.
    pub dropped: i64,
    /// Time that the server took to answer, in microseconds.
    pub read_us: i64,
    /// What was read, in bytes of memory.
    pub bytes: i64,
}

impl Tally {
    /// Both together.
    pub fn plus(&self, other: &Tally) -> Tally {
        Tally {
            read: self.read + other.read,
            refused: self.refused + other.refused,
            missed: self.missed + other.missed,
            dropped: self.dropped + other.dropped,
            read_us: self.read_us + other.read_us,
            bytes: self.bytes + other.bytes,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_not_given_comes_before_what_is_late() {
        assert_eq!(Supply::judge(Some(true), None, 60.0), Supply::Absent);
        assert_eq!(Supply::judge(None, None, 60.0), Supply::Waiting);
        assert_eq!(Supply::judge(None, Some(179.0), 60.0), Supply::Collected);
        assert_eq!(Supply::judge(Some(false), Some(10.0), 60.0), Supply::Limited);
        assert_eq!(Supply::judge(Some(false), Some(181.0), 60.0), Supply::Overdue);
        assert_eq!(Supply::judge(None, Some(59.0), 1.0), Supply::Collected, "short intervals are given a minute");
    }

    #[test]
    fn positions_are_those_of_the_list() {
        for (position, figures) in Figures::ALL.into_iter().enumerate() {
            assert_eq!(figures.position(), position);
        }
    }
}
