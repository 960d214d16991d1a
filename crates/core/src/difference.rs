//! Rule 1: differences of cumulative counters. Nothing else in the program subtracts counters.
//!
//! A server's counters only grow, until it restarts, somebody resets them, or a bounded list throws
//! an entry out. [`between`] takes two readings and answers with what happened in between, or says
//! why that cannot be known.
//!
//! Laws, all tested below: a difference is never negative; over consecutive periods differences add
//! up to the difference over the whole (as long as no entry was thrown out); the order of rows does
//! not matter.

use std::collections::HashMap;
use std::hash::Hash;

use serde::{Deserialize, Serialize};

use crate::counters::Counters;
use crate::time::At;

/// All counters of one kind as they were read at one moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Snapshot<K, C> {
    /// When they were read, by the watched server's clock.
    pub at: At,
    /// When the server that kept them was started; the same in all snapshots until it starts anew.
    pub server_started_at: At,
    /// When they were last reset as a whole, where the server tells.
    pub reset_at: Option<At>,
    /// How often the server has thrown entries out of a bounded list, where it tells. `None` for
    /// lists that are not bounded.
    pub evictions: Option<i64>,
    /// The counters by object. Each object occurs once.
    pub rows: Vec<(K, C)>,
}

/// What happened between two snapshots.
#[derive(Debug, Clone, PartialEq)]
pub struct Difference<K, C> {
    /// When the earlier snapshot was read.
    pub from: At,
    /// When the later one was read.
    pub to: At,
    /// The objects whose counters moved.
    pub rows: Vec<Grown<K, C>>,
    /// Objects of the earlier snapshot that the later one lacks. What they did last is not known.
    pub vanished: usize,
}

impl<K, C> Difference<K, C> {
    /// Length of the period in seconds.
    pub fn seconds(&self) -> f64 {
        self.to.seconds_since(self.from)
    }
}

/// How far the counters of one object moved.
#[derive(Debug, Clone, PartialEq)]
pub struct Grown<K, C> {
    /// The object.
    pub key: K,
    /// By how much; never negative.
    pub by: C,
    /// Whether that is all, or only what could still be seen: the entry began anew from zero
    /// inside the period, after the server had dropped what it had counted before.
    pub lower_bound: bool,
}

/// Why there is no difference between two snapshots.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
pub enum NoDifference {
    /// The snapshots are in the wrong order or of the same moment, as after a clock was set back.
    #[error("not later: the second reading was not taken after the first")]
    NotLater,
    /// The server was restarted in between.
    #[error("restarted: the server started anew in between")]
    Restarted,
    /// The counters were reset as a whole in between.
    #[error("reset: the counters were reset in between")]
    Reset,
    /// Too much time lies between them for the difference to mean anything.
    #[error("gap too long: {seconds:.0} s between the readings, at most {limit_seconds:.0} s make a period")]
    GapTooLong {
        /// Seconds between the snapshots.
        seconds: f64,
        /// The most that was allowed.
        limit_seconds: f64,
    },
}

impl<K, C> Snapshot<K, C> {
    /// Whether counters were set back after the earlier reading: a reset time that moved past it, or is gone. One
    /// that only became known is no reset.
    pub fn is_reset_since(&self, earlier: &Snapshot<K, C>) -> bool {
        self.reset_at != earlier.reset_at && self.reset_at.is_none_or(|reset| reset > earlier.at)
    }
}

