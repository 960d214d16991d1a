//! Robust statistics: figures that a few wild values cannot carry away.

/// The median; nothing for no values. Values that are not numbers must not be given. Linear.
pub fn median(values: &[f64]) -> Option<f64> {
    let mut values = values.to_vec();
    let middle = values.len() / 2;
    if values.is_empty() {
        return None;
    }
    let is_odd = values.len() % 2 == 1;
    let (below, upper, _) = values.select_nth_unstable_by(middle, f64::total_cmp);
    let lower = below.iter().copied().max_by(f64::total_cmp).filter(|_| !is_odd);
    Some(lower.map_or(*upper, |lower| (lower + *upper) / 2.0))
}

/// The median of each value and of `half` neighbours on either side, fewer at the ends; the upper one of two. Those around
/// are kept in order while one comes in and one goes out.
pub fn running_median(values: &[f64], half: usize) -> Vec<f64> {
    let mut around: Vec<f64> = Vec::with_capacity(2 * half + 2);
    let place = |around: &[f64], value: f64| around.partition_point(|one| one.total_cmp(&value).is_lt());
    let arrive = |around: &mut Vec<f64>, at: usize| {
        if let Some(value) = values.get(at) {
            around.insert(place(around, *value), *value);
        }
    };
    (0..half).for_each(|at| arrive(&mut around, at));
    (0..values.len())
        .map(|at| {
            arrive(&mut around, at + half);
            if let Some(gone) = at.checked_sub(half + 1) {
                around.remove(place(&around, values[gone]));
            }
            around[around.len() / 2]
        })
        .collect()
}

/// The value at this share of the values in order, which are reordered; nothing for no values. Linear, and without
/// interpolation.
pub fn quantile_of(values: &mut [f64], share: f64) -> Option<f64> {
    let last = values.len().checked_sub(1)?;
    let position = (last as f64 * share.clamp(0.0, 1.0)).round() as usize;
    Some(*values.select_nth_unstable_by(position, f64::total_cmp).1)
}

/// How far from nothing a value must be, in spreads known from so many freedoms, to lie outside of 95 % of what chance
/// gives: Student's t at 97.5 %, by the expansion of Cornish and Fisher; within 1 % from three freedoms on.
pub fn student_975(freedom: f64) -> f64 {
    let z: f64 = 1.959_964;
    let [first, second, third] = [
        (z.powi(3) + z) / 4.0,
        (5.0 * z.powi(5) + 16.0 * z.powi(3) + 3.0 * z) / 96.0,
        (3.0 * z.powi(7) + 19.0 * z.powi(5) + 17.0 * z.powi(3) - 15.0 * z) / 384.0,
    ];
    z + first / freedom + second / freedom.powi(2) + third / freedom.powi(3)
}

/// Chance that a normal value lies further from nothing than so many spreads, on either side: Abramowitz and Stegun
/// 7.1.26, and its asymptotic form for what is far out.
pub fn two_sided_p(spreads: f64) -> f64 {
    let z = spreads.abs();
    if z > 5.0 {
        return 2.0 * (-z * z / 2.0).exp() / (z * std::f64::consts::TAU.sqrt());
    }
    let x = z / std::f64::consts::SQRT_2;
    let t = 1.0 / (1.0 + 0.327_591_1 * x);
    let series = [0.254_829_592, -0.284_496_736, 1.421_413_741, -1.453_152_027, 1.061_405_429];
    series.iter().rev().fold(0.0, |sum, term| (sum + term) * t) * (-x * x).exp()
}

/// The value with half of the weight on either side; nothing for no weight.
pub fn weighted_median(weighted: &[(f64, f64)]) -> Option<f64> {
    let mut sorted: Vec<(f64, f64)> = weighted.iter().copied().filter(|(_, weight)| *weight > 0.0).collect();
    sorted.sort_by(|a, b| a.0.total_cmp(&b.0));
    let half = sorted.iter().map(|(_, weight)| weight).sum::<f64>() / 2.0;
    let mut passed = 0.0;
    sorted.iter().find_map(|(value, weight)| {
        passed += weight;
        (passed >= half).then_some(*value)
    })
}

/// Median absolute deviation, scaled so that it estimates the standard deviation of normal values.
pub fn scaled_mad(values: &[f64]) -> Option<f64> {
    let centre = median(values)?;
    let deviations: Vec<f64> = values.iter().map(|value| (value - centre).abs()).collect();
    median(&deviations).map(|mad| mad * 1.4826)
}

/// The value below which `share` of the values lie, by linear interpolation; nothing for no values.
pub fn quantile(values: &[f64], share: f64) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let position = share.clamp(0.0, 1.0) * sorted.len().checked_sub(1)? as f64;
    let (below, above) = (position.floor() as usize, position.ceil() as usize);
    Some(sorted[below] + (sorted[above] - sorted[below]) * (position - position.floor()))
}

