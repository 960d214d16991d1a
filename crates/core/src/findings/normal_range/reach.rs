use serde::{Deserialize, Serialize};

use super::grid::Grid;
use super::limit::USUAL_LIMIT;
use crate::findings::robust::scaled_mad;

/// What moves slowly has come so far in these hours that the rest is chance.
const HOURS_APART: usize = 3;

/// How far from the middle the ends of a range may lie while the course of a day is not known: as far as anything that
/// was seen, and by as much further as values a few hours apart scatter. Nights and days are two levels then, of which
/// the spread of both together says too much.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Reach {
    below: f32,
    above: f32,
}

impl Reach {
    pub fn of(grid: &Grid, left_out: &[bool], middle: f64, least_spread: f64) -> Reach {
        // Of a ratio to nothing, no more is known than of what was not seen.
        let seen = |at: usize| if left_out[at] || grid.values[at].is_infinite() { f64::NAN } else { grid.values[at] };
        let all = || (0..grid.values.len()).map(seen);
        let later = all().skip(HOURS_APART * grid.buckets_an_hour);
        let moved: Vec<f64> =
            later.zip(all()).map(|(later, value)| later - value).filter(|by| by.is_finite()).collect();
        // Two values scatter, not one.
        let scatter = scaled_mad(&moved).unwrap_or_default() / std::f64::consts::SQRT_2;
        let further = USUAL_LIMIT * scatter.max(least_spread);
        let farthest = |side: f64| all().map(|value| (value - middle) * side).fold(0.0, f64::max) + further;
        Reach { below: farthest(-1.0) as f32, above: farthest(1.0) as f32 }
    }

    /// Below the middle, and above it.
    pub fn ends(self) -> [f64; 2] {
        [self.below, self.above].map(f64::from)
    }
}
