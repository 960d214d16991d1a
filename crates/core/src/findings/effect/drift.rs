use super::step::Step;
use crate::findings::robust::{quantile_of, scaled_mad, weighted_median};

/// What statements usually differ by in how a whole server's getting slower or faster reaches them, on the log scale;
/// it counts as much as so many of them.
const USUAL_SPREAD: f64 = 0.09;
const USUAL_COUNTS: f64 = 3.0;
/// How far a whole server is taken to drift at most times, where nothing is there to see it by.
const UNSEEN: f64 = 0.15;
/// The variance of a median is so many times that of a mean: π / 2.
const OF_MEDIAN: f64 = std::f64::consts::FRAC_PI_2;

/// What moved the whole server meanwhile, as one factor on the log scale, by families that the change cannot have
/// touched.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Drift {
    /// The shared step.
    pub value: f64,
    /// Variance of that.
    pub variance: f64,
    /// Variance of how it reaches a single family.
    pub spread: f64,
    /// How many families it was seen by.
    pub families: usize,
}

impl Drift {
    /// From how many values that are worth one each its error is known, what is usual among them.
    pub fn freedom(&self) -> f64 {
        self.families as f64 + USUAL_COUNTS + 2.0
    }

    /// The drift that families show together.
    ///
    /// Their weighted median, so that fewer than half of them may have been helped or hurt by something else. How much
    /// more they differ than their own noise explains is what any one may differ by; with few of them, what is usual.
    pub fn of(controls: &[Step]) -> Drift {
        if controls.is_empty() {
            return Drift { value: 0.0, variance: UNSEEN * UNSEEN, spread: USUAL_SPREAD * USUAL_SPREAD, families: 0 };
        }
        let count = controls.len() as f64;
        let values: Vec<f64> = controls.iter().map(|step| step.value).collect();
        let mut variances: Vec<f64> = controls.iter().map(|step| step.variance).collect();
        let own_noise = quantile_of(&mut variances, 0.5).unwrap_or_default();
        // With n of them, the median takes a part of their spread along.
        let seen = scaled_mad(&values).unwrap_or_default().powi(2) * count / (count - 1.0).max(1.0);
        let more = (seen - own_noise).max(0.0);
        let spread = (count * more + USUAL_COUNTS * USUAL_SPREAD * USUAL_SPREAD) / (count + USUAL_COUNTS);
        let weighted: Vec<(f64, f64)> =
            controls.iter().map(|step| (step.value, 1.0 / (step.variance + spread))).collect();
        let weight: f64 = weighted.iter().map(|(_, weight)| weight).sum();
        Drift {
            value: weighted_median(&weighted).unwrap_or_default(),
            variance: OF_MEDIAN / weight,
            spread,
            families: controls.len(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn step(value: f64) -> Step {
        Step { value, variance: 0.01 * 0.01, freedom: 30.0 }
    }

    #[test]
    fn a_shared_factor_is_seen_though_some_were_helped_by_something_else() {
        let mut steps: Vec<Step> = (0..20).map(|i| step(0.5 + 0.01 * f64::from(i % 5 - 2))).collect();
        steps.extend([-3.0, -4.0, -2.0].map(step));
        let drift = Drift::of(&steps);
        assert!((drift.value - 0.5).abs() < 0.02, "{drift:?}");
        assert!(drift.variance.sqrt() < 0.03 && drift.spread.sqrt() < 0.05, "{drift:?}");
    }

    #[test]
    fn where_families_differ_any_one_may() {
        let steps: Vec<Step> = (0..20).map(|i| step(0.2 * f64::from(i % 5 - 2))).collect();
        assert!(Drift::of(&steps).spread.sqrt() > 0.15);
    }

    #[test]
    fn few_tell_little() {
        let [none, one, three] = [0, 1, 3].map(|count| Drift::of(&vec![step(0.0); count]));
        assert!(none.variance > one.variance && one.variance > three.variance);
        assert!(one.spread.sqrt() > 0.05);
    }
}
