use crate::findings::robust::{quantile_of, scaled_mad};

/// Distances, in blocks, over which values are compared.
const LAGS: [usize; 11] = [1, 2, 3, 4, 6, 8, 12, 16, 24, 36, 48];
/// Correlations from one block to the next that are tried.
const CORRELATIONS: [f64; 20] =
    [0.0, 0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 0.65, 0.7, 0.75, 0.8, 0.83, 0.86, 0.88, 0.9, 0.92, 0.94, 0.95, 0.96, 0.97];
/// A distance is heard where the series is so many times as long: one step of the level then lies within at most a
/// tenth of the pairs.
const LEAST_DISTANCES: usize = 10;
/// Pairs of values that a distance needs to be heard.
const LEAST_PAIRS: usize = 8;
/// Noise below this (on the log scale: 1 %) is taken as this.
const LEAST_VARIANCE: f64 = 1e-4;

/// How values scatter around their level: on their own, and hanging together from block to block.
///
/// The sum of white noise and of an autoregression of first order. It decides what a mean of many values is worth:
/// where values hang together, a level is known far less well than their scatter from one to the next suggests.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Noise {
    /// Variance of what each value has for itself.
    pub white: f64,
    /// Variance of what hangs together.
    pub correlated: f64,
    /// Correlation of that from one block to the next.
    pub correlation: f64,
}

impl Noise {
    /// Noise of residuals, one for each block; blocks without a value are not a number.
    ///
    /// From a robust variogram: half the squared typical difference of values so many blocks apart, to which
    /// white + correlated · (1 - correlation^distance) is fitted by least squares of relative errors. Medians of
    /// differences are not carried away by a few steps of the level or by wild values. Linear in the blocks.
    pub fn of(residuals: &[f64]) -> Noise {
        let variogram: Vec<Compared> = LAGS
            .into_iter()
            .filter(|lag| lag * LEAST_DISTANCES <= residuals.len())
            .filter_map(|lag| compared(residuals, lag))
            .collect();
        if variogram.is_empty() {
            let known: Vec<f64> = residuals.iter().copied().filter(|value| value.is_finite()).collect();
            let spread = scaled_mad(&known).unwrap_or_default();
            return Noise { white: spread * spread, correlated: 0.0, correlation: 0.0 }.at_least();
        }
        // What hangs together for longer than was looked at cannot be told from a level that moves.
        let furthest = variogram[variogram.len() - 1].lag;
        let heard = CORRELATIONS.into_iter().filter(|correlation| *correlation <= 1.0 - 1.0 / furthest);
        let fits = heard.map(|correlation| fit(&variogram, correlation));
        let best = fits.min_by(|a, b| a.0.total_cmp(&b.0));
        best.map_or(Noise { white: 0.0, correlated: 0.0, correlation: 0.0 }, |(_, noise)| noise).at_least()
    }

    fn at_least(self) -> Noise {
        Noise { white: self.white.max(LEAST_VARIANCE), ..self }
    }

    /// The same noise, larger: of residuals that a pattern and levels were fitted to, too little is left.
    pub fn times(self, factor: f64) -> Noise {
        Noise { white: self.white * factor, correlated: self.correlated * factor, ..self }
    }

    /// Variance of one value.
    pub fn variance(&self) -> f64 {
        self.white + self.correlated
    }

    /// Long-run variance: that of a mean of very many values, times their number.
    pub fn long_run(&self) -> f64 {
        self.white + self.correlated * (1.0 + self.correlation) / (1.0 - self.correlation)
    }

    /// Variance of a mean of so many neighbouring values.
    pub fn of_mean(&self, count: f64) -> f64 {
        let (count, r) = (count.max(1.0), self.correlation);
        let hangs_together = (1.0 + r) / (1.0 - r) - 2.0 * r * (1.0 - r.powf(count)) / (count * (1.0 - r) * (1.0 - r));
        (self.white + self.correlated * hangs_together) / count
    }

    /// How many values without correlation would tell as much as so many of these.
    pub fn effective(&self, count: f64) -> f64 {
        count * self.variance() / self.long_run()
    }
}

/// Half the squared typical difference of values that lie so far apart, from so many pairs.
struct Compared {
    lag: f64,
    half_square: f64,
    pairs: f64,
}

fn compared(residuals: &[f64], lag: usize) -> Option<Compared> {
    let mut differences: Vec<f64> = residuals
        .iter()
        .zip(&residuals[lag..])
        .map(|(earlier, later)| (later - earlier).abs())
        .filter(|difference| difference.is_finite())
        .collect();
    let pairs = differences.len();
    // Of normal values 1.4826 times the median of absolute differences is their standard deviation.
    let typical = quantile_of(&mut differences, 0.5).filter(|_| pairs >= LEAST_PAIRS)? * 1.4826;
    Some(Compared { lag: lag as f64, half_square: (typical * typical / 2.0).max(1e-12), pairs: pairs as f64 })
}

