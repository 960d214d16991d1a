use super::LEAST_BEFORE;
use super::follow::Look;
use crate::time::{SECONDS_PER_DAY, Timestamp, Window};

/// The newest buckets that are looked at with each that ends: three days of ten minutes.
pub const RECENT_BUCKETS: f64 = 432.0;
/// Of those, so many tell onsets: what lies before them shows what was usual.
const TELLING_BUCKETS: f64 = 288.0;
/// How often all of the history is looked at.
const LOOK_BACK_SECONDS: f64 = SECONDS_PER_DAY;
/// Its buckets, at the shortest.
const LOOK_BACK_BUCKET_SECONDS: i64 = 600;
/// What looking back does not find counts for so many rounds: it has all the figures there are.
const LOOK_BACK_ROUNDS: u32 = 4;
/// Onsets of one change may differ by so many buckets.
const TOLERANCE_BUCKETS: f64 = 3.0;

/// A way of looking at an instance: over which time, in which buckets, and which onsets that tells.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Way {
    /// What is looked at.
    pub window: Window,
    /// Length of a bucket.
    pub bucket_seconds: i64,
    tells: Window,
    rounds: u32,
}

impl Way {
    /// At the last days up to `to`, with each bucket that ends.
    pub fn recent(to: Timestamp, bucket_seconds: i64) -> Way {
        let before = |buckets: f64| Window { from: to.plus_seconds(-buckets * bucket_seconds as f64), to };
        Way { window: before(RECENT_BUCKETS), bucket_seconds, tells: before(TELLING_BUCKETS), rounds: 1 }
    }

    /// At everything kept since then: it tells the onsets that are too old for the other.
    pub fn back(since: Timestamp, to: Timestamp, bucket_seconds: i64) -> Way {
        Way {
            window: Window { from: since, to },
            bucket_seconds: bucket_seconds.max(LOOK_BACK_BUCKET_SECONDS),
            tells: Window { from: since, to: Way::recent(to, bucket_seconds).tells.from },
            rounds: LOOK_BACK_ROUNDS,
        }
    }

    /// The newest day of what is looked at, as far as that goes back.
    pub fn last_day(&self) -> Window {
        Window { from: self.window.from.max(self.window.to.plus_seconds(-SECONDS_PER_DAY)), to: self.window.to }
    }

    /// Whether it is time to look back again, after the last time, if any.
    pub fn is_back_due(last: Option<Timestamp>, to: Timestamp) -> bool {
        last.is_none_or(|last| to.seconds_since(last) >= LOOK_BACK_SECONDS)
    }

    /// The look itself, made at `at` at a history that begins at `start`; nothing where that tells no onset. What began
    /// before there was anything to compare with is told by nobody, and missed by nobody.
    pub fn look(&self, start: Timestamp, at: Timestamp) -> Option<Look> {
        let bucket_seconds = self.bucket_seconds as f64;
        let first = start.plus_seconds(LEAST_BEFORE as f64 * bucket_seconds);
        let tells = Window { from: self.tells.from.max(first), to: self.tells.to };
        let tolerance_seconds = TOLERANCE_BUCKETS * bucket_seconds;
        (tells.from < tells.to).then_some(Look { tells, at, tolerance_seconds, rounds: self.rounds })
    }
}

/// Length of the buckets that an onset was found in, where the shortest are so long: those of the last days.
pub fn found_in_seconds(onset: Timestamp, now: Timestamp, shortest: f64) -> f64 {
    let is_recent = now.seconds_since(onset) <= RECENT_BUCKETS * shortest;
    if is_recent { shortest } else { shortest.max(LOOK_BACK_BUCKET_SECONDS as f64) }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn day(days: f64) -> Timestamp {
        Timestamp(0).plus_seconds(days * 86_400.0)
    }

    #[test]
    fn each_onset_is_told_by_one_look() {
        let (recent, back) = (Way::recent(day(30.0), 600), Way::back(day(0.0), day(30.0), 600));
        let (recent, back) = (recent.look(day(27.0), day(30.0)).unwrap(), back.look(day(0.0), day(30.0)).unwrap());
        assert_eq!((back.tells.to, recent.tells.from), (recent.tells.from, day(28.0)));
        assert_eq!((back.tells.from, recent.tells.to), (day(1.0 / 24.0), day(30.0)));
        assert!(back.rounds > recent.rounds);
    }

    #[test]
    fn a_short_history_is_seen_in_full_by_the_recent_look() {
        let (start, to) = (day(29.5), day(30.0));
        assert_eq!(Way::back(day(0.0), to, 600).look(start, to), None);
        assert_eq!(Way::recent(to, 600).look(start, to).unwrap().tells.from, start.plus_seconds(3600.0));
        // An hour in buckets of ten seconds: looked back at in longer ones.
        assert_eq!(Way::back(day(29.0), to, 10).bucket_seconds, 600);
        assert_eq!(Way::recent(to, 10).last_day(), Way::recent(to, 10).window);
        assert_eq!(Way::recent(to, 600).last_day(), Window { from: day(29.0), to });
        assert_eq!(found_in_seconds(start, to, 10.0), 600.0);
        assert_eq!(found_in_seconds(to.plus_seconds(-60.0), to, 10.0), 10.0);
    }

    #[test]
    fn it_is_looked_back_at_first_and_then_once_a_day() {
        assert!(Way::is_back_due(None, day(3.0)) && Way::is_back_due(Some(day(2.0)), day(3.0)));
        assert!(!Way::is_back_due(Some(day(2.5)), day(3.0)));
    }
}
