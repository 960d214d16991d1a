//! Robust statistics: figures that a few wild values cannot carry away.

/// The median; nothing for no values. Values that are not numbers must not be given.
pub fn median(values: &[f64]) -> Option<f64> {
    let mut sorted = values.to_vec();
    sorted.sort_by(f64::total_cmp);
    let middle = sorted.len() / 2;
    match sorted.len() {
        0 => None,
        count if count % 2 == 1 => Some(sorted[middle]),
        _ => Some((sorted[middle - 1] + sorted[middle]) / 2.0),
    }
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
        self.0 ^= self.0 >> 12;
        self.0 ^= self.0 << 25;
        self.0 ^= self.0 >> 27;
        (self.0.wrapping_mul(0x2545_f491_4f6c_dd1d) >> 33) as usize % below
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
