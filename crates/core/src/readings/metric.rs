//! Single figures that are followed over time: what they are called, measured in, and mean.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::named::Named;
use crate::readings::figures::Figures;
use crate::time::Timestamp;

/// What a figure is measured in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Unit {
    /// Things counted.
    Count,
    /// Bytes.
    Bytes,
    /// Seconds.
    Seconds,
    /// A part of a whole, from 0 to 1.
    Share,
    /// Things a second.
    PerSecond,
    /// Bytes a second.
    BytesPerSecond,
    /// Processors kept busy: seconds of processor time a second.
    Cores,
    /// Watts.
    Watts,
}

macro_rules! metrics {
    ($($number:literal $metric:ident $name:literal $unit:ident $counted:literal $doc:literal;)*) => {
        /// A figure that is followed over time. Most are taken of several objects each: of every database,
        /// replica, slot, table …
        #[derive(
            Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
        )]
        #[serde(rename_all = "snake_case")]
        pub enum Metric {
            $(#[doc = $doc] #[strum(serialize = $name)] $metric,)*
        }

        impl Metric {
            /// The number by which the repository keeps it; never given to another metric.
            pub fn number(self) -> i16 {
                match self { $(Metric::$metric => $number,)* }
            }

            /// What it is measured in.
            pub fn unit(self) -> Unit {
                match self { $(Metric::$metric => Unit::$unit,)* }
            }

            /// Whether the server only counts it up, so that it is kept as a rate between two readings.
            pub fn is_counted(self) -> bool {
                match self { $(Metric::$metric => $counted,)* }
            }

            /// What it means, in a sentence that also says what its objects are.
            pub fn meaning(self) -> &'static str {
                match self { $(Metric::$metric => $doc,)* }
            }
        }
    };
}

impl Metric {
    /// Whether it moves around a level, so that it can change and stay so. What only grows, ages, or is set by somebody
    /// does not; nor does a single processor, whose work the kernel moves around.
    pub fn keeps_a_level(self) -> bool {
        use Metric::*;
        self.is_counted() && self != CpuByCore
            || matches!(
                self,
                ConnectionsKept
                    | ConnectTime
                    | LocksAwaited
                    | ReplicaLagBytes
                    | ReplicaLag
                    | ReplayLag
                    | ReplicasConnected
                    | MemoryAvailable
                    | Power
            )
    }
}

