//! What a server works with, and the figures that tell of each: the order in which a page shows them.

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::figure::ServerFigure;

/// Something that a server works with, or that it does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Resource {
    /// Processors.
    Processors,
    /// Memory.
    Memory,
    /// Storage.
    Storage,
    /// Network.
    Network,
    /// Connections.
    Connections,
    /// Transactions.
    Transactions,
    /// Reading.
    Reads,
    /// Changing rows.
    Changes,
    /// WAL.
    Wal,
    /// Replication.
    Replication,
    /// Temporary files.
    TempFiles,
    /// Locks.
    Locks,
    /// Energy.
    Energy,
}

impl Resource {
    /// Its name for people.
    pub fn title(self) -> &'static str {
        match self {
            Resource::Processors => "Processors",
            Resource::Memory => "Memory",
            Resource::Storage => "Storage",
            Resource::Network => "Network",
            Resource::Connections => "Connections",
            Resource::Transactions => "Transactions",
            Resource::Reads => "Reads",
            Resource::Changes => "Changed rows",
            Resource::Wal => "WAL and archive",
            Resource::Replication => "Replication and slots",
            Resource::TempFiles => "Temporary files",
            Resource::Locks => "Locks",
            Resource::Energy => "Energy",
        }
    }

    /// Names of the figures that tell of it, in the order in which they are shown.
    pub fn figures(self) -> &'static [&'static str] {
        match self {
            Resource::Processors => &["load", "wait_running", "cpu_used", "cpu_of_server", "cpu_by_core"],
            Resource::Memory => &["memory_available", "swap_used"],
            Resource::Storage => &[
                "wait_storage_read",
                "wait_storage_write",
                "storage_read",
                "storage_written",
                "storage_requests",
                "storage_latency",
                "storage_queue",
                "storage_busy",
                "page_read_time",
                "volume_free",
            ],
            Resource::Network => &["wait_network", "network_received", "network_sent"],
            Resource::Connections => &["connections", "connections_kept", "sessions", "connect_time"],
            Resource::Transactions => &[
                "commits",
                "rollbacks",
                "rollback_ratio",
                "transaction_time",
                "oldest_transaction",
                "prepared_transactions",
            ],
            Resource::Reads => {
                &["cache_hit_ratio", "hit_pages", "read_pages", "index_use_ratio", "returned_rows", "fetched_rows"]
            }
            Resource::Changes => &["inserted_rows", "updated_rows", "deleted_rows"],
            Resource::Wal => {
                &["wait_log_write", "log_written", "log_archived", "log_archive_failed", "log_archived_ago"]
            }
            Resource::Replication => {
                &["replicas_connected", "replica_lag", "replica_lag_bytes", "replay_lag", "slot_kept", "slot_active"]
            }
            Resource::TempFiles => &["wait_temp_space", "temp_files", "temp_bytes"],
            Resource::Locks => &["wait_lock", "locks_held", "locks_awaited", "deadlocks"],
            Resource::Energy => &["power"],
        }
    }

    /// What a figure tells of; nothing for those that tell of single tables, limits and ages.
    pub fn of(figure: ServerFigure) -> Option<Resource> {
        let name = figure.name();
        Resource::VARIANTS.iter().copied().find(|resource| resource.figures().contains(&name.as_str()))
    }
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn figures_are_followed_and_shown_once() {
        let names: Vec<&str> = Resource::VARIANTS.iter().flat_map(|resource| resource.figures()).copied().collect();
        for name in &names {
            assert!(ServerFigure::named(name).is_some(), "{name}");
        }
        assert_eq!(names.iter().collect::<HashSet<_>>().len(), names.len());
    }

    #[test]
    fn a_figure_tells_of_one_thing() {
        let of = |name| Resource::of(ServerFigure::named(name).unwrap());
        assert_eq!(of("cache_hit_ratio"), Some(Resource::Reads));
        assert_eq!(of("dead_rows"), None);
    }
}
