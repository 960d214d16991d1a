//! Rule 4: lasting changes of statements, waits and metrics ([`measured`]).
//!
//! What is measured is looked at in equal buckets of time ([`observed`]), on a log scale, so that "twice as slow" is the
//! same step at any speed. Wild buckets are drawn in ([`points`]), what comes back each day and week is taken off
//! ([`pattern`]), noise is judged by its long-run variance ([`noise`]), and the series is cut into levels
//! ([`segments`], [`levels`]). Where one level goes over into the next is told to the bucket, with its own interval,
//! by [`onset`] or, where it took its time, by [`ramp`].
//!
//! What was left and found again within days passed: it is told as such, and its end is no improvement. What lasts
//! must be large, sure, and matter to the instance. Over all families together ([`instance`]), what moves nearly all of
//! them is told of the server as a whole ([`whole_server`]) and not of each, and [`discoveries`] keeps the share of
//! changes that are none at 5 %. What is kept of a change tells what more figures made of it ([`story`]).

mod answer;
mod described;
mod discoveries;
mod follow;
mod instance;
mod levels;
mod measured;
mod noise;
mod observed;
mod onset;
mod pattern;
mod points;
mod ramp;
mod remembered;
mod segments;
mod story;
mod turn;
mod way;
mod whole_server;

use serde::{Deserialize, Serialize};

use crate::time::Timestamp;
use described::Looked;

pub use answer::Answer;
pub use follow::{Followed, Look, follow};
pub use instance::{InstanceChanges, Patterns, changes_of_instance};
pub use measured::{Measured, Subject};
pub(in crate::findings) use noise::Noise;
pub use observed::{FamilySeries, Observed, ServerSeries, WaitSeries};
pub(in crate::findings) use pattern::effects;
pub(in crate::findings) use points::{Point, tame};
pub use remembered::Remembered;
pub use story::{Entry, Kept, Turnout};
pub use way::{RECENT_BUCKETS, Way, found_in_seconds};

/// What began within so many seconds of each other may have to do with each other.
const NEAR_SECONDS: f64 = 3600.0;
/// Buckets with calls that each side of a change must have.
pub const LEAST_BUCKETS: usize = 5;
/// So many buckets must lie before an onset: when a server is first seen, its caches and ours are still cold.
const LEAST_BEFORE: usize = 6;
/// What is less than this factor away from a level is back on it.
pub const LEAST_RATIO: f64 = 1.2;

/// How large a change must be to be told.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Thresholds {
    /// Smallest step that counts: more by this factor, or less by it.
    pub least_ratio: f64,
    /// Smallest share of the instance's time that it must change.
    pub least_share: f64,
}

/// A family is looked at where it takes this part of the least share that counts on one day at least.
const LOOKED_AT_FROM: f64 = 0.2;

impl Thresholds {
    /// The share of one day's time that a family must have taken to be looked at.
    pub fn least_of_a_day(&self) -> f64 {
        LOOKED_AT_FROM * self.least_share
    }
}

impl Default for Thresholds {
    /// A fifth, and half a per cent.
    fn default() -> Self {
        Thresholds { least_ratio: LEAST_RATIO, least_share: 0.005 }
    }
}

/// What a family did in one bucket of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Bucket {
    /// Start of the bucket.
    pub at: Timestamp,
    /// Seconds of the bucket that were observed.
    pub seconds: f64,
    /// Calls that ended in it.
    pub calls: i64,
    /// Time they took, in microseconds.
    pub exec_us: i64,
    /// Rows they returned or changed.
    pub rows: i64,
    /// Pages they touched, in cache or out of it.
    pub pages: i64,
}

/// A number and the interval in which it lies with 95 % confidence.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Interval {
    /// Best estimate.
    pub value: f64,
    /// Lower end.
    pub low: f64,
    /// Upper end.
    pub high: f64,
}

