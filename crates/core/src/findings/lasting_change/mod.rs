//! Rule 4: lasting changes, of time per call for now.
//!
//! A family's time per call is looked at in equal buckets of time, on a log scale, so that "twice as slow" is the same
//! step at any speed. Wild buckets are drawn in ([`points`]), what comes back each day and week is taken off
//! ([`pattern`]), noise is judged by its long-run variance ([`noise`]), and the series is cut into levels
//! ([`segments`], [`levels`]). Where one level goes over into the next is told to the bucket, with its own interval,
//! by [`onset`] or, where it took its time, by [`ramp`].
//!
//! What was left and found again within days passed: it is told as such, and its end is no improvement. What lasts
//! must be large, sure, and matter to the instance. Over all families together ([`instance`]), what moves nearly all of
//! them is told of the server as a whole ([`whole_server`]) and not of each, and [`discoveries`] keeps the share of
//! changes that are none at 5 %. What is kept of a change tells what more figures made of it ([`story`]).

mod answer;
mod discoveries;
mod follow;
mod instance;
mod levels;
mod noise;
mod onset;
mod pattern;
mod points;
mod ramp;
mod segments;
mod story;
mod turn;
mod whole_server;

use serde::{Deserialize, Serialize};

use crate::findings::robust::{quantile, weighted_median};
use crate::time::Timestamp;
use turn::{Turn, turns};

use discoveries::sure_together;

pub use answer::Answer;
pub use follow::{Followed, follow};
pub use instance::{InstanceChanges, changes_of_instance};
pub(in crate::findings) use noise::Noise;
pub(in crate::findings) use points::{Point, tame};
pub use story::{Entry, Kept, Turnout};

/// Buckets with calls that each side of a change must have.
pub const LEAST_BUCKETS: usize = 5;
/// Smallest step that counts: slower by this factor, or faster by it.
pub const LEAST_RATIO: f64 = 1.2;
/// Smallest share of the instance's statement time by which slower or faster calls must change it.
pub const LEAST_SHARE: f64 = 0.005;
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
    /// Typical time per call in milliseconds: weighted median over the buckets.
    pub typical_ms: f64,
    /// A quarter of the buckets were faster than this, in milliseconds.
    pub quarter_ms: f64,
    /// A quarter of the buckets were slower than this, in milliseconds.
    pub three_quarters_ms: f64,
    /// Calls per second.
    pub calls_per_second: f64,
    /// Rows per call.
    pub rows_per_call: f64,
    /// Pages per call.
    pub pages_per_call: f64,
    /// Seconds that were observed.
    pub seconds: f64,
}

/// A change of a family's time per call.
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
    /// New time per call ÷ old; above 1 is slower.
    pub ratio: Interval,
    /// Before the onset.
    pub before: Side,
    /// Since the onset.
    pub after: Side,
    /// Change of the family's time per second that comes from slower or faster calls, in seconds per second.
    pub from_time_per_call: f64,
    /// Change of the family's time per second that comes from more or fewer calls, in seconds per second.
    pub from_calls: f64,
    /// Chance that noise alone shows a step this sure; 0 where it was found by an earlier version.
    #[serde(default)]
    pub chance: f64,
}

impl LastingChange {
    /// What it changes of the instance's time, in seconds per second, as long as it holds; nothing once it is over.
    pub fn weight(&self) -> f64 {
        if self.until.is_none() { self.from_time_per_call.abs() } else { 0.0 }
    }

    /// The level that it brought, in milliseconds per call.
    fn level_ms(&self) -> f64 {
        self.before.typical_ms * self.ratio.value
    }

    /// Whether a later level is back where this one came from, or beyond.
    fn is_over_at(&self, level_ms: f64) -> bool {
        let before = self.before.typical_ms;
        if self.ratio.value > 1.0 { level_ms < before * LEAST_RATIO } else { level_ms > before / LEAST_RATIO }
    }
}

/// The changes of a series that were large and sure, in order of time: those that last, and those that passed. One that
/// lasts holds until a later one brings the time per call back to where it was; its figures are those up to the next.
///
/// `bucket_seconds` is the length of each bucket, and `instance_seconds_per_second` the time of all statements of the
/// instance per second, against which the change is judged. Buckets without calls say nothing about time per call and
/// are passed over. About linear in the buckets, n² of the blocks at worst.
pub fn lasting_changes(
    buckets: &[Bucket],
    bucket_seconds: f64,
    instance_seconds_per_second: f64,
) -> Vec<LastingChange> {
    let Some(first) = buckets.first() else { return Vec::new() };
    let number = |at: Timestamp| (at.seconds_since(first.at) / bucket_seconds).round() as usize;
    let points: Vec<Point> =
        buckets.iter().filter_map(|bucket| Point::time_per_call(number(bucket.at), bucket)).collect();
    let count = buckets.last().map_or(0, |last| number(last.at) + 1);
    let turns = turns(points, count, bucket_seconds);
    with_ends(described(first.at, bucket_seconds, &turns, |stretch, turn| {
        describe(buckets, stretch, turn.ratio(), instance_seconds_per_second)
    }))
}

/// What `describe` makes of each turn of a series that begins at `first`, with when it began and whether it passed; what
/// it makes nothing of is left out.
fn described(
    first: Timestamp,
    bucket_seconds: f64,
    turns: &[Turn],
    describe: impl Fn(Stretch, &Turn) -> Option<LastingChange>,
) -> Vec<LastingChange> {
    let time = |number: usize| first.plus_seconds(number as f64 * bucket_seconds);
    let mut changes: Vec<LastingChange> = Vec::new();
    for (position, turn) in turns.iter().enumerate() {
        let next = turns[position + 1..].iter().find(|next| !next.passed() || turn.passed()).map(|next| next.onset.at);
        let from = turns[..position].iter().rfind(|before| !before.passed()).map_or(0, |before| before.onset.at);
        let until = if turn.passed() { turn.until } else { next };
        let stretch = Stretch { from: time(from), onset: time(turn.onset.at), until: until.map(time) };
        let Some(change) = describe(stretch, turn) else { continue };
        changes.push(LastingChange {
            onset_between: Some((time(turn.onset.earliest), time(turn.onset.latest))),
            passed: turn.passed(),
            chance: turn.chance,
            ..change
        });
    }
    changes
}

