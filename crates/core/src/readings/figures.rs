//! The kinds of figures that are read from servers: one line each says everything that is general about it.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::keeping::retention::RetentionGroup;

/// How often kinds of figures are read that are read equally often; how long each is, is set for the program or for
/// one instance.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Rhythm {
    /// Between two looks at the sessions.
    Activity,
    /// Between two readings of statement counters.
    Statements,
    /// Between two readings of counters of the server as a whole: databases, checkpoints, input and output.
    Databases,
    /// Between two readings of table and index counters.
    Tables,
    /// Between two readings of tables, columns and indexes themselves.
    Catalog,
    /// Between two readings of single figures that change quickly.
    Measures,
    /// Between two readings of sizes, ages and the state of upkeep.
    Space,
    /// Between two readings of what the server has written to its log.
    ServerLog,
    /// Between two readings of settings, databases and accounts.
    Settings,
    /// Between two looks for statements that lack a fresh plan.
    Plans,
}

/// What a kind of figures consists of, and so the way that it goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Shape {
    /// Counters by object: kept as differences ([`crate::readings::counters`]).
    Counters,
    /// Single figures: kept as they are, or as rates ([`crate::readings::metric`]).
    Measures,
    /// Something of its own.
    Other(Other),
}

/// What goes a way of its own.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Other {
    /// Looks at the sessions.
    Activity,
    /// Tables, columns and indexes.
    Catalog,
    /// What a server holds besides.
    Inventory,
    /// Settings.
    Settings,
    /// Plans of the statements that are asked for.
    Plans,
    /// Entries of the server's log.
    Log,
}

