use super::outside::{LOOKED_AT, together};
use crate::findings::robust::quantile_of;

/// Spreads from the middle of a range to its ends.
pub const USUAL_LIMIT: f64 = 2.6;
/// What is further away than this was no usual time: it does not widen the range …
const UNUSUAL: f64 = 8.0;
/// … unless it came more often than so many times.
const OFTEN: usize = 5;
/// Times that the past may have been outside of the range.
const MOST_TIMES: usize = 1;
/// Buckets of one time outside lie no further apart.
const APART: usize = 18;

/// The limit that a metric keeps to, in spreads, by its own past: one that is wild by nature has a wider range.
///
/// `deviations` are those of its past, in order of time. Its past may have been outside of the range once, not more;
/// what was far outside a few times does not count.
pub fn limit(deviations: &[f64]) -> f64 {
    let mut heights = heights(deviations);
    let far = heights.iter().filter(|height| **height > UNUSUAL).count();
    if far <= OFTEN {
        heights.retain(|height| *height <= UNUSUAL);
    }
    let place = heights.len().checked_sub(MOST_TIMES + 1);
    let highest = place.map_or(0.0, |place| {
        let share = place as f64 / (heights.len() - 1).max(1) as f64;
        quantile_of(&mut heights, share).unwrap_or_default()
    });
    USUAL_LIMIT.max(highest)
}

/// How far outside each time was: the largest deviation of neighbouring values together, for each stretch of
/// time in which the usual limit was passed.
fn heights(deviations: &[f64]) -> Vec<f64> {
    let mut heights: Vec<f64> = Vec::new();
    let mut last = None;
    let mut newest = [0.0f64; LOOKED_AT];
    let seen = deviations.iter().enumerate().filter(|(_, deviation)| deviation.is_finite());
    for (at, deviation) in seen {
        newest.rotate_left(1);
        newest[LOOKED_AT - 1] = *deviation;
        let height = together(newest).abs();
        if height <= USUAL_LIMIT {
            continue;
        }
        match (last, heights.last_mut()) {
            (Some(last), Some(highest)) if at - last <= APART => *highest = highest.max(height),
            _ => heights.push(height),
        }
        last = Some(at);
    }
    heights
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Quiet but for times that drift so far away.
    fn past(times: &[f64]) -> Vec<f64> {
        let way = |height: &f64| (1..12).map(|part| height * f64::from(part) / 12.0).collect();
        let drift = |height: &f64| [vec![0.0; 40], way(height), vec![*height; 3]].concat();
        times.iter().flat_map(drift).collect()
    }

    #[test]
    fn a_quiet_past_keeps_the_usual_limit_and_a_wild_one_widens_it() {
        assert_eq!(limit(&past(&[1.0, 2.0])), USUAL_LIMIT);
        assert_eq!(limit(&past(&[6.0])), USUAL_LIMIT, "once is allowed");
        assert_eq!(limit(&past(&[6.0, 5.0, 4.0])), 5.0);
        assert_eq!(limit(&past(&[-6.0, 5.0])), 5.0);
    }

    #[test]
    fn trouble_in_the_past_blinds_nobody_but_what_comes_every_day_is_usual() {
        assert_eq!(limit(&past(&[30.0, 40.0, 50.0])), USUAL_LIMIT);
        assert!(limit(&past(&[30.0; 12])) > 30.0);
    }

    #[test]
    fn a_single_wild_value_is_no_time_outside() {
        let mut past = vec![0.0; 100];
        past[20] = 50.0;
        past[60] = 50.0;
        assert_eq!(limit(&past), USUAL_LIMIT);
    }
}
