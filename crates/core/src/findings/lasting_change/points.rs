use super::Bucket;
use crate::findings::robust::{quantile_of, running_median, scaled_mad};

/// Values beyond this many spreads from the running median are wild, and drawn back to it.
const WILD: f64 = 3.0;
/// Values on either side that a running median looks at.
const AROUND: usize = 3;
/// Spread below this (on the log scale: 1 %) is taken as this.
const LEAST_SPREAD: f64 = 0.0115;
/// A value of many calls weighs one, and one of so many calls half.
const HALF_WEIGHT_CALLS: f64 = 10.0;

/// A value of a series at a place in time, on a log scale.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Point {
    /// Number of its bucket, or of its block of buckets.
    pub at: usize,
    /// Natural logarithm of what was measured.
    pub value: f64,
    /// What it is worth: 1 for one that rests on many calls.
    pub weight: f64,
}

impl Point {
    /// The time per call of a bucket; nothing where there were no calls, or they took no time.
    pub fn time_per_call(at: usize, bucket: &Bucket) -> Option<Point> {
        Point::measured(at, bucket.exec_us as f64 / bucket.calls as f64, bucket.calls as f64)
    }

    /// What was measured in a bucket over so many calls; nothing where there were none.
    pub fn measured(at: usize, measured: f64, calls: f64) -> Option<Point> {
        let is_one = measured > 0.0 && measured.is_finite() && calls > 0.0;
        is_one.then(|| Point { at, value: measured.ln(), weight: calls / (calls + HALF_WEIGHT_CALLS) })
    }
}

/// Draws single wild values back towards the median of those around them. A level that moved is left alone as soon as
/// half of the values around are on it.
pub fn tame(points: &mut [Point]) {
    let values: Vec<f64> = points.iter().map(|point| point.value).collect();
    let medians = running_median(&values, AROUND);
    let residuals: Vec<f64> = values.iter().zip(&medians).map(|(value, median)| value - median).collect();
    // The median around holds a part of each value: what is left of it scatters less than the values do.
    let spread = scaled_mad(&residuals).unwrap_or_default().max(LEAST_SPREAD / 1.15) * 1.15;
    for (point, median) in points.iter_mut().zip(medians) {
        point.value = point.value.clamp(median - WILD * spread, median + WILD * spread);
    }
}

/// Means over blocks of `size` buckets, of those that have values. A typical block weighs 1, and none more than 2.
pub fn blocks(points: &[Point], size: usize) -> Vec<Point> {
    let mut blocks: Vec<Point> = points
        .chunk_by(|a, b| a.at / size == b.at / size)
        .map(|block| {
            let weight: f64 = block.iter().map(|point| point.weight).sum();
            let sum: f64 = block.iter().map(|point| point.weight * point.value).sum();
            Point { at: block[0].at / size, value: sum / weight, weight }
        })
        .collect();
    let mut weights: Vec<f64> = blocks.iter().map(|block| block.weight).collect();
    let typical = quantile_of(&mut weights, 0.5).unwrap_or(1.0);
    blocks.iter_mut().for_each(|block| block.weight = (block.weight / typical).min(2.0));
    blocks
}

#[cfg(test)]
mod tests {
    use super::*;

    fn points(values: &[f64]) -> Vec<Point> {
        values.iter().enumerate().map(|(at, value)| Point { at, value: *value, weight: 1.0 }).collect()
    }

    #[test]
    fn a_wild_value_is_drawn_back_and_a_new_level_is_not() {
        let wobble = |i: usize| if i.is_multiple_of(2) { 0.05 } else { -0.05 };
        let with = |change: &dyn Fn(usize) -> f64| {
            let mut all = points(&(0..40).map(|i| change(i) + wobble(i)).collect::<Vec<_>>());
            tame(&mut all);
            all.into_iter().map(|point| point.value).collect::<Vec<_>>()
        };
        assert!(with(&|i| if i == 20 { 9.0 } else { 0.0 })[20] < 0.5);
        let stepped = with(&|i| if i < 20 { 0.0 } else { 9.0 });
        assert!(stepped[19] < 0.1 && stepped[20] > 8.9, "{stepped:?}");
    }

    #[test]
    fn blocks_are_weighted_means_and_empty_ones_are_absent() {
        let all: Vec<Point> = [(0, 1.0, 1.0), (1, 4.0, 0.5), (6, 2.0, 1.5), (7, 2.0, 1.5)]
            .map(|(at, value, weight)| Point { at, value, weight })
            .into();
        let [first, second] = blocks(&all, 2)[..] else { panic!() };
        assert_eq!((first.at, second.at), (0, 3));
        assert_eq!((first.value, second.value), (2.0, 2.0));
        assert!(first.weight < second.weight);
    }

    #[test]
    fn what_rests_on_few_calls_weighs_little() {
        let weight = |calls| Point::measured(0, 3.0, calls).map(|point| point.weight);
        assert_eq!(weight(10.0), Some(0.5));
        assert!(weight(1000.0) > Some(0.98));
        assert_eq!(weight(0.0), None);
        assert_eq!(Point::measured(0, 0.0, 5.0), None);
    }
}
