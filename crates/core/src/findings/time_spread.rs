//! How far the times of single executions lie apart, from what the server adds up of them.
//!
//! A server tells no single execution but the sums of their times and of the squares of these. Both are differences of
//! counters, so that the deviation is that of the window asked for, not of all time since the counters began.

use crate::readings::counters::StatementCounters;

/// Squares are kept as whole ms²: with less than this of them, their rounding would be more than a hundredth.
const LEAST_SQUARED_MS: i64 = 50;

/// Standard deviation of the times of single executions in milliseconds: √(mean of the squares − square of the mean).
/// Nothing for fewer than two executions, and where these are so short that the squares do not tell.
pub fn deviation_ms(counters: &StatementCounters) -> Option<f64> {
    if counters.calls < 2 || counters.squared_ms < LEAST_SQUARED_MS {
        return None;
    }
    let calls = counters.calls as f64;
    let mean_ms = counters.exec_us as f64 / 1e3 / calls;
    // Rounding may take a spread of nothing below zero.
    Some((counters.squared_ms as f64 / calls - mean_ms.powi(2)).max(0.0).sqrt())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::counters::Counters;

    fn of(times_ms: &[f64]) -> StatementCounters {
        StatementCounters {
            calls: times_ms.len() as i64,
            exec_us: times_ms.iter().map(|ms| (ms * 1e3).round() as i64).sum(),
            squared_ms: times_ms.iter().map(|ms| ms.powi(2)).sum::<f64>().round() as i64,
            ..Default::default()
        }
    }

    #[test]
    fn five_short_executions_and_a_long_one() {
        // Mean 20, squares 5 · 10² + 70² = 5,400: √(900 − 400).
        let deviation = deviation_ms(&of(&[10.0, 10.0, 10.0, 10.0, 10.0, 70.0])).unwrap();
        assert!((deviation - 500.0_f64.sqrt()).abs() < 1e-9);
    }

    #[test]
    fn nothing_is_told_of_one_execution_or_of_very_short_ones() {
        assert_eq!(deviation_ms(&of(&[900.0])), None);
        assert_eq!(deviation_ms(&of(&[0.4, 0.9, 0.2])), None);
        assert_eq!(deviation_ms(&StatementCounters::default()), None);
    }

    proptest! {
        /// The deviation of two windows together is that of all their executions, however they are cut.
        #[test]
        fn joining_windows_is_joining_executions(times in prop::collection::vec(5.0..5_000.0f64, 2..60), cut in 0usize..60) {
            let cut = cut.min(times.len());
            let joined = of(&times[..cut]).plus(&of(&times[cut..]));
            let calls = times.len() as f64;
            let mean = times.iter().sum::<f64>() / calls;
            let exact = (times.iter().map(|ms| (ms - mean).powi(2)).sum::<f64>() / calls).sqrt();
            let told = deviation_ms(&joined).unwrap();
            // Squares are rounded to whole ms², times to microseconds.
            let slack = (2.0 / calls + mean * 2e-3).sqrt() + 1e-6 * exact;
            prop_assert!((told - exact).abs() <= slack, "{} and {}", told, exact);
        }
    }
}
