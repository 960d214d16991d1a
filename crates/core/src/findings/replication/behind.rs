//! How far a server is behind the one that it follows.

use super::{Member, Place, Server};

/// How far a server is behind the one that it follows; each nothing where it is not known.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Behind {
    /// Seconds since the commit was made that it replayed last, while there is something to replay.
    pub seconds: Option<f64>,
    /// Bytes of WAL that it has not replayed; of what it has received, where what it follows is not under care.
    pub bytes: Option<i64>,
    /// Transaction numbers that were given out there and that it does not know.
    pub transactions: Option<i64>,
}

/// How far a server is behind the one that it follows. What was written between two readings counts as replayed. Nothing
/// for one that follows nobody.
pub fn behind(members: &[Member], places: &[Place], place: &Place) -> Option<Behind> {
    let above = &places[place.follows?];
    let seen = place.seen_as.map(|(above, number)| &members[above].replication.followers[number]);
    let told = Behind {
        seconds: seen.and_then(|seen| seen.lag_seconds.or_else(|| (seen.behind_bytes == Some(0)).then_some(0.0))),
        bytes: seen.and_then(|seen| seen.behind_bytes),
        transactions: None,
    };
    let Server::Member(own) = place.server else { return Some(told) };
    let own = members[own].replication;
    let Some(from) = &own.upstream else { return Some(told) };
    let followed = match above.server {
        Server::Member(above) => Some(members[above].replication),
        Server::Outside { .. } => None,
    };
    let newest = followed.map_or(own.position, |followed| followed.position);
    let bytes = told.bytes.unwrap_or((newest - from.replayed).max(0));
    let since_commit = from.replayed_commit_at.map(|commit| own.at.seconds_since(commit).max(0.0));
    Some(Behind {
        seconds: if bytes == 0 { Some(0.0) } else { told.seconds.or(since_commit) },
        bytes: Some(bytes),
        transactions: followed.map(|followed| (followed.next_transaction - own.next_transaction).max(0)),
    })
}

#[cfg(test)]
mod tests {
    use super::super::chain;
    use super::*;
    use crate::readings::replication::{Follower, Replication, Upstream};
    use crate::time::Timestamp;

    const NOW: Timestamp = Timestamp(100_000_000);

    fn primary(followers: Vec<Follower>) -> Replication {
        let system_identifier = Some("7".into());
        Replication {
            at: NOW,
            system_identifier,
            position: 5000,
            next_transaction: 90,
            followers,
            ..Replication::default()
        }
    }

    fn replica(received: i64, replayed: i64) -> Replication {
        let upstream = Upstream {
            host: "p".into(),
            replayed,
            replayed_commit_at: Some(NOW.plus_seconds(-8.0)),
            ..Upstream::default()
        };
        Replication {
            is_replica: true,
            position: received,
            next_transaction: 85,
            upstream: Some(upstream),
            ..primary(Vec::new())
        }
    }

    fn told(all: &[(&str, Replication)]) -> Vec<Option<Behind>> {
        let members: Vec<Member> =
            all.iter().map(|(host, replication)| Member { host, port: 5432, replication }).collect();
        let places = chain(&members);
        places.iter().map(|place| behind(&members, &places, place)).collect()
    }

    #[test]
    fn what_is_under_care_is_measured_against_the_primary() {
        let [of_primary, of_replica] = told(&[("p", primary(Vec::new())), ("a", replica(4000, 3000))])[..] else {
            panic!("two servers")
        };
        let whole = Behind { seconds: Some(8.0), bytes: Some(2000), transactions: Some(5) };
        assert_eq!((of_primary, of_replica), (None, Some(whole)));
        let none = told(&[("p", primary(Vec::new())), ("a", replica(5000, 5000))])[1].unwrap();
        assert_eq!(
            (none.seconds, none.bytes),
            (Some(0.0), Some(0)),
            "its last commit is long ago, and all is replayed"
        );
    }

    #[test]
    fn what_follows_an_unknown_server_is_behind_what_it_received() {
        let alone = told(&[("a", replica(4000, 3000))])[1].unwrap();
        assert_eq!(alone, Behind { seconds: Some(8.0), bytes: Some(1000), transactions: None });
    }

    #[test]
    fn what_is_only_heard_of_is_as_far_behind_as_it_told() {
        let reader =
            Follower { name: "board".into(), behind_bytes: Some(70), lag_seconds: Some(0.2), ..Follower::default() };
        let heard = told(&[("p", primary(vec![reader]))])[1].unwrap();
        assert_eq!(heard, Behind { seconds: Some(0.2), bytes: Some(70), transactions: None });
    }
}
