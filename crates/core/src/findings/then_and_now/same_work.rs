//! Rule 19, pipeline: how much longer the work of now takes than it would have taken then, and whether that is worse than
//! somebody tolerates.
//!
//! More calls are no slower server. So the calls of now are priced at what each took then: the ratio is what the statements
//! of both periods took now over what as many calls of them would have taken then. How sure that is comes from the buckets
//! of each period: how far the price of each lies from that of the whole, with what neighbours have in common counted once
//! (the long-run variance of a series whose neighbours hang together by φ is (1 + φ)/(1 − φ) times as large).

use std::collections::HashMap;
use std::hash::BuildHasher;

use crate::findings::lasting_change::{Bucket, Interval};
use crate::findings::robust::student_975;

/// Fewer buckets in a period tell nothing of its noise.
const LEAST_BUCKETS: usize = 6;
/// The costliest families that are priced; what the rest takes is little.
const MOST_FAMILIES: usize = 500;
/// At least so many independent values are in a series, whatever its neighbours seem to have in common: with fewer nothing
/// could be said of it at all.
const LEAST_INDEPENDENT: f64 = 3.0;

/// What came of holding a period against a tolerance.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Tolerated {
    /// The same work surely takes longer than is tolerated.
    Worse,
    /// It does not, for all that can be seen.
    Within,
    /// Too little is known.
    CannotTell,
}

/// How many times as long the work of now takes as it would have taken then, with 95 % confidence; nothing where a period
/// has too few buckets or both share no statement. Buckets of one period are the same for all families.
pub fn same_work<S: BuildHasher>(
    then: &HashMap<i64, Vec<Bucket>, S>,
    now: &HashMap<i64, Vec<Bucket>, S>,
) -> Option<Interval> {
    let ran = |buckets: &[Bucket]| buckets.iter().any(|bucket| bucket.calls > 0);
    let shared = now.iter().filter_map(|(family, after)| Some((then.get(family)?.as_slice(), after.as_slice())));
    let mut shared: Vec<(&[Bucket], &[Bucket])> = shared.filter(|(before, after)| ran(before) && ran(after)).collect();
    shared.sort_by_key(|(_, after)| std::cmp::Reverse(after.iter().map(|bucket| bucket.exec_us).sum::<i64>()));
    shared.truncate(MOST_FAMILIES);
    let (before, after): (Vec<&[Bucket]>, Vec<&[Bucket]>) = shared.into_iter().unzip();
    let each = |buckets: &&[Bucket]| {
        let sum = |of: fn(&Bucket) -> i64| buckets.iter().map(of).sum::<i64>() as f64;
        (sum(|bucket| bucket.calls), sum(|bucket| bucket.exec_us))
    };
    let (mut took, mut would_have) = (0.0, 0.0);
    for ((old_calls, old_exec), (new_calls, new_exec)) in before.iter().map(each).zip(after.iter().map(each)) {
        took += new_exec;
        would_have += new_calls * old_exec / old_calls;
    }
    if took <= 0.0 || would_have <= 0.0 {
        return None;
    }
    let (one, other) = (noise(&before)?, noise(&after)?);
    let variance = one.variance + other.variance;
    // Welch and Satterthwaite: what is known of both spreads together.
    let freedom = variance.powi(2) / (one.variance.powi(2) / one.freedom + other.variance.powi(2) / other.freedom);
    let reach = student_975(if freedom.is_finite() { freedom.max(3.0) } else { 3.0 }) * variance.sqrt();
    let value = took / would_have;
    Some(Interval { value, low: value * (-reach).exp(), high: value * reach.exp() })
}

/// How sure the price of a period's work is.
struct Noise {
    /// Variance of its logarithm.
    variance: f64,
    /// Independent values that it was learnt from, less one.
    freedom: f64,
}