metrics! {
    1 Connections "connections" Count false "Client sessions, by state.";
    2 ConnectionsAllowed "connections_allowed" Count false "Connections that the server allows, without those kept for superusers.";
    3 OldestTransaction "oldest_transaction" Seconds false "Age of the oldest open transaction, by database.";
    4 LocksHeld "locks_held" Count false "Locks held, by mode.";
    5 LocksAwaited "locks_awaited" Count false "Locks that somebody waits for, by mode.";
    6 PreparedTransactions "prepared_transactions" Count false "Transactions prepared for a second phase that has not come.";
    7 OldestPrepared "oldest_prepared" Seconds false "Age of the oldest prepared transaction.";
    8 Progress "progress" Share false "How far long work has come, by what it is and the table: vacuum, making an index, collecting statistics, copying, rewriting, base backup.";
    9 ClockOffset "clock_offset" Seconds false "How far the server's clock is ahead of Hurnix's; negative when behind. As sure as half the time of the reading.";

    10 ConnectionsKept "connections_kept" Count false "Client sessions open for more than a minute.";
    11 XminAge "xmin_age" Count false "Transactions since the oldest row version that must be kept, by what needs it: a session, a prepared transaction, a slot, or a replica.";
    12 ConnectTime "connect_time" Seconds false "Time that a new connection took until it could run statements, from Hurnix, with the way there and the sign-in.";

    20 DatabaseSize "database_size" Bytes false "Size on disk, by database.";
    21 TablespaceSize "tablespace_size" Bytes false "Size on disk, by tablespace.";
    22 TransactionAge "transaction_age" Count false "Transactions since the oldest row that is not frozen, by database. At about two thousand million the server stops.";
    23 MultixactAge "multixact_age" Count false "The same for numbers of shared row locks, by database.";
    24 SequenceUsed "sequence_used" Share false "Share of its numbers that a sequence has given out, or of those that the narrowest column holds that it feeds.";

    40 Recovering "recovering" Count false "1 while the server replays another one's log, as a replica does; 0 otherwise.";
    41 LogWritten "log_written" BytesPerSecond true "WAL written; on a replica, replayed.";
    42 LogArchived "log_archived" PerSecond true "Files of the log archived.";
    43 LogArchiveFailed "log_archive_failed" PerSecond true "Attempts to archive a file of the log that failed.";
    44 LogArchivedAgo "log_archived_ago" Seconds false "Time since a file of the log was last archived.";
    45 ReplicaLagBytes "replica_lag_bytes" Bytes false "Log written here and not replayed there yet, by replica.";
    46 ReplicaLag "replica_lag" Seconds false "Time from writing here to replaying there, by replica.";
    47 ReplayLag "replay_lag" Seconds false "On a replica: time since the commit that was replayed last, while there is something to replay.";
    48 SlotKept "slot_kept" Bytes false "Log kept for a slot, by slot.";
    49 SlotActive "slot_active" Count false "1 while somebody reads from the slot, 0 otherwise, by slot.";
    50 ReplicasConnected "replicas_connected" Count false "Replicas connected.";

    60 TableSize "table_size" Bytes false "Size with large values, without indexes, as of the server's last count, by table.";
    61 TableIndexSize "table_index_size" Bytes false "Size of all indexes, as of the server's last count, by table.";
    62 LiveRows "live_rows" Count false "Rows, by the server's running estimate, by table.";
    63 DeadRows "dead_rows" Count false "Dead rows: row versions that vacuum has yet to remove, by the server's running estimate, by table.";
    64 RowsSinceAnalyze "rows_since_analyze" Count false "Rows changed since the planner's statistics were last collected, by table.";
    65 VacuumedAgo "vacuumed_ago" Seconds false "Time since the last vacuum, by table.";
    66 AnalyzedAgo "analyzed_ago" Seconds false "Time since the planner's statistics were last collected, by table.";
    67 TableAge "table_age" Count false "Transactions since the oldest row that is not frozen, in the table or its TOAST table, by table.";
    68 TableMultixactAge "table_multixact_age" Count false "The same for numbers of shared row locks, by table.";

    80 CpuUsed "cpu_used" Cores true "Processor time used on the host, by what for: user, system, waiting for storage, taken by others.";
    81 Cpus "cpus" Count false "Processors of the host.";
    82 MemoryTotal "memory_total" Bytes false "Memory of the host.";
    83 MemoryAvailable "memory_available" Bytes false "Memory of the host that programs could still have.";
    84 SwapUsed "swap_used" Bytes false "Memory of the host that lies on disk.";
    85 StorageRead "storage_read" BytesPerSecond true "Read from storage, by device.";
    86 StorageWritten "storage_written" BytesPerSecond true "Written to storage, by device.";
    87 StorageBusy "storage_busy" Share true "Share of time in which storage had something to do, by device.";
    88 VolumeSize "volume_size" Bytes false "Size of a file system, by where it is mounted.";
    89 VolumeFree "volume_free" Bytes false "Space on a file system that the server may still use, by where it is mounted.";
    90 NetworkReceived "network_received" BytesPerSecond true "Received over the network, by interface.";
    91 NetworkSent "network_sent" BytesPerSecond true "Sent over the network, by interface.";
    92 Power "power" Watts false "Power drawn, by meter.";
    93 StorageRequests "storage_requests" PerSecond true "Reads and writes that storage finished, by device.";
    94 StorageQueue "storage_queue" Count true "Reads and writes that storage worked on or had waiting, on average, by device.";

    95 CpuByCore "cpu_by_core" Cores true "Processor time used on the host, by processor.";

    100 MultixactsMade "multixacts_made" PerSecond true "Numbers of shared row locks given out.";
    101 OldestMultixact "oldest_multixact" Count false "Numbers of shared row locks given out since the oldest that is kept, in the whole server. At autovacuum_multixact_freeze_max_age vacuum freezes them.";
    102 MultixactPagesMade "multixact_pages_made" PerSecond true "Pages begun for shared row locks, by what they hold: offsets or members.";
    103 MultixactPagesRead "multixact_pages_read" PerSecond true "Such pages read from outside their cache, by what they hold. Sessions wait for each.";

    110 CpuOfServer "cpu_of_server" Cores true "Processor time used by the processes of this server, those that ended among them.";
}

