use strum::{EnumString, IntoStaticStr, VariantArray};

/// Values that must lie outside together, and as many before them.
const TOGETHER: usize = 3;
pub const LOOKED_AT: usize = 2 * TOGETHER;
/// None of them counts as more than so many spreads beyond the one that lies nearest to the middle of the range.
const MOST_BEYOND: f64 = 4.5;
/// A step is sudden where all of the newest values lie so many spreads beyond all of those before …
const SUDDEN: f64 = 1.5;
/// … and reaches the limit from so much of the way: what drifts there is more often noise.
const OF_SUDDEN: f64 = 0.7;
/// Outside again is what is further away than this share of the limit; none of the newest values may be.
const STILL_OUTSIDE: f64 = 0.7;

/// On which side of its usual range something lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Side {
    /// Above.
    High,
    /// Below.
    Low,
}

/// How far outside the newest values are together, in spreads above the middle; below it where that is negative.
///
/// The mean of the last three, of which none counts for much more than the least: one or two wild values beside a usual
/// one are nothing. More where they came suddenly.
pub fn together(newest: [f64; LOOKED_AT]) -> f64 {
    let high = above(newest);
    if high > 0.0 { high } else { -above(newest.map(|value| -value)) }
}

fn above([a, b, c, newest @ ..]: [f64; LOOKED_AT]) -> f64 {
    let least = newest.into_iter().fold(f64::INFINITY, f64::min);
    let is_sudden = least - a.max(b).max(c) >= SUDDEN;
    let sum: f64 = newest.iter().map(|value| value.min(least + MOST_BEYOND)).sum();
    let mean = (sum / TOGETHER as f64).max(0.0);
    if is_sudden { mean / OF_SUDDEN } else { mean }
}

/// Whether the newest values of a metric lie outside of its usual range.
///
/// They do from when [`together`] is beyond the limit, and no longer once three in a row are well inside. What was not
/// seen changes nothing.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Outside {
    newest: [f64; LOOKED_AT],
    side: Option<Side>,
}

impl Outside {
    /// Goes on with the next value, so many spreads above the middle of the range; what counts as beyond begins at
    /// `limit`.
    pub fn go_on(&mut self, deviation: f64, limit: f64) {
        if !deviation.is_finite() {
            return;
        }
        self.newest.rotate_left(1);
        self.newest[LOOKED_AT - 1] = deviation;
        let together = together(self.newest);
        let stays = |sign: f64| self.newest[TOGETHER..].iter().any(|value| value * sign > limit * STILL_OUTSIDE);
        self.side = match self.side {
            _ if together > limit => Some(Side::High),
            _ if together < -limit => Some(Side::Low),
            Some(Side::High) if stays(1.0) => Some(Side::High),
            Some(Side::Low) if stays(-1.0) => Some(Side::Low),
            _ => None,
        };
    }

    /// On which side they lie; nothing while they lie inside.
    pub fn side(&self) -> Option<Side> {
        self.side
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sides(deviations: &[f64]) -> Vec<Option<Side>> {
        let mut outside = Outside::default();
        let next = |deviation: &f64| {
            outside.go_on(*deviation, 4.0);
            outside.side()
        };
        deviations.iter().map(next).collect()
    }

    #[test]
    fn one_wild_value_is_nothing_and_two_beside_a_high_one_are() {
        let high = Some(Side::High);
        assert_eq!(sides(&[0.0, 9.0, 1.0, 9.0, 0.0]), [None; 5]);
        assert_eq!(sides(&[0.0, 9.0, 2.0, 5.0]), [None, None, None, high]);
        assert_eq!(sides(&[-2.0, -9.0, -5.0]), [None, None, Some(Side::Low)]);
        assert_eq!(sides(&[9.0, -9.0, -5.0]), [None; 3]);
    }

    #[test]
    fn what_comes_suddenly_is_told_from_less() {
        let high = Some(Side::High);
        assert_eq!(sides(&[0.0, 0.5, 3.2, 3.5, 3.2])[4], high);
        assert_eq!(sides(&[2.0, 2.5, 3.2, 3.5, 3.2])[4], None, "it drifted there");
    }

    #[test]
    fn it_is_over_when_three_in_a_row_are_well_inside() {
        let high = Some(Side::High);
        let all = sides(&[2.0, 5.0, 5.0, 3.0, 3.0, 3.0, 1.0, 1.0, 1.0]);
        assert_eq!(all, [None, None, high, high, high, high, high, high, None]);
        assert_eq!(sides(&[2.0, 5.0, 5.0, f64::NAN, f64::NAN, f64::NAN])[5], high, "what was not seen changes nothing");
    }
}
