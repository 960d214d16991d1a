//! Need D2: whether a replica could be promoted now, and what would be lost.
//!
//! A replica that is promoted replays all WAL that it has received, a pause or not, and begins a history of its own: what
//! its primary had written and it had not received is lost. That much is known only where the primary can be asked.

use crate::findings::health::Health;
use crate::readings::replication::Replication;
use crate::wording::{bytes, seconds};

/// WAL of one file: a replica that has so much to receive or to replay is as good as up to date.
const ONE_FILE_BYTES: i64 = 16 << 20;

/// What promoting a replica would mean.
#[derive(Debug, Clone, PartialEq)]
pub struct Promotion {
    /// Quiet where nothing stands against it; no data where what would be lost cannot be known.
    pub health: Health,
    /// Bytes of WAL that would be lost; nothing where that cannot be known.
    pub lost_bytes: Option<i64>,
    /// Bytes that would be replayed first.
    pub replayed_first_bytes: i64,
    /// The verdict in words.
    pub sentence: String,
}

/// Whether a replica could be promoted now. `upstream` is what it follows, where that was asked at the same time. Nothing
/// for a primary.
pub fn promotion(replica: &Replication, upstream: Option<&Replication>) -> Option<Promotion> {
    let from = replica.upstream.as_ref().filter(|_| replica.is_replica)?;
    let lost_bytes = upstream.map(|upstream| (upstream.position - replica.position).max(0));
    let replayed_first_bytes = (replica.position - from.replayed).max(0);
    let slot_of = |upstream: &&Replication| {
        upstream.slots.iter().any(|slot| Some(&slot.name) == from.slot.as_ref() && slot.state == "lost")
    };
    let mut said = Vec::new();
    let mut health = Health::Quiet;
    let mut because = |verdict: Health, sentence: String| {
        health = health.min(verdict);
        said.push(sentence);
    };
    if upstream.as_ref().is_some_and(slot_of) {
        because(
            Health::Act,
            "The WAL that it needs is gone on what it follows: it cannot catch up, and has to be built anew.".into(),
        );
    } else if !from.is_connected {
        let heard =
            from.heard_at.map(|at| format!(", and has heard nothing for {}", seconds(replica.at.seconds_since(at))));
        because(Health::Look, format!("It is not connected to what it follows{}.", heard.unwrap_or_default()));
    }
    match lost_bytes {
        Some(lost) if lost > ONE_FILE_BYTES => {
            because(Health::Look, format!("{} of WAL that it has not received would be lost.", bytes(lost as f64)));
        }
        Some(0) => because(Health::Quiet, "Nothing would be lost.".into()),
        Some(lost) => because(Health::Quiet, format!("{} of WAL would be lost.", bytes(lost as f64))),
        None => because(Health::NoData, "What would be lost is not known: what it follows cannot be asked.".into()),
    }
    let first = bytes(replayed_first_bytes as f64);
    if from.is_paused {
        because(Health::Look, format!("Replay is paused: a promotion ends the pause and replays {first} first."));
    } else if replayed_first_bytes > ONE_FILE_BYTES {
        because(Health::Look, format!("{first} that it has received would be replayed first."));
    }
    if from.delay_seconds > 0.0 {
        because(
            Health::Look,
            format!("It replays {} late on purpose (recovery_min_apply_delay).", seconds(from.delay_seconds)),
        );
    }
    Some(Promotion { health, lost_bytes, replayed_first_bytes, sentence: said.join(" ") })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::replication::{Slot, Upstream};
    use crate::time::Timestamp;

    const GIB: i64 = 1 << 30;

    fn replica(position: i64, from: Upstream) -> Replication {
        Replication {
            at: Timestamp(60_000_000),
            is_replica: true,
            position,
            upstream: Some(Upstream { is_connected: true, replayed: position, ..from }),
            ..Replication::default()
        }
    }

    fn primary(position: i64) -> Replication {
        Replication { position, ..Replication::default() }
    }

    #[test]
    fn one_that_has_it_all_loses_nothing() {
        let told = promotion(&replica(GIB, Upstream::default()), Some(&primary(GIB))).unwrap();
        assert_eq!(
            (told.health, told.lost_bytes, told.sentence.as_str()),
            (Health::Quiet, Some(0), "Nothing would be lost.")
        );
        assert_eq!(promotion(&primary(GIB), None), None);
    }

    #[test]
    fn what_was_not_received_is_lost_and_what_was_is_replayed_first() {
        let mut late = replica(GIB, Upstream::default());
        late.upstream.as_mut().unwrap().replayed = 0;
        let told = promotion(&late, Some(&primary(3 * GIB))).unwrap();
        assert_eq!((told.health, told.lost_bytes, told.replayed_first_bytes), (Health::Look, Some(2 * GIB), GIB));
        let alone = promotion(&replica(GIB, Upstream::default()), None).unwrap();
        assert_eq!((alone.health, alone.lost_bytes), (Health::NoData, None));
    }

    #[test]
    fn a_pause_a_delay_and_a_lost_connection_are_told() {
        let paused = replica(GIB, Upstream { is_paused: true, delay_seconds: 3600.0, ..Upstream::default() });
        let told = promotion(&paused, Some(&primary(GIB))).unwrap();
        assert_eq!(told.health, Health::Look);
        assert!(
            told.sentence.contains("Replay is paused") && told.sentence.contains("late on purpose"),
            "{}",
            told.sentence
        );
        let mut alone = replica(GIB, Upstream { heard_at: Some(Timestamp(0)), ..Upstream::default() });
        alone.upstream.as_mut().unwrap().is_connected = false;
        let told = promotion(&alone, None).unwrap();
        assert!(told.health == Health::Look && told.sentence.contains("heard nothing for"), "{}", told.sentence);
    }

    #[test]
    fn one_whose_slot_is_lost_cannot_catch_up() {
        let from = Upstream { slot: Some("board".into()), ..Upstream::default() };
        let lost = Slot { name: "board".into(), state: "lost".into(), ..Slot::default() };
        let above = Replication { slots: vec![lost], ..primary(2 * GIB) };
        assert_eq!(promotion(&replica(GIB, from), Some(&above)).unwrap().health, Health::Act);
    }
}