impl Metric {
    /// Whether it is a time for each second, which is counted up in microseconds.
    pub fn is_time_counted(self) -> bool {
        matches!(
            self,
            Metric::CpuUsed | Metric::CpuByCore | Metric::CpuOfServer | Metric::StorageBusy | Metric::StorageQueue
        )
    }

    /// The kind of figures that it is read with: its number's range says so.
    pub fn figures(self) -> Figures {
        match self.number() {
            ..20 => Figures::Standing,
            20..40 | 60..80 => Figures::Space,
            40..60 => Figures::Replication,
            80..100 => Figures::Host,
            100..110 => Figures::Multixacts,
            110.. => Figures::Processes,
        }
    }

    /// The metric that the repository keeps by that number.
    pub fn numbered(number: i16) -> Option<Metric> {
        Metric::all().find(|metric| metric.number() == number)
    }
}

/// One value of a metric.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Measure {
    /// What was measured.
    pub metric: Metric,
    /// Of what; empty for the server as a whole.
    pub object: String,
    /// In the metric's unit; for what is counted, as far as it was counted up.
    pub value: f64,
}

/// How far a server's clock is ahead that stood at `at` some time between two moments of ours: in the middle
/// of them, for all that is known.
pub fn clock_offset(before: Timestamp, at: Timestamp, after: Timestamp) -> Measure {
    let value = at.seconds_since(before) - after.seconds_since(before) / 2.0;
    Measure { metric: Metric::ClockOffset, object: String::new(), value }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;
    use crate::named::Named;

    #[test]
    fn a_clock_is_held_against_the_middle_of_the_reading() {
        let offset = |at| clock_offset(Timestamp(1_000_000), Timestamp(at), Timestamp(3_000_000)).value;
        assert_eq!([offset(2_000_000), offset(2_500_000), offset(0)], [0.0, 0.5, -2.0]);
    }

    #[test]
    fn names_and_numbers_are_given_once_and_lead_back() {
        let names: HashSet<&str> = Metric::all().map(Metric::name).collect();
        assert_eq!(names.len(), Metric::VARIANTS.len());
        for metric in Metric::all() {
            assert_eq!((Metric::named(metric.name()), Metric::numbered(metric.number())), (Some(metric), Some(metric)));
            assert!(metric.meaning().ends_with('.'));
        }
        assert_eq!((Metric::named("nothing"), Metric::numbered(0)), (None, None));
    }

    #[test]
    fn the_page_of_metrics_is_complete() {
        let page = include_str!("../../../../docs/formats/metrics.md");
        for metric in Metric::all() {
            let row = format!("| `{}` | {} |", metric.name(), metric.figures().name());
            assert!(page.contains(&row) && page.contains(metric.meaning()), "{row}");
        }
    }

    #[test]
    fn what_is_counted_is_kept_as_a_rate() {
        for metric in Metric::all() {
            let rate = matches!(metric.unit(), Unit::PerSecond | Unit::BytesPerSecond | Unit::Cores);
            assert_eq!(metric.is_counted(), rate || metric.is_time_counted(), "{}", metric.name());
        }
    }
}
