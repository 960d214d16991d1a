//! Rule 1: differences of cumulative counters. Nothing else in the program subtracts counters.
//!
//! A server's counters only grow, until it restarts or crashes, somebody resets them, a bounded list throws an entry
//! out, or an object goes and another takes its place. [`between`] takes two readings and answers with what happened
//! in between, or says why that cannot be known.
//!
//! Laws, tested in `model.rs` against a server that goes through all of this in any order: a difference is never
//! negative and never more than truly happened; over consecutive periods differences add up to the difference over
//! the whole (as long as nothing began anew); the order of rows does not matter.

mod row;

#[cfg(test)]
mod model;

use std::collections::HashMap;
use std::hash::Hash;

use serde::{Deserialize, Serialize};

use self::row::{Before, growth};
use crate::readings::counters::Counters;
use crate::time::Timestamp;

/// All counters of one kind as they were read at one moment.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Snapshot<K, C> {
    /// When they were read, by the watched server's clock.
    pub at: Timestamp,
    /// When the server that kept them was started; the same in all snapshots until it starts anew.
    pub server_started_at: Timestamp,
    /// Since when the server has counted without a crash, where it tells. A crash of one of its processes sets all
    /// counters to zero without a new start.
    pub crashed_at: Option<Timestamp>,
    /// When they were last reset as a whole, where the server tells.
    pub reset_at: Option<Timestamp>,
    /// The server's number of the database that the objects are of; 0 for those of the whole server.
    pub database_oid: u32,
    /// Whether the list that they are kept in is bounded.
    pub evictions: Evictions,
    /// The counters by object. Each object occurs once.
    pub rows: Vec<(K, C)>,
    /// By what each row, in the same order, is known to be the one that it was; empty where only its key tells.
    pub traces: Vec<Trace>,
    /// What has gone of figures that fell, and may come back: then it was not counted twice. See [`followed`].
    pub gone: Vec<(K, C)>,
}

/// Whether the server throws entries out of a list that it keeps counters in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub enum Evictions {
    /// It does not.
    Never,
    /// How often it has done so.
    Times(i64),
    /// It may, and does not tell.
    Untold,
}

/// By what a row is known to be the one that it was.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub enum Trace {
    /// When the server began to count it.
    Began(Timestamp),
    /// Its largest figure of one call, which never falls. The same again says that the row is the same, too: for times
    /// in nanoseconds, as no two calls take equally long.
    Largest(i64),
    /// A number that stands for name and definition. One that moves to another key takes its counts along.
    Name(i64),
}

/// What happened between two snapshots.
#[derive(Debug, Clone, PartialEq)]
pub struct Difference<K, C> {
    /// When the earlier snapshot was read.
    pub from: Timestamp,
    /// When the later one was read.
    pub to: Timestamp,
    /// The objects whose counters moved, and those of which it is not known whether they did.
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
    /// By how much; never negative. A figure of which it is not known adds nothing.
    pub by: C,
    /// Whether that is all, or only what could still be seen: the entry began anew from zero inside the period, may
    /// have done so, took over what another one had counted, or has a figure that fell.
    pub lower_bound: bool,
}

/// Why there is no difference between two snapshots.
#[derive(Debug, Clone, Copy, PartialEq, thiserror::Error)]
pub enum NoDifference {
    /// The snapshots are in the wrong order or of the same moment, as after a clock was set back.
    #[error("not later: the second reading was not taken after the first")]
    NotLater,
    /// The objects of one are not those of the other.
    #[error("another database: the readings are of two databases")]
    AnotherDatabase,
    /// The server was restarted in between.
    #[error("restarted: the server started anew in between")]
    Restarted,
    /// One of the server's processes crashed in between.
    #[error("crashed: a process of the server crashed in between, and all counters began anew")]
    Crashed,
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
    /// Since when the counters count, as far as the server tells: they began anew with a crash or a reset.
    pub fn counted_since(&self) -> Option<Timestamp> {
        self.crashed_at.max(self.reset_at)
    }

    /// Counters of the whole server that nothing more is known of.
    pub fn new(at: Timestamp, server_started_at: Timestamp, rows: Vec<(K, C)>) -> Self {
        Snapshot {
            at,
            server_started_at,
            crashed_at: None,
            reset_at: None,
            database_oid: 0,
            evictions: Evictions::Never,
            rows,
            traces: Vec::new(),
            gone: Vec::new(),
        }
    }

    /// Whether counters were set back after the earlier reading: a crash or a reset whose time moved past it, or is
    /// gone. One that only became known is none.
    pub fn is_reset_since(&self, earlier: &Snapshot<K, C>) -> bool {
        let moved = |now: Option<Timestamp>, then| now != then && now.is_none_or(|now| now > earlier.at);
        moved(self.reset_at, earlier.reset_at) || self.is_crashed_since(earlier)
    }

    fn is_crashed_since(&self, earlier: &Snapshot<K, C>) -> bool {
        self.crashed_at != earlier.crashed_at && self.crashed_at.is_none_or(|crashed| crashed > earlier.at)
    }

