use std::ops::Range;

use super::levels::{Level, Levels};

/// Days on each side of a change that a ramp is fitted to.
const DAYS_AROUND: usize = 2;
/// Blocks that a ramp must last at least; what is quicker is a step.
const SHORTEST: usize = 6;
/// Places that are tried for each end of a ramp, about.
const PLACES: usize = 24;
/// Starts whose fit is worse by no more than so many long-run variances may be the true one (χ² of two freedoms at
/// 98 %).
const MAY_BE: f64 = 8.0;

/// A way from one level to the next that takes its time: straight from `start` to `end`.
#[derive(Debug, Clone, PartialEq)]
pub struct Ramp {
    /// Blocks that it was fitted to.
    pub window: Range<usize>,
    /// Squared distance of the blocks from the ramp.
    pub scatter: f64,
    /// Squared distance from the best single step, but for the block that the step falls into.
    pub scatter_of_step: f64,
    /// First block on the ramp.
    pub start: usize,
    /// First block behind it.
    pub end: usize,
    /// Where the start may lie.
    pub earliest: usize,
    /// Where the start may lie, too.
    pub latest: usize,
}

/// The ramp between two levels that fits best; nothing where there is no room for one.
///
/// Weighted least squares over both ends, and the two levels with them, which what lies further off holds in place.
pub fn ramp(of: &Levels, before: &Level, after: &Level) -> Option<Ramp> {
    let day = (of.blocks_a_day.round() as usize).max(4);
    let from = before.last_run().max(before.end().saturating_sub(DAYS_AROUND * day));
    let to = after.first_run().min(after.start() + DAYS_AROUND * day);
    let fit =
        Fit { of, window: from..to, held: [held(of, before, &(0..from)), held(of, after, &(to..of.blocks.len()))] };
    let scatter_of_step = (from + 1..to).map(|cut| fit.scatter(cut, cut, Some(cut - 1))).fold(f64::INFINITY, f64::min);

    let (left, right) = (before.end(), after.start());
    let middle = left + (right - left) / 2;
    let reach = right - left + day / 2;
    let pace = (reach / PLACES).max(1);
    let mut fits: Vec<(f64, usize, usize)> = Vec::new();
    for start in (from.max(left.saturating_sub(reach))..=middle.min(to.saturating_sub(1))).step_by(pace) {
        for end in ((start + SHORTEST).max(middle)..to.min(right + reach)).step_by(pace.max(2)) {
            fits.push((fit.scatter(start, end, None), start, end));
        }
    }
    let &(scatter, start, end) = fits.iter().min_by(|a, b| a.0.total_cmp(&b.0)).filter(|best| best.0.is_finite())?;
    let may_be = scatter + MAY_BE * of.noise.long_run();
    let starts = || fits.iter().filter(|fit| fit.0 <= may_be).map(|fit| fit.1);
    Some(Ramp {
        window: from..to,
        scatter,
        scatter_of_step,
        start,
        end,
        earliest: starts().min()?,
        latest: starts().max()?,
    })
}

/// Level and weight of what of a level lies within bounds.
fn held(of: &Levels, level: &Level, bounds: &Range<usize>) -> (f64, f64) {
    let within = level.pieces.iter().map(|piece| piece.start.max(bounds.start)..piece.end.min(bounds.end));
    of.sums.level(within).unwrap_or_default()
}

struct Fit<'a> {
    of: &'a Levels,
    window: Range<usize>,
    /// Level and weight of what lies further off on each side.
    held: [(f64, f64); 2],
}

impl Fit<'_> {
    /// Squared distance from the best two levels with a straight way from `start` to `end` between them.
    fn scatter(&self, start: usize, end: usize, without: Option<usize>) -> f64 {
        let [(before, before_weight), (after, after_weight)] = self.held;
        let at = |block: usize| self.of.blocks[block].at as f64 - 0.5;
        let (from, length) = (at(start), at(end) - at(start));
        let (mut aa, mut ab, mut bb) = (before_weight, 0.0, after_weight);
        let (mut ay, mut by) = (before_weight * before, after_weight * after);
        let mut yy = before_weight * before * before + after_weight * after * after;
        for block in self.window.clone().filter(|block| Some(*block) != without) {
            let point = self.of.blocks[block];
            let share = if length > 0.0 {
                ((point.at as f64 - from) / length).clamp(0.0, 1.0)
            } else {
                f64::from(u8::from(block >= start))
            };
            let (rest, weighted) = (1.0 - share, point.weight * point.value);
            aa += point.weight * rest * rest;
            ab += point.weight * rest * share;
            bb += point.weight * share * share;
            ay += rest * weighted;
            by += share * weighted;
            yy += weighted * point.value;
        }
        let determinant = aa * bb - ab * ab;
        if determinant <= 1e-9 {
            return f64::INFINITY;
        }
        let (low, high) = ((ay * bb - by * ab) / determinant, (by * aa - ay * ab) / determinant);
        yy - low * ay - high * by
    }
}