/// A change holds until a later one that lasts brings the time per call back to where it was before it: less than
/// [`LEAST_RATIO`] away from that, or beyond. What repairs half of a slowdown leaves a slowdown.
fn with_ends(mut changes: Vec<LastingChange>) -> Vec<LastingChange> {
    let levels: Vec<(Timestamp, f64)> =
        changes.iter().filter(|change| !change.passed).map(|change| (change.onset, change.level_ms())).collect();
    for change in changes.iter_mut().filter(|change| !change.passed) {
        let mut later = levels.iter().filter(|(onset, _)| *onset > change.onset);
        change.until = later.find(|(_, level_ms)| change.is_over_at(*level_ms)).map(|(onset, _)| *onset);
    }
    changes
}

/// Since when the costliest slowdown holds that is not over, of all changes of an instance; nothing
/// without one. What is to be done about it is judged by what came after.
pub fn costliest_slowdown_since<'a>(changes: impl Iterator<Item = &'a LastingChange>) -> Option<Timestamp> {
    changes
        .filter(|change| change.until.is_none() && change.ratio.value > 1.0)
        .max_by(|a, b| a.from_time_per_call.total_cmp(&b.from_time_per_call))
        .map(|change| change.onset)
}

/// Where one change lies: since when the level before it held, its onset, and the next change.
struct Stretch {
    from: Timestamp,
    onset: Timestamp,
    until: Option<Timestamp>,
}

impl Stretch {
    /// Figures on either side of the onset; nothing where one has none.
    fn sides(&self, buckets: &[Bucket]) -> Option<(SideWithMean, SideWithMean)> {
        let is_before = |bucket: &&Bucket| bucket.at >= self.from && bucket.at < self.onset;
        let is_after = |bucket: &&Bucket| bucket.at >= self.onset && self.until.is_none_or(|until| bucket.at < until);
        Some((side(buckets.iter().filter(is_before))?, side(buckets.iter().filter(is_after))?))
    }

    /// A change with these figures: of both sides, and what comes from time per call and from calls.
    fn change(self, ratio: Interval, (before, after): (Side, Side), parts: (f64, f64)) -> LastingChange {
        LastingChange {
            onset: self.onset,
            onset_between: None,
            until: self.until,
            passed: false,
            ratio,
            before,
            after,
            from_time_per_call: parts.0,
            from_calls: parts.1,
            chance: 0.0,
        }
    }
}

/// The change with its figures, unless the family matters too little to the instance.
fn describe(
    buckets: &[Bucket],
    stretch: Stretch,
    ratio: Interval,
    instance_seconds_per_second: f64,
) -> Option<LastingChange> {
    let (before, after) = stretch.sides(buckets)?;
    let (before_mean, after_mean) = (before.mean_ms / 1e3, after.mean_ms / 1e3);
    let (before_rate, after_rate) = (before.side.calls_per_second, after.side.calls_per_second);
    // Exact: the two add up to the change of rate × mean.
    let from_time_per_call = (after_mean - before_mean) * (before_rate + after_rate) / 2.0;
    let from_calls = (after_rate - before_rate) * (before_mean + after_mean) / 2.0;
    if from_time_per_call.abs() < LEAST_SHARE * instance_seconds_per_second {
        return None;
    }
    Some(stretch.change(ratio, (before.side, after.side), (from_time_per_call, from_calls)))
}

fn time_per_call_ms(bucket: &Bucket) -> f64 {
    bucket.exec_us as f64 / bucket.calls as f64 / 1e3
}

struct SideWithMean {
    side: Side,
    mean_ms: f64,
}

fn side<'a>(buckets: impl Iterator<Item = &'a Bucket> + Clone) -> Option<SideWithMean> {
    let sum = |figure: fn(&Bucket) -> f64| buckets.clone().map(figure).sum::<f64>();
    let (calls, seconds) = (sum(|bucket| bucket.calls as f64), sum(|bucket| bucket.seconds));
    if calls <= 0.0 || seconds <= 0.0 {
        return None;
    }
    let weighted: Vec<(f64, f64)> = buckets
        .clone()
        .filter(|bucket| bucket.calls > 0)
        .map(|bucket| (time_per_call_ms(bucket), bucket.calls as f64))
        .collect();
    let times: Vec<f64> = weighted.iter().map(|(time, _)| *time).collect();
    Some(SideWithMean {
        mean_ms: sum(|bucket| bucket.exec_us as f64) / calls / 1e3,
        side: Side {
            typical_ms: weighted_median(&weighted)?,
            quarter_ms: quantile(&times, 0.25)?,
            three_quarters_ms: quantile(&times, 0.75)?,
            calls_per_second: calls / seconds,
            rows_per_call: sum(|bucket| bucket.rows as f64) / calls,
            pages_per_call: sum(|bucket| bucket.pages as f64) / calls,
            seconds,
        },
    })
}

/// A change for tests of several rules: from this onset on, so many times as long.
#[cfg(test)]
pub(crate) fn test_change(onset: Timestamp, ratio: f64) -> LastingChange {
    let side = Side {
        typical_ms: 1.0,
        quarter_ms: 1.0,
        three_quarters_ms: 1.0,
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
        assert_eq!(slower.weight(), 0.0);
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
