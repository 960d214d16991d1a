use std::ops::Range;

use super::points::Point;
use crate::findings::robust::scaled_mad;

/// Innovations beyond so many spreads count less than their square.
const HUBER: f64 = 2.5;
/// Correlation from bucket to bucket is taken to be no more than this.
const MOST_CORRELATION: f64 = 0.97;
/// Spread below this (on the log scale) is taken as this.
const LEAST_SPREAD: f64 = 0.005;
/// Likelihoods are believed this much: tails are heavier and noise is less regular than the model has it.
const BELIEF: f64 = 0.7;
/// What lies outside of the interval, on either side.
const TAIL: f64 = 0.02;

/// Where a level went over into the next: number of the first bucket on the new level, and between which it lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Onset {
    /// The likeliest.
    pub at: usize,
    /// The first that it may be.
    pub earliest: usize,
    /// The last that it may be.
    pub latest: usize,
}

/// The onset of a step from one level to another within a window of buckets.
///
/// The likelihood of each place, with noise that hangs together from bucket to bucket: what counts is how far each
/// value is from what the one before lets expect, so that a jump is told from a slow drift. Robust, since large
/// distances count less than their square (Huber). Linear in the window.
pub fn onset(points: &[Point], window: Range<usize>, before: f64, after: f64) -> Onset {
    let from = points.partition_point(|point| point.at < window.start);
    let to = points.partition_point(|point| point.at < window.end);
    let seen = &points[from..to];
    if seen.is_empty() {
        return Onset { at: window.end, earliest: window.start, latest: window.end };
    }
    let noise = Innovations::of(seen, before, after);
    let level = |i: usize, cut: usize| if i < cut { before } else { after };
    let term = |i: usize, cut: usize| {
        noise.distance(i, seen[i].value - level(i, cut), i.checked_sub(1).map(|i| seen[i].value - level(i, cut)))
    };
    // From one cut to the next only the value that changes sides and the one behind it count anew.
    let mut distances = vec![(0..seen.len()).map(|i| term(i, 0)).sum::<f64>()];
    for cut in 1..=seen.len() {
        let behind = if cut < seen.len() { term(cut, cut) - term(cut, cut - 1) } else { 0.0 };
        distances.push(distances[cut - 1] + term(cut - 1, cut) - term(cut - 1, cut - 1) + behind);
    }
    let (best, least) =
        distances.iter().enumerate().min_by(|a, b| a.1.total_cmp(b.1)).map_or((0, 0.0), |(cut, least)| (cut, *least));
    let likelihoods: Vec<f64> = distances.iter().map(|distance| (-BELIEF * (distance - least)).exp()).collect();
    let all: f64 = likelihoods.iter().sum();
    let passed = |share: f64| {
        let mut sum = 0.0;
        likelihoods.iter().position(|likelihood| {
            sum += likelihood;
            sum > share * all
        })
    };
    let (first, last) = (passed(TAIL).unwrap_or(0).min(best), passed(1.0 - TAIL).unwrap_or(seen.len()).max(best));
    let bucket = |cut: usize| seen.get(cut).map_or(seen[seen.len() - 1].at + 1, |point| point.at);
    // Between two buckets with values it may have been at any time.
    let earliest = first.checked_sub(1).map_or(window.start, |before| seen[before].at + 1);
    Onset { at: bucket(best), earliest, latest: bucket(last) }
}

/// Noise as what each value has that the one before does not let expect.
struct Innovations {
    correlation: f64,
    spread: f64,
    /// Buckets from the value before, and the root of the weight.
    steps: Vec<(i32, f64)>,
}

