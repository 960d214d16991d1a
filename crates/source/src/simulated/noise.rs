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

    /// About normal with mean 0 and deviation 1, from one draw: the sum of four even ones, never beyond 3.5.
    fn nearly_normal(&mut self) -> f64 {
        let drawn = self.next();
        let sum: u64 = (0..4).map(|part| (drawn >> (16 * part)) & 0xffff).sum();
        (sum as f64 / 65_536.0 - 2.0) * 3f64.sqrt()
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

/// Scales of one drift, at most.
const MOST_SCALES: u64 = 16;

/// A factor around 1 that moves as those of real servers do: minutes next to each other are alike, and so are
/// hours. Each pair of `scales` is a width in minutes and the deviation of the logarithm at that width.
pub fn drift(seed: u64, parts: [u64; 2], minute: i64, scales: &[(i64, f64)]) -> f64 {
    let of_all = Noise::of(seed, &parts).0;
    let mut logarithm = 0.0;
    for (scale, (width, deviation)) in scales.iter().enumerate() {
        let at = |cell: i64| Noise(mixed(of_all ^ (cell as u64 * MOST_SCALES + scale as u64))).nearly_normal();
        let (cell, into) = (minute.div_euclid(*width), minute.rem_euclid(*width) as f64 / *width as f64);
        // As wide between two points as at them.
        let normal = if into > 0.0 {
            (at(cell) * (1.0 - into) + at(cell + 1) * into) / ((1.0 - into) * (1.0 - into) + into * into).sqrt()
        } else {
            at(cell)
        };
        logarithm += normal * deviation - deviation * deviation / 2.0;
    }
    logarithm.exp()
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

    #[test]
    fn what_drifts_is_alike_from_minute_to_minute_and_means_one() {
        let scales = [(360, 0.1), (60, 0.1), (10, 0.1)];
        let series: Vec<f64> = (0..40_000).map(|minute| drift(9, [1, 2], minute, &scales)).collect();
        assert!((mean(series.iter().copied()) - 1.0).abs() < 0.01);
        let correlation = |lag: usize| {
            let pairs = || series.iter().zip(&series[lag..]).map(|(now, later)| (now - 1.0, later - 1.0));
            mean(pairs().map(|(now, later)| now * later)) / mean(pairs().map(|(now, _)| now * now))
        };
        // What is ten minutes wide is gone after ten minutes, what is an hour wide after an hour.
        let (next, bucket, hour, day) = (correlation(1), correlation(10), correlation(60), correlation(1440));
        assert!(next > 0.9 && (0.4..0.75).contains(&bucket), "{next} {bucket}");
        assert!((0.25..0.5).contains(&hour) && day.abs() < 0.1, "{hour} {day}");
    }
}