macro_rules! figures {
    ($($(#[doc = $doc:literal])+ $figures:ident, $shape:expr, every $rhythm:ident, kept with $group:expr, $tell:literal;)+) => {
        /// A kind of figures that is read from a server as one: with its own interval, cost, and tally.
        #[derive(
            Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
        )]
        #[serde(rename_all = "snake_case")]
        #[strum(serialize_all = "snake_case")]
        pub enum Figures {
            $($(#[doc = $doc])+ $figures,)+
        }

        impl Figures {
            /// All kinds, in the order in which they are read when several are due.
            pub const ALL: [Figures; Figures::VARIANTS.len()] = [$(Figures::$figures),+];

            /// What it consists of.
            pub fn shape(self) -> Shape {
                match self { $(Figures::$figures => $shape,)+ }
            }

            /// How often it is read.
            pub fn rhythm(self) -> Rhythm {
                match self { $(Figures::$figures => Rhythm::$rhythm,)+ }
            }

            /// What it is kept with, for the same time; nothing where the newest state and its changes are kept for good.
            pub fn retention_group(self) -> Option<RetentionGroup> {
                match self { $(Figures::$figures => $group,)+ }
            }

            /// What they tell, and so what is lost where they are absent.
            pub fn tell(self) -> &'static str {
                match self { $(Figures::$figures => $tell,)+ }
            }
        }
    };
}

figures! {
    /// What every session does right now.
    Activity, Shape::Other(Other::Activity), every Activity, kept with Some(RetentionGroup::Activity),
        "who is busy, with what, and what they wait for";
    /// Counters by statement.
    Statements, Shape::Counters, every Statements, kept with Some(RetentionGroup::Statements),
        "what each statement costs, which became slower, and what an index would save";
    /// Counters by statement of what functions and procedures ran.
    Nested, Shape::Counters, every Tables, kept with Some(RetentionGroup::Statements),
        "which statements inside functions and procedures take their time";
    /// Counters by database.
    Databases, Shape::Counters, every Databases, kept with Some(RetentionGroup::Databases),
        "transactions, cache hits, temporary files and deadlocks of each database";
    /// Counters of checkpoints.
    Checkpoints, Shape::Counters, every Databases, kept with Some(RetentionGroup::Databases),
        "checkpoints and what the background writer does";
    /// Counters of input and output by who does it, on what, and how.
    Io, Shape::Counters, every Databases, kept with Some(RetentionGroup::Databases),
        "which of the server's processes read and write, on what, and how often the cache serves them";
    /// Counters by table.
    Tables, Shape::Counters, every Tables, kept with Some(RetentionGroup::Tables),
        "reads, writes and whole-table reads of each table";
    /// Counters by index.
    Indexes, Shape::Counters, every Tables, kept with Some(RetentionGroup::Tables),
        "how each index is used";
    /// Tables, columns and indexes themselves.
    Catalog, Shape::Other(Other::Catalog), every Catalog, kept with None,
        "tables, columns, indexes and the planner's statistics: what index advice rests on";
    /// Databases, accounts, who may sign in, and files.
    Inventory, Shape::Other(Other::Inventory), every Settings, kept with None,
        "databases with their properties, accounts, who may sign in from where, and files";
    /// Settings.
    Settings, Shape::Other(Other::Settings), every Settings, kept with None,
        "settings, where they come from, and when they changed";
    /// Plans of costly statements.
    Plans, Shape::Other(Other::Plans), every Plans, kept with None,
        "the plans of costly and changed statements, and when a plan changed";
    /// Sessions, transactions and locks as they stand, in single figures.
    Standing, Shape::Measures, every Measures, kept with Some(RetentionGroup::Measures),
        "sessions, transactions and locks as they stand, and the server's clock";
    /// The write-ahead log and its replicas, in single figures.
    Replication, Shape::Measures, every Measures, kept with Some(RetentionGroup::Measures),
        "replicas, their lag, slots, and WAL";
    /// Sizes, ages and the state of upkeep, in single figures.
    Space, Shape::Measures, every Space, kept with Some(RetentionGroup::Measures),
        "sizes, growth, ages of transactions and statistics, and upkeep in progress";
    /// Shared row locks (multixacts) and the pages that hold them, in single figures.
    Multixacts, Shape::Measures, every Measures, kept with Some(RetentionGroup::Measures),
        "how many shared row locks are numbered, and what reading their members costs";
    /// The host: processors, memory, storage, network, power, in single figures.
    Host, Shape::Measures, every Measures, kept with Some(RetentionGroup::Measures),
        "processors, memory, storage, network and power of the host";
    /// Processor time of the server's own processes, in single figures.
    Processes, Shape::Measures, every Measures, kept with Some(RetentionGroup::Measures),
        "how much of the host's processor time the server itself takes, and which processes take the rest";
    /// What the server writes to its log.
    Log, Shape::Other(Other::Log), every ServerLog, kept with Some(RetentionGroup::Log),
        "errors, deadlocks, lock waits and temporary files, one by one";
}

impl Figures {
    /// The kinds of a shape.
    pub fn of_shape(shape: Shape) -> impl Iterator<Item = Figures> {
        Figures::ALL.into_iter().filter(move |figures| figures.shape() == shape)
    }

    /// Position in [`Figures::ALL`].
    pub fn position(self) -> usize {
        self as usize
    }
}

/// How a kind of figures stands.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Availability {
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

impl Availability {
    /// How a kind stands that is kept from being read in whole (`Some(true)`) or in part (`Some(false)`), was
    /// last read so many seconds ago, and is to be read so often.
    pub fn judge(limited: Option<bool>, since_last: Option<f64>, interval_seconds: f64) -> Availability {
        let longest = (OVERDUE_INTERVALS * interval_seconds).max(SOONEST_OVERDUE_SECONDS);
        match (limited, since_last) {
            (Some(true), _) => Availability::Absent,
            (_, None) => Availability::Waiting,
            (_, Some(since)) if since > longest => Availability::Overdue,
            (Some(false), _) => Availability::Limited,
            (None, _) => Availability::Collected,
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
        assert_eq!(Availability::judge(Some(true), None, 60.0), Availability::Absent);
        assert_eq!(Availability::judge(None, None, 60.0), Availability::Waiting);
        assert_eq!(Availability::judge(None, Some(179.0), 60.0), Availability::Collected);
        assert_eq!(Availability::judge(Some(false), Some(10.0), 60.0), Availability::Limited);
        assert_eq!(Availability::judge(Some(false), Some(181.0), 60.0), Availability::Overdue);
        assert_eq!(
            Availability::judge(None, Some(59.0), 1.0),
            Availability::Collected,
            "short intervals are given a minute"
        );
    }

    #[test]
    fn positions_are_those_of_the_list() {
        for (position, figures) in Figures::ALL.into_iter().enumerate() {
            assert_eq!(figures.position(), position);
        }
    }
}