impl Innovations {
    fn of(seen: &[Point], before: f64, after: f64) -> Innovations {
        let cut = rough_cut(seen, before, after);
        let residuals: Vec<f64> =
            seen.iter().enumerate().map(|(i, point)| point.value - if i < cut { before } else { after }).collect();
        let spread = scaled_mad(&residuals).unwrap_or_default().max(2.0 * LEAST_SPREAD);
        let tame = |residual: f64| residual.clamp(-3.0 * spread, 3.0 * spread);
        let steps: Vec<(i32, f64)> = seen
            .iter()
            .enumerate()
            .map(|(i, point)| (i.checked_sub(1).map_or(1, |b| (point.at - seen[b].at) as i32), point.weight.sqrt()))
            .collect();
        let neighbours =
            || (1..seen.len()).filter(|i| steps[*i].0 == 1).map(|i| (tame(residuals[i - 1]), tame(residuals[i])));
        let products: f64 = neighbours().map(|(a, b)| a * b).sum();
        let squares: f64 = neighbours().map(|(a, _)| a * a).sum();
        let correlation = if squares > 0.0 { (products / squares).clamp(0.0, MOST_CORRELATION) } else { 0.0 };
        let mut noise = Innovations { correlation, spread: 1.0, steps };
        let innovations: Vec<f64> =
            (1..seen.len()).map(|i| noise.innovation(i, residuals[i], Some(residuals[i - 1]))).collect();
        noise.spread = scaled_mad(&innovations).unwrap_or_default().max(LEAST_SPREAD);
        noise
    }

    /// What is new in a value, scaled to what is new after one bucket.
    fn innovation(&self, i: usize, residual: f64, before: Option<f64>) -> f64 {
        let (buckets, root_weight) = self.steps[i];
        let per_bucket = 1.0 - self.correlation * self.correlation;
        let Some(before) = before else { return residual * per_bucket.sqrt() * root_weight };
        let kept = self.correlation.powi(buckets);
        (residual - kept * before) * (per_bucket / (1.0 - kept * kept).max(per_bucket)).sqrt() * root_weight
    }

    fn distance(&self, i: usize, residual: f64, before: Option<f64>) -> f64 {
        let spreads = self.innovation(i, residual, before).abs() / self.spread;
        if spreads < HUBER { spreads * spreads / 2.0 } else { HUBER * (spreads - HUBER / 2.0) }
    }
}

/// The best cut by plain least squares.
fn rough_cut(seen: &[Point], before: f64, after: f64) -> usize {
    let mut sum = 0.0;
    let gains = seen.iter().map(|point| {
        sum += point.weight * ((point.value - before).powi(2) - (point.value - after).powi(2));
        sum
    });
    let best = gains.enumerate().min_by(|a, b| a.1.total_cmp(&b.1)).filter(|(_, gain)| *gain < 0.0);
    best.map_or(0, |(last, _)| last + 1)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::robust::SeededRng;

    fn step_at(cut: usize, step: f64, correlation: f64, seed: u64) -> Vec<Point> {
        let mut rng = SeededRng::new(seed);
        let mut noise = 0.0;
        (0..200)
            .map(|at| {
                noise = correlation * noise + (1.0 - correlation * correlation).sqrt() * rng.normal() * 0.2;
                Point { at, value: noise + if at < cut { 0.0 } else { step }, weight: 1.0 }
            })
            .collect()
    }

    fn found(step: f64, correlation: f64) -> (usize, usize) {
        let onsets = (0..200).map(|seed| onset(&step_at(120, step, correlation, seed), 20..190, 0.0, step));
        onsets.fold((0, 0), |(near, inside), onset| {
            let is_inside = onset.earliest <= 120 && 120 <= onset.latest;
            (near + usize::from(onset.at.abs_diff(120) <= 1), inside + usize::from(is_inside))
        })
    }

    #[test]
    fn a_step_is_found_where_it_is_and_its_interval_holds_it() {
        for (step, correlation) in [(1.0, 0.0), (1.0, 0.9), (0.5, 0.8), (0.3, 0.9)] {
            let (near, inside) = found(step, correlation);
            assert!(inside >= 180, "step {step}, correlation {correlation}: {inside} of 200 inside");
            assert!(near >= 130 || step < 0.5, "step {step}, correlation {correlation}: {near} of 200 near");
        }
    }

    #[test]
    fn a_gap_is_where_it_may_have_begun() {
        let mut points = step_at(120, 2.0, 0.0, 7);
        points.retain(|point| !(100..130).contains(&point.at));
        let onset = onset(&points, 20..190, 0.0, 2.0);
        assert_eq!(onset, Onset { at: 130, earliest: 100, latest: 130 });
    }
}