/// Figures of the family on one side of a change.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Side {
    /// Typical value of what is measured, in its unit: weighted median over the buckets.
    #[serde(alias = "typical_ms")]
    pub typical: f64,
    /// A quarter of the buckets lay below this.
    #[serde(alias = "quarter_ms")]
    pub quarter: f64,
    /// A quarter of the buckets lay above this.
    #[serde(alias = "three_quarters_ms")]
    pub three_quarters: f64,
    /// Calls per second.
    pub calls_per_second: f64,
    /// Rows per call.
    pub rows_per_call: f64,
    /// Pages per call.
    pub pages_per_call: f64,
    /// Seconds that were observed.
    pub seconds: f64,
}

/// A change of something that is measured.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct LastingChange {
    /// When it began: start of the first bucket on the new level.
    pub onset: Timestamp,
    /// Between when and when it began, with 95 % confidence; nothing where it was found by an earlier version.
    #[serde(default)]
    pub onset_between: Option<(Timestamp, Timestamp)>,
    /// When it ended: a later change brought the time per call back, or it passed. Nothing while it holds.
    pub until: Option<Timestamp>,
    /// Whether it passed: within days the time per call was back on its old level. Such a change did not last.
    #[serde(default)]
    pub passed: bool,
    /// New level ÷ old; above 1 is more, of time per call slower.
    pub ratio: Interval,
    /// Before the onset.
    pub before: Side,
    /// Since the onset.
    pub after: Side,
    /// Change of the time per second that comes from slower or faster calls, in seconds per second; of waits, from
    /// longer or shorter ones; of load, its own.
    pub from_time_per_call: f64,
    /// Change of the time per second that comes from more or fewer calls, in seconds per second.
    pub from_calls: f64,
    /// Chance that noise alone shows a step this sure; 0 where it was found by an earlier version.
    #[serde(default)]
    pub chance: f64,
}

impl LastingChange {
    /// What it changes of the instance's time, in seconds per second: by calls that take or wait longer, or by more of
    /// them. Nobody can say it of a metric, and of rows and pages the time per call tells it already.
    pub fn cost(&self, measured: Measured) -> Option<f64> {
        match measured {
            Measured::TimePerCall | Measured::Waits | Measured::Load => Some(self.from_time_per_call),
            Measured::Calls => Some(self.from_calls),
            Measured::RowsPerCall | Measured::PagesPerCall | Measured::Metric => None,
        }
    }

    /// The same without its sign, as long as it holds; nothing once it is over.
    pub fn weight(&self, measured: Measured) -> f64 {
        self.cost(measured).filter(|_| self.until.is_none()).unwrap_or_default().abs()
    }

    /// Whether it may have begun together with what began at a moment: within an hour of it, or its own interval holds it.
    pub fn began_near(&self, at: Timestamp) -> bool {
        let within = |(from, to): (Timestamp, Timestamp)| from <= at && at <= to;
        self.onset.seconds_since(at).abs() <= NEAR_SECONDS || self.onset_between.is_some_and(within)
    }

    /// Whether it is for more of what is measured, and holds.
    pub fn is_more(&self) -> bool {
        self.until.is_none() && self.ratio.value > 1.0
    }

    /// Whether it asks for attention: it holds, and nobody has settled it.
    pub fn asks(&self, answer: Option<Answer>) -> bool {
        self.until.is_none() && !answer.is_some_and(Answer::settles)
    }

    /// The level that it brought, in the unit of what is measured.
    fn level(&self) -> f64 {
        self.before.typical * self.ratio.value
    }

    /// Whether a later level is back where this one came from, or beyond.
    fn is_over_at(&self, level: f64) -> bool {
        let before = self.before.typical;
        if self.ratio.value > 1.0 { level < before * LEAST_RATIO } else { level > before / LEAST_RATIO }
    }
}

