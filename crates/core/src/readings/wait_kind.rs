use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// What a busy session spends its time on, in the fixed order in which every page shows it.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    IntoStaticStr,
    EnumString,
    VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum WaitKind {
    /// Not waiting: on a CPU, or ready to be.
    Running,
    /// Waiting for table or index pages to come from storage.
    StorageRead,
    /// Waiting for table or index pages to go to storage.
    StorageWrite,
    /// Waiting for the write-ahead log.
    LogWrite,
    /// Waiting for temporary files: sorts, hashes and the like that did not fit in memory.
    TempSpace,
    /// Waiting for a lock that another transaction holds.
    Lock,
    /// Waiting for a short internal lock of the server.
    Latch,
    /// Waiting for the client's end of the line in the middle of a statement.
    Network,
    /// Waiting for another process or another server.
    Peer,
    /// Anything else, such as a deliberate pause.
    Other,
}

impl WaitKind {
    /// All kinds in their fixed order.
    pub const ALL: [WaitKind; 10] = [
        WaitKind::Running,
        WaitKind::StorageRead,
        WaitKind::StorageWrite,
        WaitKind::LogWrite,
        WaitKind::TempSpace,
        WaitKind::Lock,
        WaitKind::Latch,
        WaitKind::Network,
        WaitKind::Peer,
        WaitKind::Other,
    ];

    /// Position in the fixed order; also how the repository stores it.
    pub fn position(self) -> usize {
        self as usize
    }

    /// The kind at a position of the fixed order.
    pub fn at_position(position: usize) -> Option<WaitKind> {
        Self::ALL.get(position).copied()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn positions_and_kinds_agree() {
        for (position, kind) in WaitKind::ALL.into_iter().enumerate() {
            assert_eq!(kind.position(), position);
            assert_eq!(WaitKind::at_position(position), Some(kind));
        }
        assert_eq!(WaitKind::at_position(10), None);
    }
}