    fn trace(&self, row: usize) -> Option<Trace> {
        self.traces.get(row).copied()
    }
}

/// The difference between two snapshots at most `limit_seconds` apart, or why there is none.
///
/// An object that only the later snapshot has counts from zero, unless it took over what another one of its name had
/// counted. Linear in the rows of both snapshots.
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
    if later.database_oid != earlier.database_oid {
        return Err(NoDifference::AnotherDatabase);
    }
    if later.server_started_at != earlier.server_started_at {
        return Err(NoDifference::Restarted);
    }
    if later.is_crashed_since(earlier) {
        return Err(NoDifference::Crashed);
    }
    if later.is_reset_since(earlier) {
        return Err(NoDifference::Reset);
    }
    let seconds = later.at.seconds_since(earlier.at);
    if seconds > limit_seconds {
        return Err(NoDifference::GapTooLong { seconds, limit_seconds });
    }

    let before = Before::new(earlier, later);
    let (mut found_again, mut last) = (0, None);
    let mut rows = Vec::new();
    for (place, (key, now)) in later.rows.iter().enumerate() {
        let row = before.find(key, last);
        found_again += usize::from(row.is_some());
        last = row.or(last);
        let grown = growth(&before, row, later.trace(place), (key, now));
        if grown.lower_bound || !grown.by.is_zero() {
            rows.push(grown);
        }
    }
    Ok(Difference { from: earlier.at, to: later.at, rows, vanished: earlier.rows.len() - found_again })
}

/// Objects of the later snapshot that have the name and definition of one that the earlier one has under another key,
/// with that key.
pub fn replaced<K, C>(earlier: &Snapshot<K, C>, later: &Snapshot<K, C>) -> HashMap<K, K>
where
    K: Eq + Hash + Clone,
{
    let named = |snapshot: &Snapshot<K, C>| -> HashMap<i64, K> {
        let name = |(trace, (key, _)): (&Trace, &(K, C))| match trace {
            Trace::Name(name) => Some((*name, key.clone())),
            _ => None,
        };
        snapshot.traces.iter().zip(&snapshot.rows).filter_map(name).collect()
    };
    let before = named(earlier);
    let moved = |(name, key): (i64, K)| before.get(&name).filter(|was| **was != key).map(|was| (key, was.clone()));
    named(later).into_iter().filter_map(moved).collect()
}

/// The later snapshot with what has gone of its figures since the earlier one or before. Whoever takes differences
/// one after the other keeps this.
///
/// Some versions show the counts of an index that was built anew only a while after it took its place, and those of
/// its table go with them: they fall, and are back as they were one or two readings later.
pub fn followed<K, C>(earlier: &Snapshot<K, C>, mut later: Snapshot<K, C>) -> Snapshot<K, C>
where
    K: Eq + Hash + Clone,
    C: Counters,
{
    // Entries of a bounded list do begin anew. Counts outlive a clean restart, and nothing outlives a crash.
    if later.evictions == Evictions::Never
        && later.at > earlier.at
        && later.database_oid == earlier.database_oid
        && !later.is_crashed_since(earlier)
    {
        let is_reset = later.is_reset_since(earlier);
        let before = Before::new(earlier, &later);
        let (mut all, mut last) = (Vec::new(), None);
        for (place, (key, now)) in later.rows.iter().enumerate() {
            let row = before.find(key, last);
            last = row.or(last);
            let gone = before.gone_after(row, later.trace(place), (key, now), is_reset);
            all.extend(gone.into_iter().map(|amount| (key.clone(), amount)));
        }
        later.gone = all;
    }
    later
}

#[cfg(test)]
mod tests {
    use std::collections::BTreeMap;

    use proptest::prelude::*;

    use super::*;
    use crate::readings::counters::{IndexCounters, TableCounters};

    const MINUTE: i64 = 60_000_000;

    fn counters(reads: i64, read_entries: i64) -> IndexCounters {
        IndexCounters { reads, read_entries, ..Default::default() }
    }

