use serde::{Deserialize, Serialize};

use crate::findings::robust::quantile_of;

/// A metric is skewed where its upper half is so many times as wide as its lower one.
const SKEWED: f64 = 1.3;
/// So much of its mean is added before the logarithm.
const LIFT: f64 = 0.1;
/// Where a metric is at times less than this share of its mean, logarithms say more of what is next to nothing than of
/// what is much.
const AWAY_FROM_NOTHING: f64 = 0.1;
/// Spread below this share of a level is taken as this.
const LEAST_SHARE: f64 = 0.02;
/// Share of values left out at either end when the width of a metric is told.
const ENDS: f64 = 0.05;

/// The scale on which a metric scatters alike whatever its level.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Scale {
    /// As it is read; a spread below `least` is taken as that.
    Linear {
        /// In the unit of the metric.
        least: f64,
    },
    /// The logarithm, after `lift` was added.
    Log {
        /// In the unit of the metric.
        lift: f64,
    },
}

impl Scale {
    /// The scale for these values: the logarithm where they stay away from nothing and are skewed. Values that are not
    /// numbers were not seen.
    pub fn of(values: &[f64]) -> Scale {
        let mut seen: Vec<f64> = values.iter().copied().filter(|value| value.is_finite()).collect();
        let mean = seen.iter().sum::<f64>() / seen.len().max(1) as f64;
        let at = |share: f64, seen: &mut [f64]| quantile_of(seen, share).unwrap_or_default();
        let (low, middle, high) = (at(ENDS, &mut seen), at(0.5, &mut seen), at(1.0 - ENDS, &mut seen));
        let is_away = low > AWAY_FROM_NOTHING * mean && seen.iter().all(|value| *value >= 0.0);
        if is_away && high - middle > SKEWED * (middle - low) {
            return Scale::Log { lift: LIFT * mean };
        }
        // What is mostly nothing has the size of its mean: else its spreads were too many to be counted.
        let size = if middle == 0.0 {
            seen.iter().map(|value| value.abs()).sum::<f64>() / seen.len().max(1) as f64
        } else {
            middle.abs()
        };
        Scale::Linear { least: (LEAST_SHARE * size).max(f64::MIN_POSITIVE) }
    }

    /// A value on this scale.
    pub fn up(self, value: f64) -> f64 {
        match self {
            Scale::Linear { .. } => value,
            // What was not seen stays so: the larger one of it and nothing would be nothing.
            Scale::Log { .. } if value.is_nan() => value,
            Scale::Log { lift } => (value.max(0.0) + lift).ln(),
        }
    }

    /// The value that lies there on this scale.
    pub fn down(self, scaled: f64) -> f64 {
        match self {
            Scale::Linear { .. } => scaled,
            Scale::Log { lift } => (scaled.exp() - lift).max(0.0),
        }
    }

    /// The smallest spread on this scale.
    pub fn least_spread(self) -> f64 {
        match self {
            Scale::Linear { least } => least,
            Scale::Log { .. } => LEAST_SHARE,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn skewed_metrics_are_taken_on_a_log_scale_and_others_as_they_are() {
        let skewed: Vec<f64> = (0..100).map(|n| (f64::from(n) / 50.0).exp()).collect();
        assert!(matches!(Scale::of(&skewed), Scale::Log { .. }));
        let even: Vec<f64> = (0..100).map(|n| 50.0 + f64::from(n % 10)).collect();
        assert!(matches!(Scale::of(&even), Scale::Linear { .. }));
        let signed: Vec<f64> = skewed.iter().map(|value| value - 5.0).collect();
        assert!(matches!(Scale::of(&signed), Scale::Linear { .. }), "a logarithm needs what is never negative");
        let few: Vec<f64> = (0..100).map(|n| f64::from(n % 10) - 7.0).map(|n| n.max(0.0)).collect();
        assert!(matches!(Scale::of(&few), Scale::Linear { .. }), "few are counted one by one");
        assert!(Scale::of(&[f64::NAN, 0.0, 0.0]).least_spread() > 0.0);
    }

    #[test]
    fn a_scale_leads_there_and_back() {
        for scale in [Scale::Linear { least: 1.0 }, Scale::Log { lift: 0.5 }] {
            for value in [0.0, 0.1, 7.0, 1e6] {
                assert!((scale.down(scale.up(value)) - value).abs() < 1e-6 * (1.0 + value));
            }
            assert!(scale.up(f64::NAN).is_nan(), "a gap is a gap");
        }
    }
}
