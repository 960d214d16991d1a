//! A figure of one object over time, kept as sums so that a mean over any time is one of sums, never one of means.

use crate::findings::figure::ServerFigure;
use crate::time::Timestamp;

/// A figure of one object over time.
#[derive(Debug, Clone, PartialEq)]
pub struct FigureSeries {
    /// Which figure.
    pub figure: ServerFigure,
    /// Of what; empty for the server as a whole.
    pub object: String,
    /// Seconds of a bucket.
    pub bucket_seconds: f64,
    /// In order of time.
    pub buckets: Vec<Seen>,
}

/// What was seen of a figure in a bucket.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Seen {
    /// When the bucket begins.
    pub at: Timestamp,
    /// Sum of what was counted or read.
    pub sum: f64,
    /// What it is divided by: seconds, looks, readings, or what a ratio has below its line. More than 0.
    pub over: f64,
}

impl Seen {
    /// A single reading.
    pub fn reading(at: Timestamp, value: f64) -> Seen {
        Seen { at, sum: value, over: 1.0 }
    }

    /// Mean of the bucket, in the unit of the figure.
    pub fn mean(&self) -> f64 {
        self.sum / self.over
    }
}

impl FigureSeries {
    /// Mean over all buckets, in the unit of the figure; nothing where none was seen.
    pub fn mean(&self) -> Option<f64> {
        weighed(&self.buckets, Seen::mean)
    }

    /// Least and largest mean of a bucket; nothing where none was seen.
    pub fn reach(&self) -> Option<(f64, f64)> {
        let means = self.buckets.iter().map(Seen::mean);
        means.fold(None, |reach, mean| {
            let (least, most) = reach.unwrap_or((mean, mean));
            Some((f64::min(least, mean), f64::max(most, mean)))
        })
    }
}

/// Mean of a figure of each bucket, each by what it was seen over; nothing where there is no bucket.
pub fn weighed(buckets: &[Seen], of: impl Fn(&Seen) -> f64) -> Option<f64> {
    let over: f64 = buckets.iter().map(|bucket| bucket.over).sum();
    (over > 0.0).then(|| buckets.iter().map(|bucket| of(bucket) * bucket.over).sum::<f64>() / over)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn hits(parts: &[(f64, f64)]) -> FigureSeries {
        let buckets = parts.iter().enumerate();
        FigureSeries {
            figure: ServerFigure::named("cache_hit_ratio").unwrap(),
            object: String::new(),
            bucket_seconds: 600.0,
            buckets: buckets
                .map(|(at, (sum, over))| Seen { at: Timestamp(at as i64), sum: *sum, over: *over })
                .collect(),
        }
    }

    #[test]
    fn an_idle_bucket_does_not_outweigh_a_busy_one() {
        let of_a_night = hits(&[(0.0, 10.0), (9_900.0, 9_990.0)]);
        assert!((of_a_night.mean().unwrap() - 0.99).abs() < 1e-12);
        assert_eq!(of_a_night.reach().map(|(least, _)| least), Some(0.0));
        assert_eq!((hits(&[]).mean(), hits(&[]).reach()), (None, None));
    }

    proptest! {
        #[test]
        fn joining_buckets_changes_no_mean(
            parts in prop::collection::vec((0.0f64..1e6, 1e-3f64..1e6), 2..40), cut in 0usize..39,
        ) {
            let (one, other) = parts.split_at(cut % parts.len());
            let joined = |of: &[(f64, f64)]| of.iter().fold((0.0, 0.0), |(a, b), (sum, over)| (a + sum, b + over));
            let two = [joined(one), joined(other)];
            let two = if one.is_empty() { &two[1..] } else { &two[..] };
            let (whole, cut) = (hits(&parts).mean().unwrap(), hits(two).mean().unwrap());
            prop_assert!((whole - cut).abs() <= 1e-9 * whole.max(1.0));
        }
    }
}
