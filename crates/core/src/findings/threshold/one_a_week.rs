use super::{Threshold, episodes};
use crate::findings::figure_series::{FigureSeries, Seen};
use crate::findings::normal_range::Side;

/// Each value tried leaves so many times as many means beyond it as the one before.
const NEXT: f64 = 1.05;
/// Digits that a value is rounded to.
const DIGITS: i32 = 3;

/// Weeks that were seen, of the series that was seen longest.
pub fn weeks_seen(series: &[FigureSeries]) -> f64 {
    let seconds = series.iter().map(|one| one.buckets.len() as f64 * one.bucket_seconds);
    seconds.fold(0.0, f64::max) / (7.0 * 86_400.0)
}

/// The value at which a threshold would have raised about one alarm a week on each instance: the tightest that raised no
/// more. `instances` are the series of each. Nothing where less than a day was seen.
///
/// Tries about 20 times the logarithm of the number of means, each of which is linear.
pub fn one_a_week(threshold: &Threshold, instances: &[Vec<FigureSeries>]) -> Option<f64> {
    let weeks: f64 = instances.iter().map(|series| weeks_seen(series)).sum();
    if weeks < 1.0 / 7.0 {
        return None;
    }
    // A week of which a part was seen may have its alarm.
    let allowed = weeks.ceil() as usize;
    let series = || instances.iter().flatten().filter(|series| threshold.is_of(&series.object));
    let mut values: Vec<f64> = series().flat_map(|series| series.buckets.iter().map(Seen::mean)).collect();
    values.retain(|value| value.is_finite());
    values.sort_unstable_by(f64::total_cmp);
    if threshold.side == Side::High {
        values.reverse();
    }
    let mut tightest = None;
    let mut tried = None;
    let mut beyond = 0.0_f64;
    while let Some(value) = values.get(beyond as usize).map(|value| rounded(*value, threshold.side)) {
        if tried.replace(value) != Some(value) {
            let at = threshold.at(value);
            let raised: usize = series().map(|series| episodes(&at, series).len()).sum();
            if raised > allowed {
                break;
            }
            tightest = Some(value);
        }
        beyond = (beyond * NEXT).max(beyond + 1.0);
    }
    tightest
}

/// Rounded away from the quiet side, so that what was not beyond is not.
fn rounded(value: f64, side: Side) -> f64 {
    if value == 0.0 {
        return 0.0;
    }
    let digits = DIGITS - 1 - value.abs().log10().floor() as i32;
    let (up, scaled) = (side == Side::High, value * 10f64.powi(digits));
    let whole = if up { scaled.ceil() } else { scaled.floor() };
    // By division where that is exact: 0.7 and not 0.7000000000000001.
    if digits >= 0 { whole / 10f64.powi(digits) } else { whole * 10f64.powi(-digits) }
}

#[cfg(test)]
mod tests {
    use super::super::tests::load_above;
    use super::*;
    use crate::findings::figure::ServerFigure;
    use crate::findings::robust::SeededRng;
    use crate::time::Timestamp;

    fn noisy(seed: u64, weeks: usize) -> Vec<FigureSeries> {
        let mut rng = SeededRng::new(seed);
        let seen = |bucket: usize| Seen::reading(Timestamp(bucket as i64 * 600_000_000), 10.0 + rng.normal());
        let buckets = (0..weeks * 1008).map(seen).collect();
        vec![FigureSeries { figure: ServerFigure::Load, object: String::new(), bucket_seconds: 600.0, buckets }]
    }

    #[test]
    fn about_one_a_week_is_what_it_would_have_raised() {
        for seed in 0..20 {
            let instances = [noisy(seed, 4), noisy(100 + seed, 4)];
            for lasts in [0.0, 1200.0] {
                let threshold = load_above(3.0, 3.0, lasts);
                let value = one_a_week(&threshold, &instances).unwrap();
                let raised = |value: f64| -> usize {
                    let at = threshold.at(value);
                    instances.iter().flatten().map(|one| episodes(&at, one).len()).sum()
                };
                assert!(raised(value) <= 8, "{value}: {}", raised(value));
                assert!(raised(value * 0.97) > 8, "{value} is not the tightest: {}", raised(value * 0.97));
            }
        }
    }

    #[test]
    fn low_sides_too_and_nothing_without_a_past() {
        let low = Threshold { side: Side::Low, ..load_above(8.0, 9.0, 0.0) };
        let value = one_a_week(&low, &[noisy(3, 4)]).unwrap();
        assert!((5.0..9.0).contains(&value), "{value}");
        assert_eq!(one_a_week(&low, &[noisy(3, 0)]), None);
    }

    #[test]
    fn values_are_rounded_away_from_quiet() {
        let high = [0.70001, 12_345.0, 0.0, 99.95].map(|value| rounded(value, Side::High));
        assert_eq!(high, [0.701, 12_400.0, 0.0, 100.0]);
        assert_eq!([0.70001, 12_345.0].map(|value| rounded(value, Side::Low)), [0.7, 12_300.0]);
    }
}
