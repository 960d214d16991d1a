use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

macro_rules! troubles {
    ($($trouble:ident $title:literal $doc:literal explains [$($consequence:ident)*];)*) => {
        /// What an alarm is about. Those that explain others come first.
        #[derive(
            Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
        )]
        #[serde(rename_all = "snake_case")]
        #[strum(serialize_all = "snake_case")]
        pub enum Trouble {
            $(#[doc = $doc] $trouble,)*
        }

        impl Trouble {
            /// What it is called.
            pub fn title(self) -> &'static str {
                match self { $(Trouble::$trouble => $title,)* }
            }

            /// Whether the other is a consequence of it: where both are seen at once, there is one alarm.
            pub fn explains(self, other: Trouble) -> bool {
                match self { $(Trouble::$trouble => matches!(other, $(Trouble::$consequence |)* Trouble::$trouble) && other != self,)* }
            }
        }
    };
}

troubles! {
    Unreachable "Unreachable" "Nothing is read of the server." explains [Collection];
    Collection "Collection" "Less is read than should be." explains [];
    PreparedTransaction "Prepared transaction" "A transaction was prepared and never finished." explains [OldTransaction DeadRows TransactionIds LockWaits];
    HoldUp "Hold-up" "Sessions wait for a lock that one holder keeps." explains [OldTransaction LockWaits Waits MoreLoad Unusual];
    OldTransaction "Old transaction" "A transaction has been open for long." explains [DeadRows];
    Slot "Replication slot" "A replication slot keeps what could go." explains [Wal DeadRows TransactionIds];
    SlowServer "Slow server" "All of the server became slower." explains [Waits MoreLoad Unusual];
    SlowStatement "Slow statement" "A statement became slower and takes time." explains [MissingIndex Memory TempFiles Waits MoreLoad Unusual CostlyStatement];
    MoreCalls "More calls" "A statement is called more often and takes time." explains [Waits MoreLoad Unusual CostlyStatement];
    Connections "Connections" "Sessions run out, or come and go too fast." explains [Unusual];
    Replication "Replication" "A replica lags or is gone." explains [Unusual];
    Deadlocks "Deadlocks" "Transactions waited for each other in a circle." explains [];
    LockTimeouts "Lock timeouts" "Statements gave up waiting for a lock." explains [];
    Volume "Volume" "A volume is full or will be." explains [];
    Wal "WAL" "WAL takes more space than it should." explains [];
    TempFiles "Temp files" "Statements spill to temporary files." explains [Memory Unusual CostlyStatement];
    TransactionIds "Transaction ids" "Transaction ids run out." explains [];
    DeadRows "Dead rows" "Vacuum does not keep up." explains [PlannerStatistics];
    Sequence "Sequence" "A sequence is near its end." explains [];
    Backups "Backups" "The server could not be brought back." explains [];
    Stability "Restarts" "The server was restarted, or crashed." explains [];
    Clock "Clock" "The clock of the server is wrong." explains [];
    LockWaits "Lock waits" "Sessions wait for locks." explains [Waits MoreLoad Unusual];
    MoreLoad "More load" "More sessions run or wait than before, and the statements that changed do not tell why." explains [Waits Unusual];
    Waits "Waits" "Sessions wait for something most of the time." explains [];
    Memory "Memory" "There is too little memory for what is done." explains [];
    CostlyStatement "Costly statement" "A statement takes much." explains [];
    MissingIndex "Missing index" "An index would save time." explains [];
    Index "Indexes" "An index is broken, or of no use." explains [];
    PlannerStatistics "Planner statistics" "The planner does not know its tables as they are." explains [];
    Settings "Settings" "Settings endanger data or slow the server down." explains [];
    SettingChanged "Setting changed" "Somebody changed a setting lately." explains [];
    Contents "Contents" "Something about what is in it." explains [];
    Security "Security" "Somebody could sign in who should not." explains [];
    Unusual "Out of range" "A figure is outside of its usual range for the hour, or beyond a threshold." explains [];
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::named::Named;

    #[test]
    fn what_explains_comes_before_what_it_explains_so_that_nothing_explains_itself() {
        for cause in Trouble::all() {
            assert!(!cause.explains(cause));
            for consequence in Trouble::all().filter(|other| cause.explains(*other)) {
                assert!(cause < consequence, "{cause:?} explains {consequence:?}");
            }
        }
        assert!(Trouble::HoldUp.explains(Trouble::LockWaits) && !Trouble::LockWaits.explains(Trouble::HoldUp));
    }
}
