//! A reading of counters that somebody named, with what its objects were called then: it can be held against another one
//! however long ago either was taken, and whatever else is kept.
//!
//! Laws, tested below: what lies between the first and the third is what lies between the first and the second and
//! between the second and the third.

use std::collections::{BTreeMap, HashMap};
use std::hash::Hash;

use serde::{Deserialize, Serialize};

use crate::readings::counters::Counters;
use crate::readings::difference::{NoDifference, Snapshot, between};
use crate::time::Timestamp;

/// Such a reading.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NamedReading<K, C> {
    /// The counters as they were read.
    pub snapshot: Snapshot<K, C>,
    /// What the object of each row was called, in their order; empty where that was not known.
    pub names: Vec<String>,
}

/// What objects did between two such readings.
#[derive(Debug, Clone, PartialEq)]
pub struct Between<C> {
    /// When the first was taken.
    pub from: Timestamp,
    /// When the second was taken.
    pub to: Timestamp,
    /// By name; those that did nothing are left out. Objects of one name, such as a statement of several accounts, are
    /// added up.
    pub rows: BTreeMap<String, C>,
    /// Whether some of that is only what could be seen.
    pub is_lower_bound: bool,
}

impl<C> Between<C> {
    /// Seconds between them.
    pub fn seconds(&self) -> f64 {
        self.to.seconds_since(self.from)
    }
}

impl<K: Eq + Hash + Clone, C: Counters> NamedReading<K, C> {
    /// What objects did from this reading to a later one, or why that is not known.
    pub fn until(&self, later: &Self) -> Result<Between<C>, NoDifference> {
        let difference = between(&self.snapshot, &later.snapshot, f64::INFINITY)?;
        let mut called: HashMap<&K, &str> = HashMap::new();
        for reading in [self, later] {
            let named = reading.snapshot.rows.iter().zip(&reading.names).filter(|(_, name)| !name.is_empty());
            called.extend(named.map(|((key, _), name)| (key, name.as_str())));
        }
        let mut rows: BTreeMap<String, C> = BTreeMap::new();
        for row in difference.rows.iter().filter(|row| !row.by.is_zero()) {
            let sum = rows.entry(called.get(&row.key).copied().unwrap_or_default().to_owned()).or_default();
            *sum = sum.plus(&row.by);
        }
        let is_lower_bound = difference.rows.iter().any(|row| row.lower_bound);
        Ok(Between { from: difference.from, to: difference.to, rows, is_lower_bound })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::counters::IndexCounters;
    use crate::readings::difference::Evictions;

    type Reading = NamedReading<u32, IndexCounters>;

    fn reading(second: i64, started: i64, rows: &[(u32, &str, i64)]) -> Reading {
        let at = |second: i64| Timestamp(second * 1_000_000);
        NamedReading {
            snapshot: Snapshot {
                at: at(second),
                server_started_at: at(started),
                crashed_at: None,
                reset_at: None,
                database_oid: 1,
                evictions: Evictions::Never,
                rows: rows
                    .iter()
                    .map(|(key, _, reads)| (*key, IndexCounters { reads: *reads, ..Default::default() }))
                    .collect(),
                traces: Vec::new(),
                gone: Vec::new(),
            },
            names: rows.iter().map(|(_, name, _)| (*name).to_owned()).collect(),
        }
    }

    fn reads(between: &Between<IndexCounters>) -> Vec<(&str, i64)> {
        between.rows.iter().map(|(name, by)| (name.as_str(), by.reads)).collect()
    }

    #[test]
    fn objects_are_told_by_the_names_that_they_had() {
        let before = reading(0, -9, &[(1, "berth_pkey", 10), (2, "deck_metres", 5), (3, "quay", 7)]);
        // One was renamed, one was dropped, one stood still, one is new and nobody knew its name.
        let after = reading(86_400 * 500, -9, &[(1, "berth_key", 14), (3, "quay", 7), (4, "", 2)]);
        let between = before.until(&after).unwrap();
        assert_eq!(reads(&between), [("", 2), ("berth_key", 4)]);
        assert_eq!(between.seconds(), 86_400.0 * 500.0);
        // What was written is read again, also where a later version counts more.
        let text = serde_json::to_string(&before).unwrap();
        let shorter = text.replace(",\"hit_pages\":0", "");
        assert!(shorter.len() < text.len());
        assert_eq!(serde_json::from_str::<Reading>(&shorter).unwrap(), before);
    }

    #[test]
    fn over_a_restart_nothing_is_told() {
        let before = reading(0, -9, &[(1, "quay", 10)]);
        assert_eq!(before.until(&reading(60, 30, &[(1, "quay", 12)])), Err(NoDifference::Restarted));
        assert_eq!(before.until(&before), Err(NoDifference::NotLater));
    }

    proptest! {
        #[test]
        fn parts_add_up_to_the_whole(grown in proptest::collection::vec((0i64..50, 0i64..50, 0i64..50), 1..20)) {
            let names: Vec<String> = (0..grown.len()).map(|n| format!("index_{}", n % 7)).collect();
            let at = |second: i64, sum: &dyn Fn(&(i64, i64, i64)) -> i64| {
                let rows: Vec<(u32, &str, i64)> =
                    grown.iter().enumerate().map(|(n, grown)| (n as u32, names[n].as_str(), sum(grown))).collect();
                reading(second, -9, &rows)
            };
            let (first, second, third) = (at(0, &|g| g.0), at(60, &|g| g.0 + g.1), at(120, &|g| g.0 + g.1 + g.2));
            let mut parts = first.until(&second).unwrap().rows;
            for (name, by) in second.until(&third).unwrap().rows {
                let sum = parts.entry(name).or_default();
                *sum = sum.plus(&by);
            }
            prop_assert_eq!(parts, first.until(&third).unwrap().rows);
        }
    }
}
