//! Since when an index has been watched, and since when nobody has read it.
//!
//! A server's own count does not tell: it does not know when the index was made, and a crash sets it to zero. So each
//! reading is held against the one before. A count that stood still
//! between two readings without a reset says that nobody read the index meanwhile, however long that was; anything
//! else begins the time anew.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::readings::counters::IndexCounters;
use crate::readings::difference::{Snapshot, replaced};
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// Days of a whole cycle of the business where nothing else is said: a month end lies within. For so long an index must
/// have been watched before anything is said about its use.
pub const USUAL_CYCLE_DAYS: u16 = 35;

/// How long an index has been watched.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct IndexWatch {
    /// The first reading that showed it.
    pub seen_since: Timestamp,
    /// The reading since which its count of reads stood still.
    pub unread_since: Timestamp,
}

impl IndexWatch {
    /// Seconds for which nobody has read it, as far as it was watched.
    pub fn unread_seconds(&self, now: Timestamp) -> f64 {
        now.seconds_since(self.unread_since.max(self.seen_since)).max(0.0)
    }
}

/// How long the indexes of an instance have been watched, on every server that has them.
#[derive(Debug, Clone, PartialEq)]
pub struct IndexUse {
    /// Days of a whole cycle of the business.
    pub cycle_days: u16,
    /// On the instance itself.
    pub here: HashMap<u32, IndexWatch>,
    /// On each watched server that has the same indexes: its primary, or its replicas.
    pub elsewhere: Vec<HashMap<u32, IndexWatch>>,
    /// Servers that have the same indexes and are not watched.
    pub unwatched: usize,
}

impl Default for IndexUse {
    fn default() -> Self {
        IndexUse { cycle_days: USUAL_CYCLE_DAYS, here: HashMap::new(), elsewhere: Vec::new(), unwatched: 0 }
    }
}

impl IndexUse {
    /// Seconds of a whole cycle of the business.
    pub fn cycle_seconds(&self) -> f64 {
        f64::from(self.cycle_days) * SECONDS_PER_DAY
    }

    /// How many servers with the same data are not watched, from how many primaries and replicas are, and how many
    /// replicas are connected to any of these. A primary there always is; replicas of replicas are connected, too.
    pub fn count_unwatched(primaries: usize, replicas: usize, connected: usize) -> usize {
        connected.saturating_sub(replicas) + usize::from(primaries == 0)
    }

    /// Whether an index has been seen for the whole cycle of the business.
    pub fn is_seen_for_a_cycle(&self, oid: u32, now: Timestamp) -> bool {
        self.here.get(&oid).is_some_and(|watch| now.seconds_since(watch.seen_since) >= self.cycle_seconds())
    }

    /// Whether every watched server that has the instance's data has shown the index at its last reading.
    pub fn is_known_everywhere(&self, oid: u32) -> bool {
        self.elsewhere.iter().chain([&self.here]).all(|server| server.contains_key(&oid))
    }

    /// Seconds for which nobody has read an index on any watched server that has it.
    pub fn unread_seconds(&self, oid: u32, now: Timestamp) -> f64 {
        let on = |server: &HashMap<u32, IndexWatch>| server.get(&oid).map_or(0.0, |watch| watch.unread_seconds(now));
        self.elsewhere.iter().map(on).fold(on(&self.here), f64::min)
    }
}

