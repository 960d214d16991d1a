//! Rule 18: when something that grows reaches its end.
//!
//! The slope is the median of the slopes between all pairs of values (Theil 1950, Sen 1968), so that a day of
//! spring cleaning or a burst does not turn it. Its interval is Sen's, from the normal approximation of
//! Kendall's statistic. None is given when the interval is wider than the horizon: that would be a guess.
//!
//! Laws, tested below: a straight line is continued exactly; a minority of wild values does not move it.

use crate::time::{SECONDS_PER_DAY, Timestamp};

/// Fewest values that make a forecast.
pub const LEAST_VALUES: usize = 5;
/// Half-width of a two-sided interval of 90 % of a normal distribution, in standard deviations.
const NINETY_PERCENT: f64 = 1.645;

/// When a limit is reached.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Forecast {
    /// Days from the newest value on, at the usual growth.
    pub days: f64,
    /// At the fastest growth of the interval of 90 %.
    pub soonest_days: f64,
    /// At the slowest; nothing when it may never be.
    pub latest_days: Option<f64>,
    /// Growth in a day.
    pub per_day: f64,
}

/// Days until `limit` is reached by values that grow (one or a few a day, in order of time), if that is less
/// than `horizon_days` away and known to within the horizon. Quadratic in the values, so a few hundred at most.
pub fn forecast(values: &[(Timestamp, f64)], limit: f64, horizon_days: f64) -> Option<Forecast> {
    let (_, newest) = *values.last()?;
    if values.len() < LEAST_VALUES {
        return None;
    }
    let mut slopes: Vec<f64> = Vec::new();
    for (position, (from, then)) in values.iter().enumerate() {
        for (to, later) in &values[position + 1..] {
            let days = to.seconds_since(*from) / SECONDS_PER_DAY;
            if days > 0.0 {
                slopes.push((later - then) / days);
            }
        }
    }
    slopes.sort_by(f64::total_cmp);
    let (count, pairs) = (values.len() as f64, slopes.len());
    let spread = NINETY_PERCENT * (count * (count - 1.0) * (2.0 * count + 5.0) / 18.0).sqrt();
    let place = |place: f64| slopes.get((place.max(0.0) as usize).min(pairs.saturating_sub(1))).copied();
    let per_day = crate::findings::robust::median(&slopes)?;
    let slowest = place((pairs as f64 - spread) / 2.0)?;
    let fastest = place((pairs as f64 + spread) / 2.0)?;
    let left = limit - newest;
    let days = |slope: f64| (slope > 0.0).then(|| (left / slope).max(0.0));
    let forecast = Forecast { days: days(per_day)?, soonest_days: days(fastest)?, latest_days: days(slowest), per_day };
    let width = forecast.latest_days.unwrap_or(f64::INFINITY) - forecast.soonest_days;
    (forecast.days <= horizon_days && width <= horizon_days).then_some(forecast)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn daily(values: impl IntoIterator<Item = f64>) -> Vec<(Timestamp, f64)> {
        values.into_iter().enumerate().map(|(day, value)| (Timestamp(day as i64 * 86_400_000_000), value)).collect()
    }

    #[test]
    fn a_volume_that_fills_by_ten_a_day_is_full_in_nine() {
        let found = forecast(&daily((0..10).map(|day| f64::from(day) * 10.0)), 180.0, 60.0).unwrap();
        assert_eq!((found.days, found.soonest_days, found.latest_days, found.per_day), (9.0, 9.0, Some(9.0), 10.0));
    }

    #[test]
    fn nothing_is_said_of_what_does_not_grow_or_is_far_or_unsure() {
        assert_eq!(forecast(&daily([5.0; 20]), 10.0, 60.0), None);
        assert_eq!(forecast(&daily((0..20).map(f64::from)), 1e6, 60.0), None, "far");
        assert_eq!(forecast(&daily([0.0, 1.0, 2.0, 3.0]), 5.0, 60.0), None, "too few");
        let wild = [3.0, 9.0, 1.0, 8.0, 2.0, 7.0, 3.0, 9.5];
        assert_eq!(forecast(&daily(wild), 12.0, 30.0), None, "unsure");
    }

    proptest! {
        #[test]
        fn a_line_is_continued_whatever_a_few_days_did(
            slope in 0.1f64..100.0, days_left in 1.0f64..50.0, wild in prop::collection::hash_set(0usize..29, 0..4), by in -1e6f64..1e6,
        ) {
            let values = (0..30).map(|day| slope * f64::from(day) + if wild.contains(&(day as usize)) { by } else { 0.0 });
            let limit = slope * 29.0 + slope * days_left;
            if let Some(found) = forecast(&daily(values), limit, 1e3) {
                prop_assert!((found.days - days_left).abs() < days_left * 0.05 + 0.05, "{found:?} {days_left}");
                prop_assert!(found.soonest_days <= found.days + 1e-9);
            }
        }
    }
}