/// The changes of a family's time per call that were large and sure, in order of time: those that last, and those that
/// passed. One that lasts holds until a later one brings the time per call back to where it was; its figures are those up
/// to the next.
///
/// `bucket_seconds` is the length of each bucket, and `instance_seconds_per_second` the time of all statements of the
/// instance per second, against which the change is judged. Buckets without calls say nothing about time per call and
/// are passed over. About linear in the buckets, n² of the blocks at worst.
pub fn lasting_changes(
    buckets: &[Bucket],
    bucket_seconds: f64,
    instance_seconds_per_second: f64,
) -> Vec<LastingChange> {
    let family = FamilySeries { family: 0, buckets: buckets.to_vec(), waits: Vec::new() };
    let start = buckets.first().map_or(Timestamp(0), |first| first.at);
    let observed = Observed { start, bucket_seconds, ..Observed::default() };
    let observed = Observed { families: vec![family], ..observed };
    let thresholds = Thresholds::default();
    let looked = Looked { observed: &observed, thresholds, instance_seconds_per_second, count: observed.count() };
    let family = &observed.families[0];
    let values = observed.values(family, Measured::TimePerCall);
    let subject = Subject::of(Some(0), Measured::TimePerCall);
    with_ends(looked.changes(&subject, &family.buckets, &values, |_| 0.0).changes)
}

/// A change holds until a later one that lasts brings the level back to where it was before it: less than
/// [`LEAST_RATIO`] away from that, or beyond. What repairs half of a slowdown leaves a slowdown.
fn with_ends(mut changes: Vec<LastingChange>) -> Vec<LastingChange> {
    let levels: Vec<(Timestamp, f64)> =
        changes.iter().filter(|change| !change.passed).map(|change| (change.onset, change.level())).collect();
    for change in changes.iter_mut().filter(|change| !change.passed) {
        let mut later = levels.iter().filter(|(onset, _)| *onset > change.onset);
        change.until = later.find(|(_, level)| change.is_over_at(*level)).map(|(onset, _)| *onset);
    }
    changes
}

/// Since when the costliest slowdown holds that is not over, of all changes of an instance; nothing
/// without one. What is to be done about it is judged by what came after.
pub fn costliest_slowdown_since<'a>(changes: impl Iterator<Item = &'a LastingChange>) -> Option<Timestamp> {
    changes
        .filter(|change| change.is_more())
        .max_by(|a, b| a.from_time_per_call.total_cmp(&b.from_time_per_call))
        .map(|change| change.onset)
}

