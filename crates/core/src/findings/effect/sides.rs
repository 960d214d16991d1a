use super::{EFFECT_BUCKETS, LEAST_BUCKETS};
use crate::findings::lasting_change::{Bucket, LastingChange};
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

/// What else moved a family.
#[derive(Debug, Clone, Copy, Default)]
pub struct Moved<'a> {
    /// Its changes.
    pub changes: &'a [LastingChange],
    /// When something else that was done to it was last complete before the change.
    pub earlier: Option<Timestamp>,
    /// When something else was first done to it after the change.
    pub later: Option<Timestamp>,
}

impl BeforeAfter {
    /// What lies on either side of a change that was made within a window of time, in buckets of `bucket_seconds`.
    ///
    /// Before it counts what came since the family was last on another level, without what passed meanwhile; after it
    /// what came until something else moved the family, and no more than [`EFFECT_BUCKETS`].
    pub fn around(buckets: &[Bucket], made: Window, moved: &Moved, bucket_seconds: f64) -> BeforeAfter {
        let lasting = || moved.changes.iter().filter(|change| !change.passed).map(|change| change.onset);
        let apart = LEAST_BUCKETS as f64 * bucket_seconds;
        // The onset of what the change itself brought may be told a little too early.
        let is_before = |onset: &Timestamp| made.from.seconds_since(*onset) >= apart;
        let level_since = lasting().filter(is_before).chain(moved.earlier).max();
        let did_pass = |at: Timestamp| {
            let mut passed = moved.changes.iter().filter(|change| change.passed);
            passed.any(|change| at >= change.onset && change.until.is_some_and(|until| at < until))
        };
        let soonest = made.to.plus_seconds(apart);
        let moved_again = lasting().filter(|onset| *onset > soonest).min();
        let end = made.to.plus_seconds(EFFECT_BUCKETS * bucket_seconds);
        let until = moved.later.into_iter().chain(moved_again).fold(end, Timestamp::min);
        let is_on_level = |at: Timestamp| at < made.from && level_since.is_none_or(|since| at >= since);
        let of = |is_in: &dyn Fn(Timestamp) -> bool| -> Vec<Bucket> {
            buckets.iter().filter(|bucket| is_in(bucket.at)).copied().collect()
        };
        BeforeAfter { before: of(&|at| is_on_level(at) && !did_pass(at)), after: of(&|at| at >= made.to && at < until) }
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
    use crate::findings::lasting_change::test_change;

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
    fn before_is_the_last_level_without_what_passed_and_after_ends_when_something_else_moves_it() {
        let made = Window { from: hour(20), to: hour(22) };
        let passed = LastingChange { passed: true, until: Some(hour(12)), ..test_change(hour(10), 9.0) };
        let changes = [test_change(hour(8), 3.0), passed, test_change(hour(18), 0.1), test_change(hour(30), 2.0)];
        let around = |moved: Moved| BeforeAfter::around(&hours(0, 40), made, &moved, HOUR);
        let sides = around(Moved { changes: &changes, ..Moved::default() });
        // The one of hour 18 is too near to be another level, and may be what the change brought.
        assert_eq!(numbers(&sides.before), [8, 9, 12, 13, 14, 15, 16, 17, 18, 19]);
        assert_eq!(numbers(&sides.after), (22..30).collect::<Vec<_>>());
        let others = around(Moved { changes: &changes, earlier: Some(hour(15)), later: Some(hour(27)) });
        assert_eq!((numbers(&others.before)[0], numbers(&others.after).len()), (15, 5));
        let alone = around(Moved::default());
        assert_eq!((alone.before.len(), alone.after.len()), (20, 18));
    }

    #[test]
    fn a_day_after_it_is_the_end() {
        let made = Window { from: hour(5), to: hour(5) };
        let sides = BeforeAfter::around(&hours(0, 200), made, &Moved::default(), HOUR);
        assert_eq!(sides.after.len(), EFFECT_BUCKETS as usize);
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
