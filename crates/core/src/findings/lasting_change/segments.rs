use crate::findings::robust::{median, scaled_mad};

/// Penalty per cut, in units of the noise variance times ln n. The usual Schwarz penalty for a cut
/// with its level is 2; heavier tails and values that hang together ask for more.
const PENALTY: f64 = 6.0;
/// Steps between neighbours beyond this many spreads of their own are wild values, and cut to it.
const WILD: f64 = 4.0;
/// Noise below this (on the log scale: 2 %) is taken as this.
const LEAST_NOISE: f64 = 0.02;

/// Where a series of (value, weight) changes its level: positions of the first value of each stretch
/// but the first, each stretch at least `least` values long.
///
/// Penalised least squares, solved exactly by dynamic programming with pruning (PELT: Killick,
/// Fearnhead and Eckley 2012). The noise is estimated from the steps between neighbours, which a few
/// changes of level do not disturb. Single wild values are drawn towards their neighbours first.
/// About linear when levels change now and then, n² at worst.
pub fn segments(points: &[(f64, f64)], least: usize) -> Vec<usize> {
    let count = points.len();
    if count < 2 * least {
        return Vec::new();
    }
    let noise = noise(points);
    let tamed = tame(points, noise);
    let cost = Cost::new(&tamed);
    let penalty = PENALTY * noise * noise * (count as f64).ln();

    let mut best = vec![f64::INFINITY; count + 1];
    let mut previous_cut = vec![0; count + 1];
    best[0] = -penalty;
    let mut candidates: Vec<usize> = vec![0];
    for end in least..=count {
        for &start in &candidates {
            let total = best[start] + cost.of(start, end) + penalty;
            if end - start >= least && total < best[end] {
                best[end] = total;
                previous_cut[end] = start;
            }
        }
        candidates.retain(|&start| end - start < least || best[start] + cost.of(start, end) <= best[end]);
        candidates.push(end + 1 - least);
        candidates.dedup();
    }

    let mut cuts = Vec::new();
    let mut at = previous_cut[count];
    while at > 0 {
        cuts.push(at);
        at = previous_cut[at];
    }
    cuts.reverse();
    cuts
}

/// Spread of a value around its level.
fn noise(points: &[(f64, f64)]) -> f64 {
    let steps: Vec<f64> = points.windows(2).map(|pair| pair[1].0 - pair[0].0).collect();
    (scaled_mad(&steps).unwrap_or_default() / std::f64::consts::SQRT_2).max(LEAST_NOISE)
}

/// Draws values that stand out from the median of the five around them back to `WILD` spreads.
fn tame(points: &[(f64, f64)], noise: f64) -> Vec<(f64, f64)> {
    (0..points.len())
        .map(|i| {
            let around = &points[i.saturating_sub(2)..(i + 3).min(points.len())];
            let level = median(&around.iter().map(|point| point.0).collect::<Vec<_>>()).unwrap_or(points[i].0);
            (points[i].0.clamp(level - WILD * noise, level + WILD * noise), points[i].1)
        })
        .collect()
}

/// Weighted squared distance of a stretch from its own mean, from running sums.
struct Cost {
    sums: Vec<(f64, f64, f64)>,
}

impl Cost {
    fn new(points: &[(f64, f64)]) -> Self {
        let mut sums = vec![(0.0, 0.0, 0.0)];
        let (mut weights, mut values, mut squares) = (0.0, 0.0, 0.0);
        for (value, weight) in points {
            weights += weight;
            values += weight * value;
            squares += weight * value * value;
            sums.push((weights, values, squares));
        }
        Cost { sums }
    }

    fn of(&self, start: usize, end: usize) -> f64 {
        let (from, to) = (self.sums[start], self.sums[end]);
        let (weights, values, squares) = (to.0 - from.0, to.1 - from.1, to.2 - from.2);
        if weights > 0.0 { (squares - values * values / weights).max(0.0) } else { 0.0 }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn levels(levels: &[(usize, f64)]) -> Vec<(f64, f64)> {
        let wobble = [0.0, 0.05, -0.03, 0.02, -0.05, 0.04, -0.01];
        let values = levels.iter().flat_map(|(count, level)| std::iter::repeat_n(*level, *count));
        values.enumerate().map(|(i, level)| (level + wobble[i % wobble.len()], 1.0)).collect()
    }

    #[test]
    fn two_levels_have_one_cut_and_three_have_two() {
        assert_eq!(segments(&levels(&[(20, 1.0), (15, 2.0)]), 5), [20]);
        assert_eq!(segments(&levels(&[(20, 1.0), (15, 2.0), (20, 1.0)]), 5), [20, 35]);
    }

    #[test]
    fn one_level_has_no_cut_and_stretches_are_long_enough() {
        assert_eq!(segments(&levels(&[(50, 1.0)]), 5), [] as [usize; 0]);
        assert_eq!(segments(&levels(&[(20, 1.0), (2, 2.0), (20, 1.0)]), 5), [] as [usize; 0]);
        assert_eq!(segments(&levels(&[(20, 1.0), (5, 2.0)]), 5), [20]);
    }

    #[test]
    fn too_few_values_have_no_cut() {
        assert_eq!(segments(&levels(&[(4, 1.0), (5, 9.0)]), 5), [] as [usize; 0]);
        assert_eq!(segments(&[], 5), [] as [usize; 0]);
    }
}