/// The best noise with this correlation, and how far it is from the variogram.
fn fit(variogram: &[Compared], correlation: f64) -> (f64, Noise) {
    let rise = |lag: f64| 1.0 - correlation.powf(lag);
    let weight = |one: &Compared| one.pairs / (one.lag.sqrt() * one.half_square * one.half_square);
    let sum = |term: &dyn Fn(&Compared) -> f64| variogram.iter().map(|one| weight(one) * term(one)).sum::<f64>();
    let (ones, rises, squares) = (sum(&|_| 1.0), sum(&|one| rise(one.lag)), sum(&|one| rise(one.lag).powi(2)));
    let (of_white, of_correlated) = (sum(&|one| one.half_square), sum(&|one| rise(one.lag) * one.half_square));
    let determinant = ones * squares - rises * rises;
    let (mut white, mut correlated) = if determinant > 1e-9 * ones * squares {
        (
            (of_white * squares - of_correlated * rises) / determinant,
            (of_correlated * ones - of_white * rises) / determinant,
        )
    } else {
        (of_white / ones, 0.0)
    };
    if white < 0.0 {
        (white, correlated) = (0.0, of_correlated / squares);
    }
    if correlated < 0.0 {
        (white, correlated) = (of_white / ones, 0.0);
    }
    let far = sum(&|one| (white + correlated * rise(one.lag) - one.half_square).powi(2));
    (far, Noise { white, correlated, correlation })
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::robust::SeededRng;

    /// About normal values with a variance of one, correlated like this.
    fn values(count: usize, correlation: f64, seed: u64) -> Vec<f64> {
        let mut rng = SeededRng::new(seed);
        let mut value = rng.normal();
        (0..count)
            .map(|_| {
                value = correlation * value + (1.0 - correlation * correlation).sqrt() * rng.normal();
                value
            })
            .collect()
    }

    fn typical(figure: impl Fn(u64) -> f64) -> f64 {
        let mut figures: Vec<f64> = (0..40).map(figure).collect();
        quantile_of(&mut figures, 0.5).unwrap()
    }

    #[test]
    fn what_hangs_together_is_told_from_what_does_not() {
        let long_run = |correlation: f64| typical(|seed| Noise::of(&values(500, correlation, seed)).long_run());
        assert!((0.8..1.3).contains(&long_run(0.0)), "{}", long_run(0.0));
        // (1 + r) / (1 - r): 3 and 9.
        assert!((2.0..4.2).contains(&long_run(0.5)), "{}", long_run(0.5));
        assert!((5.5..13.0).contains(&long_run(0.8)), "{}", long_run(0.8));
    }

    #[test]
    fn a_step_and_wild_values_change_little() {
        let with_step = |seed: u64| {
            let mut values = values(500, 0.0, seed);
            values[300..].iter_mut().for_each(|value| *value += 8.0);
            values.iter_mut().step_by(40).for_each(|value| *value = 1e6);
            Noise::of(&values).variance()
        };
        assert!((0.8..1.8).contains(&typical(with_step)), "{}", typical(with_step));
    }

    #[test]
    fn a_mean_of_many_values_is_worth_what_the_long_run_says() {
        let noise = Noise { white: 0.5, correlated: 1.0, correlation: 0.8 };
        assert!((noise.of_mean(1.0) - noise.variance()).abs() < 1e-9);
        assert!((noise.of_mean(1e6) * 1e6 / noise.long_run() - 1.0).abs() < 1e-3);
        // Of two values: half the white, and (1 + r) / 2 of the other.
        assert!((noise.of_mean(2.0) - (0.25 + 0.9)).abs() < 1e-9);
        assert!((noise.effective(95.0) - 95.0 * 1.5 / 9.5).abs() < 1e-9);
    }

    #[test]
    fn gaps_and_few_values_are_no_trouble() {
        let gappy = |seed| {
            let mut gappy = values(300, 0.0, seed);
            gappy[100..180].fill(f64::NAN);
            Noise::of(&gappy).long_run()
        };
        assert!((0.8..1.4).contains(&typical(gappy)), "{}", typical(gappy));
        assert_eq!(Noise::of(&[]).white, LEAST_VARIANCE);
        assert!(Noise::of(&[1.0, 2.0, 4.0]).white > 0.5);
    }
}
