use super::LEAST_BUCKETS;
use crate::findings::lasting_change::Bucket;
use crate::time::{SECONDS_PER_DAY, Timestamp, Window};

/// Parts of a day that are told apart.
const PARTS_OF_DAY: usize = 48;
/// Hours are matched by so many parts on either side.
const PARTS_AROUND: usize = 2;

/// One family before and after a change.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct BeforeAfter {
    /// Its buckets before the change, on the level that the change was meant to better.
    pub before: Vec<Bucket>,
    /// Its buckets since the change was complete, up to the next that touches it.
    pub after: Vec<Bucket>,
}

impl BeforeAfter {
    /// What lies on either side of a change that was made within a window of time.
    ///
    /// Before it counts what came since the family was last on another level (`level_since`), without what passed
    /// meanwhile; after it what came until something else touched the family (`until`).
    pub fn of(
        buckets: &[Bucket],
        change: Window,
        level_since: Option<Timestamp>,
        passed: &[Window],
        until: Option<Timestamp>,
    ) -> BeforeAfter {
        let did_pass = |at: Timestamp| passed.iter().any(|window| at >= window.from && at < window.to);
        let is_before =
            |bucket: &&Bucket| bucket.at < change.from && level_since.is_none_or(|since| bucket.at >= since);
        let is_after = |bucket: &&Bucket| bucket.at >= change.to && until.is_none_or(|until| bucket.at < until);
        BeforeAfter {
            before: buckets.iter().filter(is_before).filter(|bucket| !did_pass(bucket.at)).copied().collect(),
            after: buckets.iter().filter(is_after).copied().collect(),
        }
    }

    /// Buckets with calls before and after.
    pub fn with_calls(&self) -> (usize, usize) {
        let count = |buckets: &[Bucket]| buckets.iter().filter(|bucket| bucket.calls > 0).count();
        (count(&self.before), count(&self.after))
    }

    /// The same, with those hours before that there are after: what runs by night says nothing of what runs by day.
    /// Where too few are left, all of them stay.
    pub fn matched(mut self) -> BeforeAfter {
        let mut is_after = [false; PARTS_OF_DAY];
        for bucket in &self.after {
            let part = part_of_day(bucket.at);
            for near in PARTS_OF_DAY + part - PARTS_AROUND..=PARTS_OF_DAY + part + PARTS_AROUND {
                is_after[near % PARTS_OF_DAY] = true;
            }
        }
        let is_matched = |bucket: &&Bucket| is_after[part_of_day(bucket.at)];
        let matched: Vec<Bucket> = self.before.iter().filter(is_matched).copied().collect();
        let enough = self.with_calls().1.max(LEAST_BUCKETS);
        if matched.iter().filter(|bucket| bucket.calls > 0).count() >= enough {
            self.before = matched;
        }
        self
    }
}

fn part_of_day(at: Timestamp) -> usize {
    let second = at.seconds_since(Timestamp(0)).rem_euclid(SECONDS_PER_DAY);
    (second / SECONDS_PER_DAY * PARTS_OF_DAY as f64) as usize % PARTS_OF_DAY
}

#[cfg(test)]
mod tests {
    use super::*;

    const HOUR: f64 = 3600.0;

    fn hours(from: usize, to: usize) -> Vec<Bucket> {
        let at = |hour: usize| Timestamp(0).plus_seconds(hour as f64 * HOUR);
        (from..to)
            .map(|hour| Bucket { at: at(hour), seconds: HOUR, calls: 10, exec_us: 10_000, rows: 0, pages: 0 })
            .collect()
    }

    fn hour(hour: usize) -> Timestamp {
        Timestamp(0).plus_seconds(hour as f64 * HOUR)
    }

    fn numbers(buckets: &[Bucket]) -> Vec<usize> {
        buckets.iter().map(|bucket| (bucket.at.seconds_since(Timestamp(0)) / HOUR) as usize).collect()
    }

    #[test]
    fn before_is_the_last_level_without_what_passed_and_after_ends_at_the_next_change() {
        let change = Window { from: hour(10), to: hour(12) };
        let passed = [Window { from: hour(6), to: hour(8) }];
        let sides = BeforeAfter::of(&hours(0, 20), change, Some(hour(4)), &passed, Some(hour(15)));
        assert_eq!(numbers(&sides.before), [4, 5, 8, 9]);
        assert_eq!(numbers(&sides.after), [12, 13, 14]);
        let all = BeforeAfter::of(&hours(0, 20), change, None, &[], None);
        assert_eq!((all.before.len(), all.after.len()), (10, 8));
    }

    #[test]
    fn the_hours_are_matched_where_there_are_enough() {
        // A change in the evening of the sixth day: the evenings before it count.
        let sides = BeforeAfter { before: hours(0, 140), after: hours(140, 145) }.matched();
        assert!(numbers(&sides.before).iter().all(|hour| (19..=25).contains(&(hour % 24)) || hour % 24 <= 1));
        assert!(sides.before.len() >= 30);
        // Of half a day before there are none: all of it counts.
        let short = BeforeAfter { before: hours(0, 12), after: hours(14, 20) };
        assert_eq!(short.clone().matched(), short);
    }
}
