//! What somebody who has never seen an instance goes through first: an ordered list of checks, each with a
//! verdict, its evidence, and the next step.
//!
//! One check, one file. A check reads what is known and says what it found; it never asks for more. Where too
//! little is known it says so, and that is not a trouble.

mod backups;
mod clock;
mod collection;
mod connections;
mod contents;
mod evidence;
mod finding;
mod indexes;
mod kept_for;
mod locks;
mod memory;
mod more_load;
mod planner_statistics;
mod security;
mod sequences;
mod settings;
mod signs;
mod slots;
mod stability;
mod statements;
mod storage;
mod transaction_ids;
mod vacuum;
mod waits;

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::alarm::Trouble;
use crate::named::Named;

pub use evidence::{
    Checkpoints, CostlyFamily, Day, Evidence, FiguresAvailability, Grown, History, Lately, LookedAt, NewestValue,
    OpenAdvice, SettingInForce, Spill, Trend,
};
pub use finding::{Fact, Finding, Page, PageName, Point, Step};
pub use signs::{QUICK, looked_for, quick_signs, quickly_looked_for, signs};

macro_rules! checks {
    ($($check:ident in $module:ident for $trouble:ident $($more:ident)*: $title:literal $asks:literal;)*) => {
        /// One check of a first look.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
        #[strum(serialize_all = "snake_case")]
        pub enum Check {
            $(#[doc = $asks] $check,)*
        }

        impl Check {
            /// Its heading.
            pub fn title(self) -> &'static str {
                match self { $(Check::$check => $title,)* }
            }

            /// The question that it answers.
            pub fn asks(self) -> &'static str {
                match self { $(Check::$check => $asks,)* }
            }

            /// Which trouble it is about, where a point says no other.
            pub fn trouble(self) -> Trouble {
                match self { $(Check::$check => Trouble::$trouble,)* }
            }

            /// Which troubles it tells of.
            pub fn troubles(self) -> &'static [Trouble] {
                match self { $(Check::$check => &[Trouble::$trouble, $(Trouble::$more,)*],)* }
            }

            /// What it finds.
            fn finding(self, evidence: &Evidence) -> Finding {
                match self { $(Check::$check => $module::check(evidence),)* }
            }
        }
    };
}

checks! {
    Collection in collection for Collection Unreachable: "Collection and history" "What is known of it, since when, and what is missing?";
    Stability in stability for Stability: "Stability" "Does it stay up, and do its counters go on?";
    Clock in clock for Clock: "Clock" "Does the clock of its host agree with others?";
    Contents in contents for Contents: "Contents" "What is in it, and what of that changed lately?";
    Storage in storage for Volume Wal TempFiles: "Storage layout" "Where does it lie, how large is it, and when is it full?";
    Waits in waits for Waits LockWaits MoreLoad: "Top waits" "What do its sessions spend their time on?";
    Statements in statements for CostlyStatement SlowStatement SlowServer MoreCalls: "Worst statements" "Which statements take the time, and which became slower?";
    Locks in locks for LockWaits HoldUp Deadlocks LockTimeouts OldTransaction: "Locks" "Who waits for whom?";
    Indexes in indexes for Index MissingIndex: "Indexes" "Which are missing, broken, or of no use?";
    Settings in settings for Settings SettingChanged: "Settings out of the ordinary" "Which settings endanger data or slow it down, and which changed?";
    Connections in connections for Connections: "Connections" "Are there enough, and are they used well?";
    Memory in memory for Memory TempFiles: "Memory" "Is there enough of it, and what spills to disk?";
    Backups in backups for Backups: "Backups and archiving" "Could it be brought back?";
    PlannerStatistics in planner_statistics for PlannerStatistics: "Planner statistics" "Does the planner know its tables as they are?";
    Vacuum in vacuum for DeadRows PreparedTransaction: "Vacuum" "Are dead rows removed, and what holds vacuum back?";
    TransactionIds in transaction_ids for TransactionIds: "Transaction ids" "How far is it from running out of them?";
    Sequences in sequences for Sequence: "Sequences" "Which are near their end?";
    Slots in slots for Slot: "Replication slots" "Which keep the log from being removed?";
    Security in security for Security: "Security" "Who could sign in who should not?";
}

/// Goes through everything that is known of an instance: one finding for each check, in their order. Linear in
/// the evidence but for sorting.
pub fn first_look(evidence: &Evidence) -> Vec<Finding> {
    Check::all().map(|check| check.finding(evidence)).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::health::Health;

    #[test]
    fn every_check_answers_in_order_and_nothing_known_is_no_trouble() {
        let findings = first_look(&Evidence::default());
        assert_eq!(findings.iter().map(|finding| finding.check).collect::<Vec<_>>(), Check::VARIANTS);
        for finding in findings {
            assert!(finding.verdict() >= Health::NoData, "{finding:?}");
            for point in &finding.points {
                assert!(point.trouble.is_none_or(|trouble| finding.check.troubles().contains(&trouble)), "{finding:?}");
            }
            assert!(!finding.summary.is_empty() && finding.summary.ends_with('.'), "{finding:?}");
        }
    }
}
