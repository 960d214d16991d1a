use std::f64::consts::TAU;

use super::BeforeAfter;
use crate::findings::lasting_change::{Bucket, Noise, Point, tame};
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// How a family's time per call moved from one side of a change to the other, on the log scale.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Step {
    /// Mean after minus mean before.
    pub value: f64,
    /// Variance of that, by the long-run variance of the noise on both sides.
    pub variance: f64,
    /// How many values without correlation its noise is known from.
    pub freedom: f64,
}

/// Calls that a point should rest on, and points that a side is parted into at least.
const ENOUGH_CALLS: i64 = 10;
const LEAST_POINTS: i64 = 4;
/// How far the time per call of a statement usually swings over a day, on the log scale.
const USUAL_SWING: f64 = 0.2;
/// Freedom that is never gone below.
const LEAST_FREEDOM: f64 = 3.0;
/// Long-run variances are known from about half of the values that are worth one each.
const FREEDOM_SHARE: f64 = 0.5;

impl Step {
    /// The step between the two sides; nothing where one has no calls. Linear in the buckets, but for sorting.
    pub fn of(sides: &BeforeAfter) -> Option<Step> {
        let (before, after) = (points(&sides.before), points(&sides.after));
        let ((old, old_weight), (new, new_weight)) = (mean(&before)?, mean(&after)?);
        // What lies between the sides, between matched hours and in gaps is too little to matter to the noise.
        let residuals = before.iter().map(|point| point.value - old).chain(after.iter().map(|point| point.value - new));
        let residuals: Vec<f64> = residuals.collect();
        let count = (before.len() + after.len()) as f64;
        let noise = Noise::of(&residuals).times(count / (count - 2.0).max(1.0));
        Some(Step {
            value: new - old,
            variance: noise.of_mean(old_weight) + noise.of_mean(new_weight) + by_hour(sides),
            freedom: (noise.effective(count) * FREEDOM_SHARE - 1.0).max(LEAST_FREEDOM),
        })
    }
}

/// Variance by what the hours of both sides differ in, where they could not be matched.
///
/// A swing a · sin(hour + phase) moves the mean of a side by a times the mean of the hours as points on a circle; of
/// every phase it may have, the distance of both means counts with a² / 2.
fn by_hour(sides: &BeforeAfter) -> f64 {
    let centre = |buckets: &[Bucket]| {
        let angle = |bucket: &Bucket| TAU * bucket.at.seconds_since(Timestamp(0)) / SECONDS_PER_DAY;
        let sum = |of: fn(f64) -> f64| buckets.iter().map(|bucket| of(angle(bucket))).sum::<f64>();
        (sum(f64::cos) / buckets.len() as f64, sum(f64::sin) / buckets.len() as f64)
    };
    let (before, after) = (centre(&sides.before), centre(&sides.after));
    let square = (after.0 - before.0).powi(2) + (after.1 - before.1).powi(2);
    USUAL_SWING * USUAL_SWING / 2.0 * square
}

/// A point for each bucket; where calls are few, for as many buckets as have enough of them: the logarithm of a mean of
/// few calls lies too low, and the less so the more there are, so that twice the calls would look like slower ones.
fn points(buckets: &[Bucket]) -> Vec<Point> {
    let calls: i64 = buckets.iter().map(|bucket| bucket.calls).sum();
    let enough = ENOUGH_CALLS.min(calls / LEAST_POINTS);
    let mut points: Vec<Point> = Vec::new();
    let mut pooled: Option<Bucket> = None;
    for bucket in buckets.iter().filter(|bucket| bucket.calls > 0) {
        let sum = pooled.get_or_insert(Bucket { calls: 0, exec_us: 0, ..*bucket });
        (sum.calls, sum.exec_us) = (sum.calls + bucket.calls, sum.exec_us + bucket.exec_us);
        if sum.calls >= enough {
            points.extend(Point::time_per_call(points.len(), sum));
            pooled = None;
        }
    }
    tame(&mut points);
    points
}

/// Weighted mean and weight.
fn mean(points: &[Point]) -> Option<(f64, f64)> {
    let weight: f64 = points.iter().map(|point| point.weight).sum();
    (weight > 0.0).then(|| (points.iter().map(|point| point.weight * point.value).sum::<f64>() / weight, weight))
}

#[cfg(test)]
mod tests {
    use super::super::tests::family;
    use super::*;
    use crate::findings::robust::SeededRng;

    #[test]
    fn a_step_is_told_with_its_error() {
        let inside = (0..100).filter(|seed| {
            let step = Step::of(&family(10.0, 15.0, *seed)).unwrap();
            (step.value - 1.5f64.ln()).abs() < 2.5 * step.variance.sqrt()
        });
        assert!(inside.count() >= 95);
        let step = Step::of(&family(10.0, 15.0, 1)).unwrap();
        assert!(step.variance.sqrt() < 0.05 && step.freedom > 10.0, "{step:?}");
    }

    #[test]
    fn hours_that_could_not_be_matched_make_it_less_sure() {
        let stretched = |seconds: i64| {
            let mut sides = family(10.0, 10.0, 1);
            for bucket in sides.before.iter_mut().chain(&mut sides.after) {
                bucket.at = Timestamp(bucket.at.0 / 10 * seconds);
            }
            Step::of(&sides).unwrap().variance.sqrt()
        };
        // Ten seconds a bucket, ten minutes, and a day: of whole days there is nothing to match.
        assert!(stretched(600) > 2.0 * stretched(10), "{} {}", stretched(600), stretched(10));
        assert!((stretched(86_400) - stretched(10)).abs() < 1e-3);
    }

    #[test]
    fn twice_the_calls_are_no_slower_ones() {
        let calls = |buckets: &mut [Bucket], each: i64, rng: &mut SeededRng| {
            for bucket in buckets {
                let ms: f64 = (0..each).map(|_| 10.0 * (0.9 * rng.normal()).exp()).sum();
                (bucket.calls, bucket.exec_us) = (each, (ms * 1e3) as i64);
            }
        };
        let typical = (0..60u64).map(|seed| {
            let (mut sides, mut rng) = (family(10.0, 10.0, seed), SeededRng::new(seed));
            calls(&mut sides.before, 1, &mut rng);
            calls(&mut sides.after, 4, &mut rng);
            Step::of(&sides).unwrap().value
        });
        let typical = typical.sum::<f64>() / 60.0;
        assert!(typical.abs() < 0.12, "{typical}");
    }

    #[test]
    fn nothing_is_told_of_one_side_alone() {
        let one = family(10.0, 15.0, 1);
        assert_eq!(Step::of(&BeforeAfter { before: Vec::new(), ..one.clone() }), None);
        assert_eq!(Step::of(&BeforeAfter { after: Vec::new(), ..one }), None);
    }
}
