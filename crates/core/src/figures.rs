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
    pub const ALL: [Figures; 14] = [
        Figures::Activity,
        Figures::Statements,
        Figures::Databases,
        Figures::Checkpoints,
        Figures::Tables,
        Figures::Indexes,
        Figures::Catalog,
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
            Figures::Settings => "settings",
            Figures::Plans => "plans",
            Figures::Standing => "standing",
            Figures::Replication => "replication",
            Figures::Space => "space",
            Figures::Host => "host",
            Figures::Log => "log",
        }
    }

    /// Position in [`Figures::ALL`].
    pub fn position(self) -> usize {
        self as usize
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
    fn positions_are_those_of_the_list() {
        for (position, figures) in Figures::ALL.into_iter().enumerate() {
            assert_eq!(figures.position(), position);
        }
    }
}
