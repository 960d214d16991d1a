//! Rule 2: how long sessions were seen waiting. A session that waits for the same event in the same statement at looks in a
//! row counts as one wait, as long as these looks stand for. What it did between two looks is not known: of what is waited
//! for many times a second, such as storage, this tells how long a session did nothing else.
//!
//! Laws, tested below: what is lost adds up to what all looks stand for; the order in which sessions are told changes
//! nothing.

use std::collections::HashMap;

use crate::findings::hold_up::{Lengths, SessionKey, add_length, stands_for};
use crate::time::Timestamp;

/// A session that waited at a look.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SeenWaiting {
    /// When.
    pub at: Timestamp,
    /// Which session.
    pub session: SessionKey,
    /// Number of what it waited for.
    pub event: Option<i32>,
    /// When its statement began.
    pub statement_started_at: Option<Timestamp>,
}

/// Waits by their length. `looks` are all looks, in order of time, also those that saw nobody wait; `seen` are in order of
/// time. Linear in both.
pub fn wait_lengths(looks: &[Timestamp], seen: &[SeenWaiting]) -> Vec<Lengths> {
    let place: HashMap<Timestamp, usize> = looks.iter().enumerate().map(|(number, at)| (*at, number)).collect();
    let seconds = stands_for(looks);
    /// The look that saw it last, and how long it has lasted.
    type Going = (usize, f64);
    let mut going: HashMap<(SessionKey, Option<i32>, Option<Timestamp>), Going> = HashMap::new();
    let mut bins = Vec::new();
    for one in seen {
        let Some(&look) = place.get(&one.at) else { continue };
        let wait = going.entry((one.session, one.event, one.statement_started_at)).or_insert((look, 0.0));
        if look > wait.0 + 1 {
            add_length(&mut bins, wait.1, wait.1);
            wait.1 = 0.0;
        }
        *wait = (look, wait.1 + seconds[look]);
    }
    for (_, lasted) in going.into_values() {
        add_length(&mut bins, lasted, lasted);
    }
    bins
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(second: usize) -> Timestamp {
        Timestamp(second as i64 * 1_000_000)
    }

    fn waiting(second: usize, process: i32, event: i32, statement: usize) -> SeenWaiting {
        SeenWaiting {
            at: at(second),
            session: SessionKey { process, started_at: Timestamp(7) },
            event: Some(event),
            statement_started_at: Some(at(statement)),
        }
    }

    fn told(seen: &[SeenWaiting]) -> Vec<(f64, usize, f64)> {
        let looks: Vec<Timestamp> = (0..30).map(at).collect();
        let bins = wait_lengths(&looks, seen);
        bins.iter().map(|bin| (bin.from_seconds, bin.waits, bin.lost_seconds)).collect()
    }

    #[test]
    fn looks_in_a_row_are_one_wait_and_a_break_another_event_or_another_statement_end_it() {
        let whole: Vec<SeenWaiting> = (0..5).map(|second| waiting(second, 1, 3, 0)).collect();
        assert_eq!(told(&whole), [(0.0, 0, 0.0), (2.0, 0, 0.0), (4.0, 1, 5.0)]);
        let broken = [waiting(0, 1, 3, 0), waiting(2, 1, 3, 0)];
        assert_eq!(told(&broken), [(0.0, 2, 2.0)]);
        let changed = [waiting(0, 1, 3, 0), waiting(1, 1, 4, 0), waiting(2, 1, 4, 2)];
        assert_eq!(told(&changed), [(0.0, 3, 3.0)]);
        assert_eq!(told(&[]), []);
    }

    proptest! {
        #[test]
        fn nothing_is_lost_and_the_order_within_a_look_changes_nothing(
            drawn in prop::collection::btree_set((0usize..30, 1i32..4, 0i32..2), 0..60),
        ) {
            let seen: Vec<SeenWaiting> =
                drawn.iter().map(|(second, process, event)| waiting(*second, *process, *event, 0)).collect();
            let mut turned = seen.clone();
            turned.sort_by_key(|one| (one.at, std::cmp::Reverse(one.session.process)));
            let bins = told(&seen);
            prop_assert_eq!(bins.iter().map(|bin| bin.2).sum::<f64>().round() as usize, seen.len());
            prop_assert_eq!(bins, told(&turned));
        }
    }
}