/// The noise of a period, from the price of its buckets; nothing where these are too few.
fn noise(families: &[&[Bucket]]) -> Option<Noise> {
    let count = families.first()?.len();
    let each: Vec<f64> = families
        .iter()
        .map(|buckets| {
            let sum = |of: fn(&Bucket) -> i64| buckets.iter().map(of).sum::<i64>() as f64;
            sum(|bucket| bucket.exec_us) / sum(|bucket| bucket.calls).max(1.0)
        })
        .collect();
    // What each bucket took over what its calls take on average, with that as its weight.
    let priced = (0..count).filter_map(|place| {
        let pairs = families.iter().zip(&each).map(|(buckets, each)| (buckets[place], each));
        let (took, worth) = pairs.fold((0.0, 0.0), |(took, worth), (bucket, each)| {
            (took + bucket.exec_us as f64, worth + bucket.calls as f64 * each)
        });
        (took > 0.0 && worth > 0.0).then(|| ((took / worth).ln(), worth))
    });
    let priced: Vec<(f64, f64)> = priced.collect();
    if priced.len() < LEAST_BUCKETS {
        return None;
    }
    let (values, weights): (Vec<f64>, Vec<f64>) = priced.into_iter().unzip();
    let n = values.len() as f64;
    let mean = values.iter().sum::<f64>() / n;
    let away: Vec<f64> = values.iter().map(|value| value - mean).collect();
    let squares: f64 = away.iter().map(|away| away.powi(2)).sum();
    let products: f64 = away.windows(2).map(|pair| pair[0] * pair[1]).sum();
    let seen = if squares > 0.0 { products / squares } else { 0.0 };
    // Short series show less of it than there is: Kendall 1954.
    let alike = (seen + (1.0 + 3.0 * seen) / n).clamp(0.0, 0.999);
    let inflation = ((1.0 + alike) / (1.0 - alike)).min(n / LEAST_INDEPENDENT);
    let weight: f64 = weights.iter().sum();
    let evenly = weights.iter().map(|weight| weight.powi(2)).sum::<f64>() / weight.powi(2);
    // The values vary around their own mean by less than around the truth.
    let variance = squares / (n - inflation) * inflation * evenly;
    Some(Noise { variance, freedom: (n / inflation - 1.0).max(2.0) })
}

/// Whether a ratio is worse than a tolerance, such as 0.2 for a fifth: only where all of its interval lies beyond.
pub fn tolerated(ratio: Option<Interval>, tolerance: f64) -> Tolerated {
    match ratio {
        None => Tolerated::CannotTell,
        Some(ratio) if ratio.low > 1.0 + tolerance => Tolerated::Worse,
        Some(_) => Tolerated::Within,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::robust::SeededRng;
    use crate::time::Timestamp;

    /// Families with noise that hangs together from bucket to bucket, `slower` times as slow, called `busier` as often.
    fn period(seed: u64, buckets: usize, slower: f64, busier: f64) -> HashMap<i64, Vec<Bucket>> {
        let mut rng = SeededRng::new(seed);
        let mut common = 0.0;
        let drift: Vec<f64> = (0..buckets)
            .map(|_| {
                common = 0.6 * common + 0.06 * rng.normal();
                common
            })
            .collect();
        let family = |family: i64| {
            let mut own = 0.0;
            let buckets = drift.iter().enumerate().map(|(place, drift)| {
                own = 0.5 * own + 0.1 * rng.normal();
                let calls = (busier * 300.0 / family as f64 * (0.2 * rng.normal()).exp()).ceil();
                let each_us = 4_000.0 * family as f64 * (own + drift).exp() * slower;
                Bucket {
                    at: Timestamp(place as i64 * 60_000_000),
                    seconds: 60.0,
                    calls: calls as i64,
                    exec_us: (calls * each_us) as i64,
                    rows: 0,
                    pages: 0,
                }
            });
            (family, buckets.collect::<Vec<_>>())
        };
        (1..=12).map(family).collect()
    }

    #[test]
    fn intervals_cover_the_truth_and_more_calls_are_no_slower_server() {
        let mut covered = 0;
        for seed in 0..100 {
            let (then, now) = (period(2 * seed, 30, 1.0, 1.0), period(2 * seed + 1, 30, 1.3, 4.0));
            let ratio = same_work(&then, &now).unwrap();
            covered += usize::from(ratio.low <= 1.3 && 1.3 <= ratio.high);
            assert!(ratio.high / ratio.low < 2.0, "{ratio:?}");
        }
        assert!((88..=100).contains(&covered), "{covered} of 100 cover");
    }

    #[test]
    fn what_is_tolerated_is_seldom_called_worse_and_what_is_not_mostly() {
        let worse = |slower: f64| {
            let is_worse = |seed: &u64| {
                let (then, now) = (period(7 + 2 * seed, 24, 1.0, 1.0), period(8 + 2 * seed, 24, slower, 1.0));
                tolerated(same_work(&then, &now), 0.2) == Tolerated::Worse
            };
            (0..100u64).filter(is_worse).count()
        };
        assert_eq!(worse(1.0), 0);
        assert!(worse(1.2) <= 6, "{} of 100 at the limit", worse(1.2));
        assert!(worse(1.6) >= 80, "{} of 100", worse(1.6));
    }

    #[test]
    fn too_little_tells_nothing() {
        let (short, long) = (period(1, 4, 1.0, 1.0), period(2, 30, 1.0, 1.0));
        assert_eq!(tolerated(same_work(&short, &long), 0.2), Tolerated::CannotTell);
        assert_eq!(same_work(&HashMap::new(), &long), None);
        let others: HashMap<i64, Vec<Bucket>> = long.iter().map(|(family, all)| (family + 99, all.clone())).collect();
        assert_eq!(same_work(&others, &long), None);
    }
}
