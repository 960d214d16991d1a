//! Numbers that look drawn by lot and are always the same for the same arguments, in any order of asking.

/// Numbers for one purpose at one moment.
#[derive(Debug, Clone)]
pub struct Noise(u64);

impl Noise {
    /// Those of a seed, for what `parts` name: an object, a minute.
    pub fn of(seed: u64, parts: &[u64]) -> Noise {
        Noise(parts.iter().fold(mixed(seed), |state, part| mixed(state ^ part.wrapping_mul(0x9e37_79b9_7f4a_7c15))))
    }

    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        mixed(self.0)
    }

    /// Evenly spread from 0 up to, not including, 1.
    pub fn unit(&mut self) -> f64 {
        (self.next() >> 11) as f64 / (1u64 << 53) as f64
    }

    /// Of the normal distribution with mean 0 and deviation 1.
    pub fn normal(&mut self) -> f64 {
        let (radius, angle) = ((-2.0 * (1.0 - self.unit()).ln()).sqrt(), self.unit() * std::f64::consts::TAU);
        radius * angle.cos()
    }

    /// A factor around 1 that is as often twice as half: of the log-normal distribution.
    pub fn factor(&mut self, deviation: f64) -> f64 {
        // Its mean is 1, not its median.
        (self.normal() * deviation - deviation * deviation / 2.0).exp()
    }

    /// How many of independent events happen where `mean` are expected.
    pub fn count(&mut self, mean: f64) -> i64 {
        if mean > 40.0 {
            return (mean + self.normal() * mean.sqrt()).round().max(0.0) as i64;
        }
        let (limit, mut product, mut count) = ((-mean).exp(), self.unit(), 0);
        while product > limit {
            product *= self.unit();
            count += 1;
        }
        count
    }
}

/// Every bit of the answer hangs on every bit of the argument (the mixer of SplitMix64: Steele, Lea and
/// Flood, 2014).
fn mixed(value: u64) -> u64 {
    let value = (value ^ (value >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    let value = (value ^ (value >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    value ^ (value >> 31)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn mean(numbers: impl Iterator<Item = f64>) -> f64 {
        let all: Vec<f64> = numbers.collect();
        all.iter().sum::<f64>() / all.len() as f64
    }

    #[test]
    fn the_same_arguments_give_the_same_numbers() {
        assert_eq!(Noise::of(7, &[1, 2]).unit(), Noise::of(7, &[1, 2]).unit());
        assert_ne!(Noise::of(7, &[1, 2]).unit(), Noise::of(7, &[2, 1]).unit());
        assert_ne!(Noise::of(7, &[1, 2]).unit(), Noise::of(8, &[1, 2]).unit());
    }

    #[test]
    fn means_are_what_was_asked() {
        let draws = || (0..20_000).map(|n| Noise::of(3, &[n]));
        assert!((mean(draws().map(|mut noise| noise.unit())) - 0.5).abs() < 0.01);
        assert!(mean(draws().map(|mut noise| noise.normal())).abs() < 0.03);
        assert!((mean(draws().map(|mut noise| noise.factor(0.3))) - 1.0).abs() < 0.02);
        for expected in [0.2, 3.0, 200.0] {
            let found = mean(draws().map(|mut noise| noise.count(expected) as f64));
            assert!((found / expected - 1.0).abs() < 0.03, "{found} for {expected}");
        }
    }
}