/// Numbers that look random and are the same for the same seed: xorshift64*, Vigna 2016.
#[derive(Debug, Clone)]
pub struct SeededRng(u64);

impl SeededRng {
    /// Numbers drawn from a seed.
    pub fn new(seed: u64) -> Self {
        SeededRng(seed ^ 0x9e37_79b9_7f4a_7c15)
    }

    /// A number from 0 up to but not including `below`, which must not be zero.
    pub fn below(&mut self, below: usize) -> usize {
        (self.next() >> 33) as usize % below
    }

    fn next(&mut self) -> u64 {
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        self.0.wrapping_mul(0x2545_f491_4f6c_dd1d)
    }

    /// A number above 0 and below 1.
    pub fn unit(&mut self) -> f64 {
        ((self.next() >> 11) as f64 + 0.5) / (1u64 << 53) as f64
    }

    /// A number of the standard normal distribution: Box and Muller 1958.
    pub fn normal(&mut self) -> f64 {
        (-2.0 * self.unit().ln()).sqrt() * (std::f64::consts::TAU * self.unit()).cos()
    }
}

/// Positions of a block bootstrap resample of `count` values in blocks of `block`: neighbours stay
/// together, so that values which hang together do not make the result look surer than it is.
pub fn block_resample(rng: &mut SeededRng, count: usize, block: usize) -> Vec<usize> {
    let block = block.clamp(1, count.max(1));
    let mut positions = Vec::with_capacity(count + block);
    while positions.len() < count {
        let start = rng.below(count - block + 1);
        positions.extend(start..start + block);
    }
    positions.truncate(count);
    positions
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn one_wild_value_moves_neither_median_nor_deviation() {
        let calm = [1.0, 2.0, 3.0, 4.0, 5.0];
        let wild = [1.0, 2.0, 3.0, 4.0, 5e9];
        assert_eq!(median(&calm), median(&wild));
        assert_eq!(scaled_mad(&calm), scaled_mad(&wild));
        assert_eq!(median(&[]), None);
        assert_eq!(quantile(&calm, 0.25), Some(2.0));
    }

    #[test]
    fn quantiles_of_distributions_are_those_of_the_tables() {
        for (freedom, table) in [(3.0, 3.182), (5.0, 2.571), (10.0, 2.228), (30.0, 2.042)] {
            assert!((student_975(freedom) / table - 1.0).abs() < 0.02, "{freedom}: {}", student_975(freedom));
        }
        for (z, table) in [(0.0, 1.0), (1.959_964, 0.05), (3.0, 0.002_699_8), (6.0, 1.973e-9)] {
            assert!((two_sided_p(z) / table - 1.0).abs() < 0.04, "{z}: {}", two_sided_p(z));
        }
    }

    proptest! {
        #[test]
        fn a_running_median_is_that_of_each_window(values in proptest::collection::vec(-3i8..3, 0..40), half in 0usize..50) {
            let values: Vec<f64> = values.into_iter().map(f64::from).collect();
            let window = |at: usize| &values[at.saturating_sub(half)..(at + half + 1).min(values.len())];
            let expected: Vec<_> = (0..values.len()).filter_map(|at| quantile_of(&mut window(at).to_vec(), 0.5)).collect();
            prop_assert_eq!(running_median(&values, half), expected);
        }
    }

    #[test]
    fn a_running_median_follows_a_level_and_passes_over_a_wild_value() {
        assert_eq!(
            running_median(&[1.0, 1.0, 9.0, 1.0, 1.0, 5.0, 5.0, 5.0], 1),
            [1.0, 1.0, 1.0, 1.0, 1.0, 5.0, 5.0, 5.0]
        );
        assert_eq!(running_median(&[], 3), [] as [f64; 0]);
        assert_eq!(quantile_of(&mut [3.0, 1.0, 2.0], 0.0), Some(1.0));
    }

    #[test]
    fn weight_decides_a_weighted_median() {
        assert_eq!(weighted_median(&[(1.0, 1.0), (9.0, 5.0), (2.0, 1.0)]), Some(9.0));
        assert_eq!(weighted_median(&[(1.0, 0.0)]), None);
    }

    proptest! {
        #[test]
        fn a_resample_keeps_to_the_values(seed: u64, count in 1usize..200, block in 1usize..20) {
            let positions = block_resample(&mut SeededRng::new(seed), count, block);
            prop_assert_eq!(positions.len(), count);
            prop_assert!(positions.iter().all(|position| *position < count));
        }
    }
}
