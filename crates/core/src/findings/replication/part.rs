//! Which part a server has among those that replicate.

use strum::{EnumString, IntoStaticStr, VariantArray};

use super::{Member, Place, Server};

/// Which part a server has among those that replicate.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum ReplicationPart {
    /// It writes, and follows nobody.
    Primary,
    /// It replays the WAL of another.
    Replica,
    /// It reads changes of rows from another (logical replication).
    Subscriber,
    /// It is followed, and not under care: whether it follows another itself is not known.
    Unknown,
}

/// Which part a server has.
pub fn part(members: &[Member], place: &Place) -> ReplicationPart {
    match (&place.server, place.seen_as) {
        (Server::Member(at), _) if members[*at].replication.is_replica => ReplicationPart::Replica,
        (Server::Member(_), _) => ReplicationPart::Primary,
        (Server::Outside { .. }, Some((above, number))) => {
            if members[above].replication.followers[number].is_logical {
                ReplicationPart::Subscriber
            } else {
                ReplicationPart::Replica
            }
        }
        (Server::Outside { .. }, None) => ReplicationPart::Unknown,
    }
}
