use super::LEAST_BUCKETS;
use super::observed::{RESTS_ON_MANY, Value};
use super::points::Point;
use crate::findings::robust::{quantile_of, weighted_median};

/// Families that must have run in a typical bucket, or nothing can be said of the server as a whole.
const LEAST_FAMILIES: usize = 8;
/// The costliest families tell as much of it as all do.
const MOST_FAMILIES: usize = 200;

/// What moved the time per call of all families of a server at once, bucket by bucket on the log scale: another load of
/// its host, a slower storage, a setting that reaches everything.
///
/// The weighted median, over the families, of how far each is from its own usual. A few that changed on their own do
/// not carry it away; what is common to most is nobody's own.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct WholeServer {
    shifts: Vec<f64>,
}

impl WholeServer {
    /// What moved `families`, each with its points by number of bucket, out of `count` buckets.
    pub fn of(mut families: Vec<&[Point]>, count: usize) -> WholeServer {
        families.retain(|points| points.len() >= 2 * LEAST_BUCKETS);
        families.truncate(MOST_FAMILIES);
        let mut seen: Vec<Vec<(f64, f64)>> = vec![Vec::new(); count];
        for points in families {
            let mut values: Vec<f64> = points.iter().map(|point| point.value).collect();
            let usual = quantile_of(&mut values, 0.5).unwrap_or_default();
            for point in points {
                seen[point.at].push((point.value - usual, point.weight));
            }
        }
        let mut numbers: Vec<f64> = seen.iter().filter(|seen| !seen.is_empty()).map(|seen| seen.len() as f64).collect();
        if quantile_of(&mut numbers, 0.5).is_none_or(|typical| typical < LEAST_FAMILIES as f64) {
            return WholeServer::default();
        }
        let mut last = 0.0;
        let shift = |seen: Vec<(f64, f64)>| {
            // Where few ran, nothing says that it moved.
            last = if seen.len() < LEAST_FAMILIES / 2 { last } else { weighted_median(&seen).unwrap_or(last) };
            last
        };
        WholeServer { shifts: seen.into_iter().map(shift).collect() }
    }

    /// What it adds in a bucket; nothing where too few families ran to tell.
    pub fn at(&self, bucket: usize) -> f64 {
        self.shifts.get(bucket).copied().unwrap_or_default()
    }

    /// It as a series of its own: how many times as much as usual.
    pub fn values(&self) -> Vec<Value> {
        let value = |(at, shift): (usize, &f64)| Value { at, value: shift.exp(), rests_on: RESTS_ON_MANY, lift: 0.0 };
        self.shifts.iter().enumerate().map(value).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::robust::SeededRng;

    fn family(seed: u64, level: impl Fn(usize) -> f64) -> Vec<Point> {
        let mut rng = SeededRng::new(seed);
        let usual = rng.normal() * 3.0;
        (0..100).map(|at| Point { at, value: usual + level(at) + 0.1 * rng.normal(), weight: 1.0 }).collect()
    }

    fn of(families: &[Vec<Point>]) -> WholeServer {
        WholeServer::of(families.iter().map(Vec::as_slice).collect(), 100)
    }

    #[test]
    fn what_is_common_is_told_and_what_is_ones_own_is_not() {
        let slower_from = |from: usize, by: f64| move |at: usize| if at < from { 0.0 } else { by };
        let mut families: Vec<Vec<Point>> = (0..20).map(|seed| family(seed, slower_from(60, 0.5))).collect();
        families.extend((0..5).map(|seed| family(100 + seed, slower_from(30, 3.0))));
        let whole = of(&families);
        let mean = |from: usize, to: usize| (from..to).map(|at| whole.at(at)).sum::<f64>() / (to - from) as f64;
        assert!((mean(60, 100) - mean(0, 30) - 0.5).abs() < 0.1, "{} {}", mean(60, 100), mean(0, 30));
        assert!((mean(30, 60) - mean(0, 30)).abs() < 0.1, "{} {}", mean(30, 60), mean(0, 30));
    }

    #[test]
    fn of_few_families_nothing_is_said() {
        let families: Vec<Vec<Point>> = (0..7).map(|seed| family(seed, |at| at as f64)).collect();
        assert_eq!(of(&families).at(90), 0.0);
        assert!(of(&[]).values().is_empty());
    }
}