/// A change for tests of several rules: from this onset on, so many times as long.
#[cfg(test)]
pub(crate) fn test_change(onset: Timestamp, ratio: f64) -> LastingChange {
    let side = Side {
        typical: 1.0,
        quarter: 1.0,
        three_quarters: 1.0,
        calls_per_second: 1.0,
        rows_per_call: 1.0,
        pages_per_call: 1.0,
        seconds: 600.0,
    };
    LastingChange {
        onset,
        onset_between: None,
        until: None,
        passed: false,
        ratio: Interval { value: ratio, low: ratio * 0.9, high: ratio * 1.1 },
        before: side,
        after: side,
        from_time_per_call: 1.0,
        from_calls: 0.0,
        chance: 0.0,
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::findings::robust::SeededRng;

    const TEN_MINUTES: i64 = 600_000_000;

    /// Buckets whose time per call is `level(i)` times a noise of about `spread`.
    fn series(count: usize, spread: f64, seed: u64, level: impl Fn(usize) -> f64) -> Vec<Bucket> {
        let mut rng = SeededRng::new(seed);
        (0..count)
            .map(|i| {
                let noise: f64 = (0..4).map(|_| rng.below(1000) as f64 / 1000.0 - 0.5).sum::<f64>() * spread;
                let calls = 80 + rng.below(40) as i64;
                Bucket {
                    at: Timestamp(i as i64 * TEN_MINUTES),
                    seconds: 600.0,
                    calls,
                    exec_us: (level(i) * noise.exp() * 1e3 * calls as f64) as i64,
                    rows: calls * 20,
                    pages: calls * (level(i) * 4.0) as i64,
                }
            })
            .collect()
    }

    #[track_caller]
    fn only(mut changes: Vec<LastingChange>) -> LastingChange {
        assert_eq!(changes.len(), 1, "{changes:?}");
        changes.remove(0)
    }

    #[test]
    fn what_began_within_an_hour_or_its_interval_began_near() {
        let hour = |hours: f64| Timestamp(0).plus_seconds(hours * 3600.0);
        let change = test_change(hour(10.0), 2.0);
        assert!(change.began_near(hour(10.9)) && change.began_near(hour(9.1)) && !change.began_near(hour(12.0)));
        let unsure = LastingChange { onset_between: Some((hour(6.0), hour(13.0))), ..change };
        assert!(unsure.began_near(hour(12.0)) && !unsure.began_near(hour(14.0)));
    }

    #[test]
    fn a_gate_list_that_became_eighty_times_slower_is_found_with_its_onset() {
        let buckets = series(60, 0.3, 7, |i| if i < 40 { 3.0 } else { 240.0 });
        let change = only(lasting_changes(&buckets, 600.0, 0.1));
        assert_eq!(change.onset, Timestamp(40 * TEN_MINUTES));
        assert!(change.ratio.low < 80.0 && 80.0 < change.ratio.high, "{:?}", change.ratio);
        assert!(change.after.pages_per_call > 50.0 * change.before.pages_per_call);
        assert_eq!(change.after.rows_per_call, 20.0);
    }

    #[test]
    fn what_is_repaired_within_hours_passed_and_the_repair_is_no_improvement() {
        let buckets = series(90, 0.3, 3, |i| if (40..60).contains(&i) { 240.0 } else { 3.0 });
        let changes = lasting_changes(&buckets, 600.0, 0.1);
        let slower = only(changes);
        assert_eq!((slower.onset, slower.until), (Timestamp(40 * TEN_MINUTES), Some(Timestamp(60 * TEN_MINUTES))));
        assert!(slower.passed && slower.ratio.low > 50.0 && slower.from_time_per_call > 0.0);
        assert_eq!(slower.weight(Measured::TimePerCall), 0.0);
    }

    #[test]
    fn what_is_repaired_after_a_week_lasted_and_the_repair_is_told() {
        let buckets = series(3024, 0.3, 3, |i| if (1000..2200).contains(&i) { 24.0 } else { 3.0 });
        let changes = lasting_changes(&buckets, 600.0, 0.1);
        let told: Vec<_> = changes
            .iter()
            .map(|change| {
                (change.onset.0 / TEN_MINUTES, change.until.map(|until| until.0 / TEN_MINUTES), change.passed)
            })
            .collect();
        assert_eq!(told, [(1000, Some(2200), false), (2200, None, false)]);
        assert!(changes[0].ratio.value > 1.0 && changes[1].ratio.value < 1.0);
    }

    #[test]
    fn a_way_that_takes_a_day_is_one_change_from_its_start() {
        let start = Timestamp(1000 * TEN_MINUTES);
        let mut inside = 0;
        for seed in 0..20 {
            let share = |i: usize| (i as f64 - 1000.0).clamp(0.0, 144.0) / 144.0;
            let buckets = series(2016, 0.3, seed, |i| 3.0 * (share(i) * 8f64.ln()).exp());
            let change = only(lasting_changes(&buckets, 600.0, 0.01));
            assert!(change.onset.seconds_since(start).abs() <= 3.0 * 3600.0, "seed {seed}: {change:?}");
            assert!((7.0..9.0).contains(&change.ratio.value), "seed {seed}: {:?}", change.ratio);
            inside += usize::from(change.onset_between.is_some_and(|(from, to)| from <= start && start <= to));
        }
        assert!(inside >= 17, "{inside} of 20 intervals hold the start");
    }

    #[test]
    fn a_day_that_looks_like_every_day_is_no_change() {
        let day = |i: usize| (i as f64 / 144.0 * std::f64::consts::TAU).sin();
        for seed in 0..10 {
            let buckets = series(2016, 0.3, seed, |i| 3.0 * (0.5 * day(i)).exp());
            assert_eq!(lasting_changes(&buckets, 600.0, 0.01), [], "seed {seed}");
            let buckets = series(2016, 0.3, seed, |i| 3.0 * (0.5 * day(i) + if i < 1100 { 0.0 } else { 0.5 }).exp());
            let change = only(lasting_changes(&buckets, 600.0, 0.01));
            assert!((change.onset.0 / TEN_MINUTES - 1100).abs() <= 2, "seed {seed}: {change:?}");
        }
    }

    #[test]
    fn a_change_goes_on_over_a_level_that_moves_about() {
        // Fourteen hundred times slower, and later a little slower still: too little to be a change of its own.
        for seed in 0..50 {
            let buckets = series(80, 0.05, seed, |i| match i {
                0..40 => 0.07,
                40..60 => 100.0,
                _ => 112.0,
            });
            let change = only(lasting_changes(&buckets, 600.0, 0.1));
            assert_eq!((change.onset, change.until), (Timestamp(40 * TEN_MINUTES), None), "seed {seed}");
        }
    }

    #[test]
    fn a_report_that_runs_once_a_week_counts_on_its_days() {
        // Nine buckets each Monday.
        let mut buckets = series(3024, 0.1, 5, |i| if i < 1500 { 4.0 } else { 9.0 });
        for (i, bucket) in buckets.iter_mut().enumerate().filter(|(i, _)| i % 1008 < 400 || i % 1008 >= 409) {
            *bucket =
                Bucket { calls: 0, exec_us: 0, rows: 0, pages: 0, at: Timestamp(i as i64 * TEN_MINUTES), ..*bucket };
        }
        // A thousandth of a second a second in the mean, and eight times that on its days.
        let per_second = buckets.iter().map(|bucket| bucket.exec_us as f64 / 1e6).sum::<f64>() / (3024.0 * 600.0);
        let change = only(lasting_changes(&buckets, 600.0, 400.0 * per_second));
        assert!((2.0..2.6).contains(&change.ratio.value), "{change:?}");
        let between = change.onset_between.map(|(from, to)| (from.0 / TEN_MINUTES / 144, to.0 / TEN_MINUTES / 144));
        assert_eq!(between, Some((9, 16)), "its onset is known to the week");
        assert_eq!(lasting_changes(&buckets, 600.0, 4_000.0 * per_second), []);
    }

    #[test]
    fn half_a_repair_leaves_a_slowdown() {
        let buckets = series(100, 0.3, 3, |i| match i {
            0..40 => 3.0,
            40..60 => 2400.0,
            60..80 => 240.0,
            _ => 1.0,
        });
        let changes = lasting_changes(&buckets[..80], 600.0, 0.1);
        let ends: Vec<_> = changes.iter().map(|change| (change.onset.0 / TEN_MINUTES, change.until)).collect();
        assert_eq!(ends, [(40, None), (60, None)]);
        let changes = lasting_changes(&buckets, 600.0, 0.1);
        let ends: Vec<_> =
            changes.iter().map(|change| (change.onset.0 / TEN_MINUTES, change.until.is_some())).collect();
        assert_eq!(ends, [(40, true), (60, false), (80, false)]);
    }

    #[test]
    fn the_costliest_slowdown_that_holds_counts_and_not_the_newest() {
        let slower = |onset: usize, factor: f64| {
            let buckets = series(60, 0.3, 7, |i| if i < onset { 3.0 } else { 3.0 * factor });
            only(lasting_changes(&buckets, 600.0, 0.01))
        };
        let all = [slower(30, 80.0), slower(50, 3.0), slower(40, 0.1)];
        assert_eq!(costliest_slowdown_since(all.iter()), Some(Timestamp(30 * TEN_MINUTES)));
        let over = LastingChange { until: Some(Timestamp(45 * TEN_MINUTES)), ..all[0].clone() };
        assert_eq!(costliest_slowdown_since([&over, &all[1], &all[2]].into_iter()), Some(Timestamp(50 * TEN_MINUTES)));
        assert_eq!(costliest_slowdown_since([&over, &all[2]].into_iter()), None);
    }

    #[test]
    fn quiet_series_have_none() {
        let called: usize =
            (0..200).filter(|seed| !lasting_changes(&series(120, 0.4, *seed, |_| 3.0), 600.0, 0.1).is_empty()).count();
        assert!(called <= 2, "{called} of 200 quiet series were called changed");
    }

    #[test]
    fn nine_of_ten_steps_of_two_spreads_are_found_within_one_bucket() {
        let found = (0..100)
            .flat_map(|seed| {
                // The noise of `series` has a standard deviation of 0.58 × 0.3; the step is ln 1.5 = 0.41.
                let buckets = series(120, 0.3, 1000 + seed, |i| if i < 70 { 3.0 } else { 4.5 });
                lasting_changes(&buckets, 600.0, 0.01)
            })
            .filter(|change| (change.onset.0 / TEN_MINUTES - 70).abs() <= 1)
            .count();
        assert!(found >= 90, "{found} of 100");
    }

    #[test]
    fn a_change_is_told_with_its_onset_or_not_yet() {
        for seed in 0..50 {
            for age in 1..10 {
                let buckets = series(40 + age, 0.3, seed, |i| if i < 40 { 0.05 } else { 130.0 });
                for change in lasting_changes(&buckets, 600.0, 0.1) {
                    assert_eq!(change.onset, Timestamp(40 * TEN_MINUTES), "{age} buckets after it, seed {seed}");
                }
                let found = !lasting_changes(&buckets, 600.0, 0.1).is_empty();
                assert_eq!(found, age >= LEAST_BUCKETS, "{age} buckets after it, seed {seed}");
            }
        }
    }

    #[test]
    fn one_slow_bucket_is_no_lasting_change() {
        let buckets = series(60, 0.3, 5, |i| if i == 30 { 300.0 } else { 3.0 });
        assert_eq!(lasting_changes(&buckets, 600.0, 0.1), []);
    }

    #[test]
    fn a_family_that_costs_nothing_is_left_alone() {
        let buckets = series(60, 0.3, 7, |i| if i < 40 { 0.03 } else { 0.3 });
        assert_eq!(lasting_changes(&buckets, 600.0, 50.0), []);
    }

    #[test]
    fn buckets_without_calls_say_nothing() {
        let mut buckets = series(60, 0.3, 7, |i| if i < 40 { 3.0 } else { 30.0 });
        for bucket in &mut buckets[20..25] {
            (bucket.calls, bucket.exec_us, bucket.rows, bucket.pages) = (0, 0, 0, 0);
        }
        assert_eq!(only(lasting_changes(&buckets, 600.0, 0.1)).onset, Timestamp(40 * TEN_MINUTES));
        assert_eq!(lasting_changes(&[], 600.0, 0.1), []);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(40))]
        #[test]
        fn the_two_parts_add_up_to_the_change_of_time(seed: u64, factor in 2.0f64..50.0) {
            let buckets = series(60, 0.3, seed, |i| if i < 30 { 2.0 } else { 2.0 * factor });
            // What passed lies within the stretches of others.
            let mut changes = lasting_changes(&buckets, 600.0, 0.1);
            changes.retain(|change| !change.passed);
            let onsets: Vec<i64> = changes.iter().map(|change| change.onset.0).collect();
            for (position, change) in changes.iter().enumerate() {
                let next = onsets.get(position + 1).copied().unwrap_or(i64::MAX);
                let time = |from: i64, to: i64| buckets.iter()
                    .filter(|bucket| (from..to).contains(&bucket.at.0))
                    .fold((0.0, 0.0), |(us, s), bucket| (us + bucket.exec_us as f64, s + bucket.seconds));
                let (before, after) = (time(0, change.onset.0), time(change.onset.0, next));
                // All of the series before the onset is one stretch here only if nothing else was cut off, and so behind it.
                let is_whole = |told: f64, seen: f64| (told - seen).abs() < 1e-6;
                if is_whole(change.before.seconds, before.1) && is_whole(change.after.seconds, after.1) {
                    let change_of_time = (after.0 / after.1 - before.0 / before.1) / 1e6;
                    prop_assert!((change.from_time_per_call + change.from_calls - change_of_time).abs() < 1e-9);
                }
            }
        }
    }
}