    fn snapshot(minute: i64, rows: &[(u32, IndexCounters)]) -> Snapshot<u32, IndexCounters> {
        Snapshot {
            reset_at: Some(Timestamp(0)),
            crashed_at: Some(Timestamp(0)),
            evictions: Evictions::Times(0),
            ..Snapshot::new(Timestamp(minute * MINUTE), Timestamp(0), rows.to_vec())
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
        let restarted = Snapshot { server_started_at: Timestamp(MINUTE + 5_000_000), ..later.clone() };
        let reset = Snapshot { reset_at: Some(Timestamp(MINUTE + 1)), ..later.clone() };
        assert_eq!(between(&earlier, &restarted, 300.0), Err(NoDifference::Restarted));
        let crashed = Snapshot { crashed_at: Some(Timestamp(MINUTE + 1)), ..reset.clone() };
        let elsewhere = Snapshot { database_oid: 7, ..later.clone() };
        assert_eq!(between(&earlier, &reset, 300.0), Err(NoDifference::Reset));
        assert_eq!(between(&earlier, &crashed, 300.0), Err(NoDifference::Crashed));
        assert_eq!(between(&earlier, &elsewhere, 300.0), Err(NoDifference::AnotherDatabase));
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
        let later = Snapshot { evictions: Evictions::Times(1), ..snapshot(2, &[(8, counters(4, 9))]) };
        let difference = between(&earlier, &later, 300.0).unwrap();
        assert_eq!(difference.rows, [Grown { key: 8, by: counters(4, 9), lower_bound: true }]);
        assert_eq!(difference.vanished, 1);
    }

    #[test]
    fn an_entry_that_came_back_with_more_than_it_had_is_noticed() {
        let traced = |minute: i64, evictions: i64, trace: Trace, counts: IndexCounters| Snapshot {
            evictions: Evictions::Times(evictions),
            traces: vec![trace],
            ..snapshot(minute, &[(7, counts)])
        };
        let one = |earlier: Snapshot<u32, IndexCounters>, later| {
            let difference = between(&earlier, &later, 300.0).unwrap();
            difference.rows.into_iter().map(|row| (row.by.reads, row.lower_bound)).next()
        };
        let (then, now) = (counters(10, 100), counters(14, 160));
        let began = |second: i64| Trace::Began(Timestamp(second * 1_000_000));
        assert_eq!(one(traced(1, 0, began(3), then), traced(2, 1, began(3), now)), Some((4, false)));
        assert_eq!(one(traced(1, 0, began(3), then), traced(2, 1, began(70), now)), Some((14, true)));
        let largest = Trace::Largest;
        assert_eq!(one(traced(1, 0, largest(90), then), traced(2, 1, largest(90), now)), Some((4, false)));
        assert_eq!(one(traced(1, 0, largest(90), then), traced(2, 1, largest(85), now)), Some((14, true)));
        // A larger one than before says nothing: it may be the same entry, or not.
        assert_eq!(one(traced(1, 0, largest(90), then), traced(2, 1, largest(95), now)), Some((4, true)));
        assert_eq!(one(traced(1, 0, largest(90), then), traced(2, 0, largest(95), now)), Some((4, false)));
    }

    fn table(full_reads: i64, index_reads: i64) -> TableCounters {
        TableCounters { full_reads, index_reads, ..Default::default() }
    }

    #[test]
    fn a_figure_that_falls_alone_is_not_known_and_not_counted_twice_when_it_comes_back() {
        let at = |minute, counts| Snapshot::new(Timestamp(minute * MINUTE), Timestamp(0), vec![(7u32, counts)]);
        let grown = |earlier: &_, later: &_| {
            between(earlier, later, 300.0).unwrap().rows.first().map(|row| (row.by, row.lower_bound))
        };
        let before = at(1, table(50, 900));
        // One of its indexes is dropped, with 800 of the reads; the table itself is read on.
        let dropped = followed(&before, at(2, table(53, 120)));
        assert_eq!(grown(&before, &dropped), Some((table(3, 0), true)));
        assert_eq!(dropped.gone, [(7, table(0, 780))]);
        let on = followed(&dropped, at(3, table(53, 150)));
        assert_eq!(grown(&dropped, &on), Some((table(0, 30), false)));
        // As where a server shows the counts of an index that was built anew only after a while.
        let back = followed(&on, at(4, table(60, 150 + 780 + 10)));
        assert_eq!(grown(&on, &back), Some((table(7, 10), true)));
        assert_eq!(back.gone, []);
        assert_eq!(grown(&back, &at(5, table(60, 945))), Some((table(0, 5), false)));
    }

    #[test]
    fn an_index_built_anew_takes_its_counts_along_and_they_are_counted_once() {
        let at = |minute: i64, rows: &[(u32, i64, i64)]| Snapshot {
            traces: rows.iter().map(|(_, name, _)| Trace::Name(*name)).collect(),
            ..Snapshot::new(
                Timestamp(minute * MINUTE),
                Timestamp(0),
                rows.iter().map(|(oid, _, reads)| (*oid, counters(*reads, 0))).collect(),
            )
        };
        let reads = |earlier: &Snapshot<u32, IndexCounters>, later: &_| -> Vec<(u32, i64)> {
            between(earlier, later, 300.0).unwrap().rows.iter().map(|row| (row.key, row.by.reads)).collect()
        };
        let name = 1;
        let before = at(1, &[(70, name, 100)]);
        let after = at(2, &[(71, name, 104)]);
        assert_eq!(reads(&before, &after), [(71, 4)]);
        assert_eq!(reads(&after, &at(3, &[(71, name, 110)])), [(71, 6)]);
        // Some versions show what it takes over only a while later.
        let empty = followed(&before, at(2, &[(71, name, 0)]));
        assert_eq!(reads(&before, &empty), []);
        assert_eq!(reads(&empty, &at(3, &[(71, name, 107)])), [(71, 7)]);
        // Dropped and made anew, it begins at zero.
        assert_eq!(reads(&before, &at(2, &[(72, name, 9)])), [(72, 9)]);
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
