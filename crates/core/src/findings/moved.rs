//! Need C5: what moved in a span of time. Each figure is held against its own usual range for the hours of the span, so
//! that bytes, sessions and shares can be told in one order.
//!
//! Laws, tested below: what is as usual comes after what is not; the unit of a figure changes nothing.

use crate::findings::figure::ServerFigure;
use crate::findings::figure_series::{FigureSeries, Seen, weighed};
use crate::findings::normal_range::{NormalRange, Usual};
use crate::time::{Timestamp, Window};

/// How a figure of one object was in a span.
#[derive(Debug, Clone, PartialEq)]
pub struct Moved {
    /// Which figure.
    pub figure: ServerFigure,
    /// Of what; empty for the server as a whole.
    pub object: String,
    /// Its mean in the span.
    pub value: f64,
    /// What is usual in those hours.
    pub usual: Usual,
    /// How far it was from the middle of its range, on average: 1 is the upper end, -1 the lower.
    pub reach: f64,
}

impl Moved {
    /// Whether it was outside of its usual range on average.
    pub fn is_outside(&self) -> bool {
        self.reach.abs() > 1.0
    }
}

/// What moved in a span, furthest outside of its own range first. `clock` tells the time by which the hour of the week
/// counts. Figures that have no range yet are left out. n log n in the figures, linear in their values.
pub fn moved<'a>(
    series: &[FigureSeries],
    range: impl Fn(ServerFigure, &str) -> Option<&'a NormalRange>,
    span: Window,
    clock: impl Fn(Timestamp) -> Timestamp,
) -> Vec<Moved> {
    let of_one = |series: &FigureSeries| {
        let range = range(series.figure, &series.object)?;
        let end = |at: Timestamp| at.plus_seconds(series.bucket_seconds);
        let is_inside = |bucket: &&Seen| bucket.at < span.to && end(bucket.at) > span.from;
        let inside: Vec<Seen> = series.buckets.iter().filter(is_inside).copied().collect();
        let usual = |bucket: &Seen| clock(bucket.at.plus_seconds(series.bucket_seconds / 2.0));
        Some(Moved {
            figure: series.figure,
            object: series.object.clone(),
            value: weighed(&inside, Seen::mean)?,
            usual: Usual {
                low: weighed(&inside, |bucket| range.at(usual(bucket)).low)?,
                middle: weighed(&inside, |bucket| range.at(usual(bucket)).middle)?,
                high: weighed(&inside, |bucket| range.at(usual(bucket)).high)?,
            },
            reach: weighed(&inside, |bucket| range.deviation(usual(bucket), bucket.mean()) / range.limit())?,
        })
    };
    let mut all: Vec<Moved> = series.iter().filter_map(of_one).collect();
    all.sort_by(|a, b| b.reach.abs().total_cmp(&a.reach.abs()));
    all
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::findings::robust::SeededRng;
    use crate::readings::metric::Metric;

    const BUCKET: f64 = 600.0;
    const WEEK: usize = 1008;

    fn at(bucket: usize) -> Timestamp {
        Timestamp(0).plus_seconds(bucket as f64 * BUCKET)
    }

    fn noise(seed: u64, level: f64) -> Vec<f64> {
        let mut rng = SeededRng::new(seed);
        (0..WEEK).map(|_| level * (1.0 + 0.05 * rng.normal())).collect()
    }

    fn series(figure: ServerFigure, values: &[f64], last: f64) -> FigureSeries {
        let seen = values.iter().enumerate().map(|(bucket, value)| Seen::reading(at(bucket), *value));
        let seen = seen.chain((WEEK..WEEK + 3).map(|bucket| Seen::reading(at(bucket), last))).collect();
        FigureSeries { figure, object: String::new(), bucket_seconds: BUCKET, buckets: seen }
    }

    fn told(of: &[(ServerFigure, Vec<f64>, f64)]) -> Vec<Moved> {
        let ranges: Vec<(ServerFigure, NormalRange)> = of
            .iter()
            .map(|(figure, values, _)| (*figure, NormalRange::learn(values, at(0), BUCKET).unwrap()))
            .collect();
        let series: Vec<FigureSeries> =
            of.iter().map(|(figure, values, last)| series(*figure, values, *last)).collect();
        let range = |figure, _: &str| ranges.iter().find(|(of, _)| *of == figure).map(|(_, range)| range);
        moved(&series, range, Window { from: at(WEEK), to: at(WEEK + 3) }, |at| at)
    }

    const LOAD: ServerFigure = ServerFigure::Load;
    const READ: ServerFigure = ServerFigure::Metric(Metric::StorageRead);

    #[test]
    fn what_left_its_range_comes_first_whatever_its_unit() {
        let moved = told(&[(READ, noise(1, 5e7), 5e7), (LOAD, noise(2, 4.0), 9.0)]);
        assert_eq!(
            moved.iter().map(|one| (one.figure, one.is_outside())).collect::<Vec<_>>(),
            [(LOAD, true), (READ, false)]
        );
        assert!(moved[0].usual.high < 9.0 && (moved[0].value - 9.0).abs() < 1e-9 && moved[0].reach > 1.0);
    }

    #[test]
    fn less_than_usual_counts_as_well_and_what_has_no_range_does_not() {
        let moved = told(&[(LOAD, noise(2, 4.0), 1.0)]);
        assert!(moved[0].reach < -1.0);
        let none = super::moved(&[series(READ, &[], 1.0)], |_, _| None, Window { from: at(0), to: at(2000) }, |at| at);
        assert_eq!(none, []);
    }

    proptest! {
        #[test]
        fn the_unit_changes_nothing(seed in 0u64..50, factor in 1e-3f64..1e6, last in 0.5f64..20.0) {
            let values = noise(seed, 4.0);
            let scaled: Vec<f64> = values.iter().map(|value| value * factor).collect();
            let (one, other) = (told(&[(LOAD, values, last)]), told(&[(LOAD, scaled, last * factor)]));
            prop_assert!((one[0].reach - other[0].reach).abs() < 0.05 * one[0].reach.abs().max(1.0), "{} {}", one[0].reach, other[0].reach);
        }
    }
}