/// The difference between two snapshots at most `limit_seconds` apart, or why there is none.
///
/// An object that only the later snapshot has counts from zero. If entries were thrown out in
/// between, it may be one that came back, and its difference is marked a lower bound; so is that of
/// an object whose counters went down. Linear in the rows of both snapshots.
pub fn between<K, C>(
    earlier: &Snapshot<K, C>,
    later: &Snapshot<K, C>,
    limit_seconds: f64,
) -> Result<Difference<K, C>, NoDifference>
where
    K: Eq + Hash + Clone,
    C: Counters,
{
    if later.at <= earlier.at {
        return Err(NoDifference::NotLater);
    }
    if later.server_started_at != earlier.server_started_at {
        return Err(NoDifference::Restarted);
    }
    if later.is_reset_since(earlier) {
        return Err(NoDifference::Reset);
    }
    let seconds = later.at.seconds_since(earlier.at);
    if seconds > limit_seconds {
        return Err(NoDifference::GapTooLong { seconds, limit_seconds });
    }

    let evicted = later.evictions != earlier.evictions;
    let before: HashMap<&K, &C> = earlier.rows.iter().map(|(key, counters)| (key, counters)).collect();
    let mut found_again = 0;
    let mut rows = Vec::new();
    for (key, now) in &later.rows {
        let (by, lower_bound) = match before.get(key) {
            Some(then) => {
                found_again += 1;
                match now.grown_since(then) {
                    Some(by) => (by, false),
                    None => (*now, true),
                }
            }
            None => (*now, evicted),
        };
        if !by.is_zero() {
            rows.push(Grown { key: key.clone(), by, lower_bound });
        }
    }
    Ok(Difference { from: earlier.at, to: later.at, rows, vanished: earlier.rows.len() - found_again })
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;
    use crate::counters::IndexCounters;

    const MINUTE: i64 = 60_000_000;

    fn counters(reads: i64, read_entries: i64) -> IndexCounters {
        IndexCounters { reads, read_entries, ..Default::default() }
    }

    fn snapshot(minute: i64, rows: &[(u32, IndexCounters)]) -> Snapshot<u32, IndexCounters> {
        Snapshot {
            at: At(minute * MINUTE),
            server_started_at: At(0),
            reset_at: Some(At(0)),
            evictions: Some(0),
            rows: rows.to_vec(),
        }
    }

    #[test]
    fn a_statement_that_ran_moves_and_one_that_did_not_is_left_out() {
        let earlier = snapshot(1, &[(7, counters(10, 100)), (8, counters(3, 3))]);
        let later = snapshot(2, &[(7, counters(14, 160)), (8, counters(3, 3)), (9, counters(2, 2))]);
        let difference = between(&earlier, &later, 300.0).unwrap();
        assert_eq!(difference.seconds(), 60.0);
        assert_eq!(
            difference.rows,
            [
                Grown { key: 7, by: counters(4, 60), lower_bound: false },
                Grown { key: 9, by: counters(2, 2), lower_bound: false },
            ]
        );
    }

    #[test]
    fn a_restart_a_reset_a_gap_and_a_clock_set_back_each_say_so() {
        let earlier = snapshot(1, &[(7, counters(10, 100))]);
        let later = snapshot(2, &[(7, counters(14, 160))]);
        let restarted = Snapshot { server_started_at: At(MINUTE + 5_000_000), ..later.clone() };
        let reset = Snapshot { reset_at: Some(At(MINUTE + 1)), ..later.clone() };
        assert_eq!(between(&earlier, &restarted, 300.0), Err(NoDifference::Restarted));
        assert_eq!(between(&earlier, &reset, 300.0), Err(NoDifference::Reset));
        assert_eq!(
            between(&earlier, &later, 59.0),
            Err(NoDifference::GapTooLong { seconds: 60.0, limit_seconds: 59.0 })
        );
        assert_eq!(between(&later, &earlier, 300.0), Err(NoDifference::NotLater));
    }

    #[test]
    fn an_entry_that_went_down_counts_from_zero_as_a_lower_bound() {
        let earlier = snapshot(1, &[(7, counters(10, 100))]);
        let later = snapshot(2, &[(7, counters(4, 900))]);
        let difference = between(&earlier, &later, 300.0).unwrap();
        assert_eq!(difference.rows, [Grown { key: 7, by: counters(4, 900), lower_bound: true }]);
    }

    #[test]
    fn a_new_entry_is_a_lower_bound_only_if_something_was_thrown_out() {
        let earlier = snapshot(1, &[(7, counters(10, 100))]);
        let later = Snapshot { evictions: Some(1), ..snapshot(2, &[(8, counters(4, 9))]) };
        let difference = between(&earlier, &later, 300.0).unwrap();
        assert_eq!(difference.rows, [Grown { key: 8, by: counters(4, 9), lower_bound: true }]);
        assert_eq!(difference.vanished, 1);
    }

    /// Three consecutive readings of a server on which statements only ever appear and grow.
    fn three_readings() -> impl Strategy<Value = Vec<Vec<(u32, IndexCounters)>>> {
        let growth = || proptest::collection::btree_map(0u32..40, (0i64..1000, 0i64..100_000), 0..40);
        (growth(), growth(), growth()).prop_map(|steps| {
            let mut so_far: BTreeMap<u32, IndexCounters> = BTreeMap::new();
            [steps.0, steps.1, steps.2]
                .into_iter()
                .map(|step| {
                    for (key, (reads, entries)) in step {
                        let entry = so_far.entry(key).or_default();
                        *entry = entry.plus(&counters(reads, entries));
                    }
                    so_far.iter().map(|(key, counters)| (*key, *counters)).collect()
                })
                .collect()
        })
    }

    fn by_key(difference: &Difference<u32, IndexCounters>) -> BTreeMap<u32, IndexCounters> {
        difference.rows.iter().map(|row| (row.key, row.by)).collect()
    }

    proptest! {
        #[test]
        fn consecutive_periods_add_up_to_the_whole(readings in three_readings()) {
            let [a, b, c] = [0, 1, 2].map(|minute| snapshot(minute as i64, &readings[minute]));
            let mut summed = by_key(&between(&a, &b, 300.0).unwrap());
            for (key, by) in by_key(&between(&b, &c, 300.0).unwrap()) {
                let entry = summed.entry(key).or_default();
                *entry = entry.plus(&by);
            }
            prop_assert_eq!(summed, by_key(&between(&a, &c, 300.0).unwrap()));
        }

        #[test]
        fn never_negative_whatever_the_counters_do(
            then in proptest::collection::btree_map(0u32..20, (0i64..100, 0i64..100), 0..20),
            now in proptest::collection::btree_map(0u32..20, (0i64..100, 0i64..100), 0..20),
        ) {
            let rows = |map: BTreeMap<u32, (i64, i64)>| -> Vec<_> {
                map.into_iter().map(|(key, (reads, entries))| (key, counters(reads, entries))).collect()
            };
            let difference = between(&snapshot(0, &rows(then)), &snapshot(1, &rows(now)), 300.0).unwrap();
            for row in difference.rows {
                prop_assert!(row.by.values().iter().all(|value| *value >= 0));
            }
        }

        #[test]
        fn the_order_of_rows_does_not_matter(readings in three_readings(), turn in 0usize..40) {
            let straight = between(&snapshot(0, &readings[0]), &snapshot(1, &readings[1]), 300.0).unwrap();
            let mut turned = readings[1].clone();
            if !turned.is_empty() {
                let by = turn % turned.len();
                turned.rotate_left(by);
            }
            let turned = between(&snapshot(0, &readings[0]), &snapshot(1, &turned), 300.0).unwrap();
            prop_assert_eq!(by_key(&straight), by_key(&turned));
        }
    }
}
