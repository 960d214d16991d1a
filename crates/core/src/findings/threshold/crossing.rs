use super::Threshold;
use crate::findings::figure_series::FigureSeries;
use crate::time::{Timestamp, Window};

/// A figure that was not seen for so long begins anew.
pub const FORGOTTEN_SECONDS: f64 = 3.0 * 3600.0;

/// How one figure stands to a threshold.
///
/// It is raised once the figure was beyond for as long as the threshold asks, and over with the first value that clears
/// it; what lies between the two values changes nothing.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Crossing {
    beyond_since: Option<Timestamp>,
    raised_since: Option<Timestamp>,
    seen_to: Option<Timestamp>,
}

impl Crossing {
    /// Goes on with the mean of the next bucket.
    pub fn go_on(&mut self, threshold: &Threshold, bucket: Window, value: f64) {
        if !value.is_finite() {
            return;
        }
        if self.seen_to.is_some_and(|seen| bucket.from.seconds_since(seen) > FORGOTTEN_SECONDS) {
            *self = Crossing::default();
        }
        self.seen_to = Some(bucket.to);
        if threshold.is_beyond(value) {
            let since = *self.beyond_since.get_or_insert(bucket.from);
            if bucket.to.seconds_since(since) >= threshold.lasts_seconds {
                self.raised_since.get_or_insert(since);
            }
        } else {
            self.beyond_since = None;
            self.raised_since = self.raised_since.filter(|_| !threshold.is_clear(value));
        }
    }

    /// Since when the figure has been beyond, where that is raised and was seen lately.
    pub fn raised_since(&self, now: Timestamp) -> Option<Timestamp> {
        self.raised_since.filter(|_| self.seen_to.is_some_and(|seen| now.seconds_since(seen) <= FORGOTTEN_SECONDS))
    }
}

/// A time in which a figure was beyond a threshold.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Episode {
    /// When it went beyond.
    pub from: Timestamp,
    /// When the bucket ended that cleared it; nothing while it goes on.
    pub to: Option<Timestamp>,
}

/// When a figure was beyond a threshold for long enough, in order of time. Linear.
pub fn episodes(threshold: &Threshold, series: &FigureSeries) -> Vec<Episode> {
    let mut found: Vec<Episode> = Vec::new();
    let mut crossing = Crossing::default();
    for seen in &series.buckets {
        let bucket = Window { from: seen.at, to: seen.at.plus_seconds(series.bucket_seconds) };
        let was = crossing.raised_since;
        crossing.go_on(threshold, bucket, seen.mean());
        match (was, crossing.raised_since) {
            (None, Some(from)) => found.push(Episode { from, to: None }),
            (Some(_), None) => close(&mut found, bucket.to),
            (Some(was), Some(is)) if was != is => {
                close(&mut found, bucket.from);
                found.push(Episode { from: is, to: None });
            }
            _ => {}
        }
    }
    found
}

fn close(found: &mut [Episode], to: Timestamp) {
    if let Some(last) = found.last_mut() {
        last.to = Some(to);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::tests::load_above;
    use super::*;
    use crate::findings::figure::ServerFigure;
    use crate::findings::figure_series::Seen;

    fn at(bucket: usize) -> Timestamp {
        Timestamp(bucket as i64 * 600_000_000)
    }

    fn of(values: Vec<(Timestamp, f64)>) -> FigureSeries {
        FigureSeries {
            figure: ServerFigure::Load,
            object: String::new(),
            bucket_seconds: 600.0,
            buckets: values.into_iter().map(|(at, value)| Seen::reading(at, value)).collect(),
        }
    }

    fn series(values: &[f64]) -> FigureSeries {
        of(values.iter().enumerate().map(|(bucket, value)| (at(bucket), *value)).collect())
    }

    fn found(threshold: &Threshold, values: &[f64]) -> Vec<(usize, Option<usize>)> {
        let bucket = |at: Timestamp| (at.0 / 600_000_000) as usize;
        let episodes = episodes(threshold, &series(values));
        episodes.iter().map(|episode| (bucket(episode.from), episode.to.map(bucket))).collect()
    }

    #[test]
    fn it_is_raised_after_its_time_and_over_where_it_clears() {
        let values = [1.0, 12.0, 1.0, 12.0, 13.0, 9.0, 11.0, 7.0, 12.0, 12.0];
        assert_eq!(found(&load_above(10.0, 10.0, 0.0), &values), [(1, Some(3)), (3, Some(6)), (6, Some(8)), (8, None)]);
        assert_eq!(found(&load_above(10.0, 8.0, 1200.0), &values), [(3, Some(8)), (8, None)]);
        assert_eq!(found(&load_above(10.0, 8.0, 1800.0), &values), []);
    }

    #[test]
    fn what_equals_the_value_is_no_trouble_and_a_long_gap_begins_anew() {
        let zero = load_above(0.0, 0.0, 0.0);
        assert_eq!(found(&zero, &[0.0, 0.0]), []);
        let long = load_above(10.0, 10.0, 1200.0);
        let gap = of(vec![(at(0), 12.0), (at(30), 12.0), (at(31), 12.0)]);
        assert_eq!(episodes(&long, &gap), [Episode { from: at(30), to: None }]);
    }

    proptest! {
        #[test]
        fn episodes_do_not_overlap_last_long_enough_and_a_looser_threshold_is_never_beyond_alone(
            values in prop::collection::vec(0.0f64..20.0, 1..200), value in 1.0f64..19.0, more in 0.0f64..5.0, lasts in 0i32..5,
        ) {
            let lasts = f64::from(lasts) * 600.0;
            let tight = load_above(value, value * 0.8, lasts);
            let found = episodes(&tight, &series(&values));
            for pair in found.windows(2) {
                prop_assert!(pair[0].to.is_some_and(|to| to <= pair[1].from));
            }
            for episode in &found {
                let to = episode.to.unwrap_or(at(values.len()));
                prop_assert!(to.seconds_since(episode.from) >= lasts);
            }
            for loose in episodes(&tight.at(value + more), &series(&values)) {
                let holds = |tight: &Episode| tight.from <= loose.from && tight.to.is_none_or(|to| to >= loose.from);
                prop_assert!(found.iter().any(holds), "{loose:?} in {found:?}");
            }
        }
    }
}
