//! How fast long work goes, and how long its phase will take yet. Time left is what is left over the speed since the phase
//! was first seen; it is as sure as the speeds between readings are alike.
//!
//! Laws, tested below: never negative; the range holds the time itself; work that goes on evenly is told within it.

use crate::time::Timestamp;

/// Readings that it takes to tell a speed: two spans between them say how much it varies.
const LEAST_READINGS: usize = 3;
/// However even the speed was, it is no surer than this.
const LEAST_SPREAD: f64 = 0.1;
/// Standard errors to either end of the range: 95 % of normal values.
const ERRORS: f64 = 2.0;
/// No more unsure than by this factor: beyond it nothing is known.
const MOST_SPREAD: f64 = 0.9;

/// Readings older than this, in seconds, tell nothing of how fast work goes now.
const LONGEST_SECONDS: f64 = 300.0;
/// Readings closer together than this are one.
const LEAST_SECONDS: f64 = 0.9;

/// When a phase was read, in order of time, and how far it had come.
pub type Readings = Vec<(Timestamp, f64)>;

/// Whether readings still tell how fast work goes at a moment.
pub fn is_young(readings: &Readings, at: Timestamp) -> bool {
    readings.last().is_some_and(|(last, _)| at.seconds_since(*last) < LONGEST_SECONDS)
}

/// Goes on with how far a phase has come at a moment; what is too old goes.
pub fn go_on(readings: &mut Readings, at: Timestamp, done: f64) {
    readings.retain(|(read, _)| at.seconds_since(*read) < LONGEST_SECONDS);
    if readings.last().is_none_or(|(last, _)| at.seconds_since(*last) >= LEAST_SECONDS) {
        readings.push((at, done));
    }
}

/// How fast work goes, and how long it will take yet.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct TimeLeft {
    /// In the unit of the work.
    pub per_second: f64,
    /// Seconds until the phase ends, at that speed.
    pub seconds: f64,
    /// The least that it may take.
    pub least: f64,
    /// The most.
    pub most: f64,
}

/// From readings of one phase, in order of time: when, and how far it had come. Nothing where it stands still, or was
/// not read often enough. Linear in the readings.
pub fn time_left(readings: &[(Timestamp, f64)], total: f64) -> Option<TimeLeft> {
    let (first, last) = (readings.first()?, readings.last()?);
    if readings.len() < LEAST_READINGS {
        return None;
    }
    let elapsed = last.0.seconds_since(first.0);
    let per_second = (last.1 - first.1) / elapsed;
    if !(elapsed > 0.0 && per_second > 0.0) {
        return None;
    }
    let spans = readings.windows(2).map(|pair| (pair[1].0.seconds_since(pair[0].0), pair[1].1 - pair[0].1));
    // Each span weighs as long as it lasted.
    let squares: f64 = spans.map(|(seconds, done)| (done - per_second * seconds).powi(2) / seconds.max(1e-6)).sum();
    let count = (readings.len() - 1) as f64;
    let error = (squares / (count - 1.0).max(1.0) / elapsed).sqrt();
    let spread = (ERRORS * error / per_second).clamp(LEAST_SPREAD, MOST_SPREAD);
    let seconds = ((total - last.1) / per_second).max(0.0);
    Some(TimeLeft { per_second, seconds, least: seconds / (1.0 + spread), most: seconds / (1.0 - spread) })
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::findings::robust::SeededRng;

    fn at(second: f64) -> Timestamp {
        Timestamp(0).plus_seconds(second)
    }

    #[test]
    fn even_work_ends_when_it_is_said_to() {
        let readings: Vec<_> = (0..5).map(|n| (at(f64::from(n) * 2.0), f64::from(n) * 200.0)).collect();
        let left = time_left(&readings, 1800.0).unwrap();
        assert_eq!((left.per_second, left.seconds), (100.0, 10.0));
        assert!(left.least > 9.0 && left.most < 11.2, "{left:?}");
    }

    #[test]
    fn readings_close_together_are_one_and_old_ones_go() {
        let mut readings = Readings::new();
        for second in [0.0, 0.5, 2.0, 301.0] {
            go_on(&mut readings, at(second), second);
        }
        assert_eq!(readings, [(at(2.0), 2.0), (at(301.0), 301.0)]);
        assert!(is_young(&readings, at(600.0)) && !is_young(&readings, at(601.0)));
    }

    #[test]
    fn nothing_is_told_of_what_stands_still_or_was_hardly_seen() {
        assert_eq!(time_left(&[], 10.0), None);
        assert_eq!(time_left(&[(at(0.0), 1.0), (at(2.0), 2.0)], 10.0), None);
        assert_eq!(time_left(&[(at(0.0), 1.0), (at(2.0), 1.0), (at(4.0), 1.0)], 10.0), None);
        assert_eq!(time_left(&[(at(0.0), 9.0), (at(2.0), 5.0), (at(4.0), 1.0)], 10.0), None, "it began anew");
    }

    #[test]
    fn uneven_work_is_told_with_a_range_that_holds_the_truth() {
        let (mut held, all) = (0, 400);
        for seed in 0..all {
            let mut rng = SeededRng::new(seed);
            let mut done = vec![0.0];
            // Fast and slow spans by turns of chance, as where pages come from the cache or from storage.
            for _ in 0..60 {
                done.push(done.last().unwrap() + 100.0 * (0.5 * rng.normal()).exp());
            }
            let readings: Vec<_> = done[..30].iter().enumerate().map(|(n, done)| (at(n as f64), *done)).collect();
            let left = time_left(&readings, done[60]).unwrap();
            held += u64::from((left.least..=left.most).contains(&31.0));
        }
        assert!(held as f64 > 0.8 * all as f64, "{held} of {all}");
    }

    proptest! {
        #[test]
        fn never_negative_and_inside_its_range(steps in prop::collection::vec(0.0f64..100.0, 3..30), total in 0.0f64..5000.0) {
            let mut done = 0.0;
            let readings: Vec<_> = steps.iter().enumerate().map(|(n, step)| { done += step; (at(n as f64), done) }).collect();
            if let Some(left) = time_left(&readings, total) {
                prop_assert!(left.per_second > 0.0 && left.seconds >= 0.0);
                prop_assert!(left.least <= left.seconds && left.seconds <= left.most);
            }
        }
    }
}