/// How long each index of the later reading has been watched, from what was known at the earlier one. Indexes that
/// went are forgotten; one that took another's place with its counts is watched on, any other under a new number begins
/// anew. Linear in both readings.
pub fn follow(
    known: &HashMap<u32, IndexWatch>,
    earlier: Option<&Snapshot<u32, IndexCounters>>,
    later: &Snapshot<u32, IndexCounters>,
) -> HashMap<u32, IndexWatch> {
    // Counts outlive a clean restart; a crash moves a reset time.
    let goes_on = |earlier: &&Snapshot<u32, IndexCounters>| !later.is_reset_since(earlier) && later.at > earlier.at;
    let before: HashMap<u32, i64> = earlier
        .filter(goes_on)
        .map(|earlier| earlier.rows.iter().map(|(oid, counters)| (*oid, counters.reads)).collect())
        .unwrap_or_default();
    let replaced: HashMap<u32, u32> = earlier.map(|earlier| replaced(earlier, later)).unwrap_or_default();
    let watch = |(oid, counters): &(u32, IndexCounters)| {
        // Made anew without its counts, it is another one.
        let took_over =
            |was: &&u32| counters.reads > 0 && before.get(was).is_some_and(|reads| counters.reads >= *reads);
        let was = replaced.get(oid).filter(took_over).unwrap_or(oid);
        let known = known.get(was);
        let stood_still = before.get(was) == Some(&counters.reads);
        let unread_since = known.filter(|_| stood_still).map_or(later.at, |known| known.unread_since);
        let seen_since = known.map_or(later.at, |known| known.seen_since);
        (*oid, IndexWatch { seen_since, unread_since })
    };
    later.rows.iter().map(watch).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::difference::Trace;

    fn day(day: f64) -> Timestamp {
        Timestamp(0).plus_seconds(day * SECONDS_PER_DAY)
    }

    fn reading(at: f64, reset_at: Option<f64>, rows: &[(u32, i64)]) -> Snapshot<u32, IndexCounters> {
        let row = |(oid, reads): &(u32, i64)| (*oid, IndexCounters { reads: *reads, ..Default::default() });
        Snapshot { reset_at: reset_at.map(day), ..Snapshot::new(day(at), Timestamp(0), rows.iter().map(row).collect()) }
    }

    fn followed(readings: &[Snapshot<u32, IndexCounters>]) -> HashMap<u32, IndexWatch> {
        let mut known = HashMap::new();
        for (at, later) in readings.iter().enumerate() {
            known = follow(&known, at.checked_sub(1).map(|before| &readings[before]), later);
        }
        known
    }

    #[test]
    fn an_index_is_unread_only_for_as_long_as_it_was_watched() {
        // On a server whose counters began 400 days ago, an index that was made today.
        let watch = followed(&[reading(400.0, Some(0.0), &[(1, 0)]), reading(401.0, Some(0.0), &[(1, 0), (2, 0)])]);
        assert_eq!(watch[&1], IndexWatch { seen_since: day(400.0), unread_since: day(400.0) });
        assert_eq!(watch[&2].seen_since, day(401.0));
        assert_eq!(watch[&1].unread_seconds(day(402.0)), 2.0 * SECONDS_PER_DAY);
    }

    #[test]
    fn a_read_a_reset_and_a_crash_begin_anew() {
        let read =
            followed(&[reading(1.0, None, &[(1, 7)]), reading(2.0, None, &[(1, 8)]), reading(3.0, None, &[(1, 8)])]);
        assert_eq!(read[&1], IndexWatch { seen_since: day(1.0), unread_since: day(2.0) });
        let reset = followed(&[reading(1.0, Some(0.0), &[(1, 0)]), reading(2.0, Some(1.5), &[(1, 0)])]);
        assert_eq!(reset[&1].unread_since, day(2.0), "it may have been read before the counts were set back");
        let lower = followed(&[reading(1.0, None, &[(1, 7)]), reading(2.0, None, &[(1, 0)])]);
        assert_eq!(lower[&1].unread_since, day(2.0));
    }

    #[test]
    fn an_index_built_anew_is_watched_on_and_one_made_again_is_not() {
        let named = |at, rows: &[(u32, i64)]| Snapshot { traces: vec![Trace::Name(7)], ..reading(at, None, rows) };
        let rebuilt = followed(&[named(1.0, &[(1, 9)]), named(2.0, &[(2, 9)])]);
        assert_eq!(rebuilt, HashMap::from([(2, IndexWatch { seen_since: day(1.0), unread_since: day(1.0) })]));
        let made_again = followed(&[named(1.0, &[(1, 9)]), named(2.0, &[(2, 0)])]);
        assert_eq!(made_again[&2].seen_since, day(2.0));
    }

    #[test]
    fn a_cycle_is_whole_after_a_month_end() {
        let here = HashMap::from([(1, IndexWatch { seen_since: day(0.0), unread_since: day(0.0) })]);
        let watched = IndexUse { here, ..IndexUse::default() };
        assert!(!watched.is_seen_for_a_cycle(1, day(34.9)) && watched.is_seen_for_a_cycle(1, day(35.0)));
        let quarterly = IndexUse { cycle_days: 95, ..watched };
        assert!(!quarterly.is_seen_for_a_cycle(1, day(94.0)) && quarterly.is_seen_for_a_cycle(1, day(95.0)));
    }

    proptest! {
        /// Whatever happens between readings, nobody is said not to have read what was read.
        #[test]
        fn what_was_read_is_never_called_unread(
            steps in proptest::collection::vec((0i64..3, any::<bool>()), 1..30),
        ) {
            let (mut count, mut reset_at, mut last_read) = (0, None, 0.0);
            let mut readings = vec![reading(0.0, None, &[(1, 0)])];
            for (step, (reads, crashes)) in steps.iter().enumerate() {
                let at = step as f64 + 1.0;
                count += reads;
                if *reads > 0 {
                    last_read = at - 0.75;
                }
                if *crashes {
                    (count, reset_at) = (0, Some(at - 0.5));
                }
                readings.push(reading(at, reset_at, &[(1, count)]));
            }
            let watch = followed(&readings);
            prop_assert!(watch[&1].unread_since >= day(last_read));
        }
    }
}
