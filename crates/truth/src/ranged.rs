use hurnix_core::findings::normal_range::{NormalRange, Outside, Side};

use crate::metric::MetricSeries;
use crate::series::{BUCKET_SECONDS, BUCKETS_A_DAY};

/// History that a range is learnt from, in buckets.
const LEARNT_FROM: usize = 28 * BUCKETS_A_DAY;
/// A change counts as found within so many values.
const IN_TIME: usize = 3;

/// How often values outside their usual range were told rightly, over many metrics of a fortnight each.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Ranged {
    /// Times outside that were told of each metric and are none.
    pub invented: Vec<usize>,
    /// Changes of five spreads that were told within three values.
    pub in_time: usize,
    /// Those that were told later, or not at all.
    pub late: usize,
}

impl Ranged {
    /// Judges a metric as it is judged when it is watched: what is usual is learnt anew each day.
    pub fn add(&mut self, series: &MetricSeries) {
        let at = |bucket: usize| series.start.plus_seconds(bucket as f64 * BUCKET_SECONDS);
        let mut outside = Outside::default();
        let (mut invented, mut told_at): (usize, Option<usize>) = (0, None);
        let mut range: Option<NormalRange> = None;
        for bucket in series.judged_from..series.values.len() {
            if (bucket - series.judged_from).is_multiple_of(BUCKETS_A_DAY) {
                let from = bucket.saturating_sub(LEARNT_FROM);
                range = NormalRange::learn(&series.values[from..bucket], at(from), BUCKET_SECONDS);
            }
            let Some(range) = &range else { continue };
            let was: Option<Side> = outside.side();
            outside.go_on(range.deviation(at(bucket), series.values[bucket]), range.limit());
            let is_changed = series.changed_at.is_some_and(|changed_at| bucket >= changed_at);
            if was.is_none() && outside.side().is_some() {
                if is_changed {
                    // What comes after is the same change, which is usual some day.
                    told_at.get_or_insert(bucket);
                } else {
                    invented += 1;
                }
            }
        }
        self.invented.push(invented);
        if let Some(changed_at) = series.changed_at {
            let seen =
                |until: usize| series.values[changed_at..=until].iter().filter(|value| value.is_finite()).count();
            if told_at.is_some_and(|told_at| seen(told_at) <= IN_TIME) {
                self.in_time += 1
            } else {
                self.late += 1
            };
        }
    }

    /// Both together.
    #[must_use]
    pub fn and(mut self, other: Ranged) -> Ranged {
        self.invented.extend(other.invented);
        Ranged { invented: self.invented, in_time: self.in_time + other.in_time, late: self.late + other.late }
    }

    /// Times outside that were told and are none, for each metric.
    pub fn invented_of_each(&self) -> f64 {
        self.invented.iter().sum::<usize>() as f64 / self.invented.len().max(1) as f64
    }

    /// Share of metrics of which more than one was told.
    pub fn more_than_one(&self) -> f64 {
        self.invented.iter().filter(|invented| **invented > 1).count() as f64 / self.invented.len().max(1) as f64
    }

    /// Share of changes that were told in time; all of none is all.
    pub fn found_in_time(&self) -> f64 {
        let all = self.in_time + self.late;
        if all == 0 { 1.0 } else { self.in_time as f64 / all as f64 }
    }
}
