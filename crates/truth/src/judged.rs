use hurnix_core::Timestamp;
use hurnix_core::findings::lasting_change::LastingChange;

use crate::series::{BUCKET_SECONDS, BUCKETS_A_DAY, Series};

/// An onset counts as found within so many buckets of the true one, or within its own interval: six hours, a day where
/// calls are few.
const NEAR: usize = 36;

/// How often a rule was right over many series.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Judged {
    /// True changes that were found.
    pub found: usize,
    /// True changes that were not.
    pub missed: usize,
    /// Changes told that are none.
    pub invented: usize,
    /// Of those found: the interval of the ratio holds the true one.
    pub ratio_covered: usize,
    /// Of those found: the interval of the onset holds the true one.
    pub onset_covered: usize,
    /// Of those found: sudden ones where calls are many.
    pub sudden: usize,
    /// Of those: the onset is told within one bucket.
    pub onset_near: usize,
    /// Changes told of series without any, and the weeks of these.
    pub invented_in_quiet: usize,
    /// Weeks of series without any change.
    pub quiet_weeks: f64,
}

impl Judged {
    /// Counts what was told of a series. What passed is not in question.
    pub fn add(&mut self, series: &Series, told: &[LastingChange]) {
        let bucket = |at: Timestamp| (at.seconds_since(Timestamp(0)) / BUCKET_SECONDS).round() as usize;
        let mut told: Vec<&LastingChange> = told.iter().filter(|change| !change.passed).collect();
        if series.changes.is_empty() {
            self.quiet_weeks += Series::WEEKS;
            self.invented_in_quiet += told.len();
        }
        for truth in &series.changes {
            let near = if series.has_many_calls { NEAR } else { BUCKETS_A_DAY };
            let is_covered = |told: &LastingChange| {
                told.onset_between.is_some_and(|(from, to)| (bucket(from)..=bucket(to)).contains(&truth.onset))
            };
            let is_it = |told: &&LastingChange| {
                let onset = bucket(told.onset);
                let is_near = onset + near >= truth.onset && onset <= truth.complete + near;
                (told.ratio.value > 1.0) == (truth.ratio > 1.0) && (is_near || is_covered(told))
            };
            let nearest = told
                .iter()
                .enumerate()
                .filter(|(_, told)| is_it(told))
                .min_by_key(|(_, told)| bucket(told.onset).abs_diff(truth.onset))
                .map(|(place, _)| place);
            let Some(change) = nearest.map(|place| told.remove(place)) else {
                self.missed += 1;
                continue;
            };
            self.found += 1;
            self.ratio_covered += usize::from((change.ratio.low..=change.ratio.high).contains(&truth.ratio));
            self.onset_covered += usize::from(is_covered(change));
            if series.has_many_calls && series.is_sudden {
                self.sudden += 1;
                self.onset_near += usize::from(bucket(change.onset).abs_diff(truth.onset) <= 1);
            }
        }
        self.invented += told.len();
    }

    /// Both together.
    pub fn and(&self, other: &Judged) -> Judged {
        Judged {
            found: self.found + other.found,
            missed: self.missed + other.missed,
            invented: self.invented + other.invented,
            ratio_covered: self.ratio_covered + other.ratio_covered,
            onset_covered: self.onset_covered + other.onset_covered,
            sudden: self.sudden + other.sudden,
            onset_near: self.onset_near + other.onset_near,
            invented_in_quiet: self.invented_in_quiet + other.invented_in_quiet,
            quiet_weeks: self.quiet_weeks + other.quiet_weeks,
        }
    }

    /// Share of what was told that is true.
    pub fn precision(&self) -> f64 {
        share(self.found, self.found + self.invented)
    }

    /// Share of what is true that was told.
    pub fn recall(&self) -> f64 {
        share(self.found, self.found + self.missed)
    }

    /// Harmonic mean of both.
    pub fn f1(&self) -> f64 {
        share(2 * self.found, 2 * self.found + self.missed + self.invented)
    }

    /// Share of intervals of the ratio that hold the true one.
    pub fn ratio_coverage(&self) -> f64 {
        share(self.ratio_covered, self.found)
    }

    /// Share of intervals of the onset that hold the true one.
    pub fn onset_coverage(&self) -> f64 {
        share(self.onset_covered, self.found)
    }

    /// Share of sudden onsets that were told within one bucket.
    pub fn onset_within_a_bucket(&self) -> f64 {
        share(self.onset_near, self.sudden)
    }

    /// Changes told per 100 weeks of quiet series.
    pub fn invented_per_100_weeks(&self) -> f64 {
        if self.quiet_weeks > 0.0 { self.invented_in_quiet as f64 / self.quiet_weeks * 100.0 } else { 0.0 }
    }
}

/// A share; all of nothing is all.
fn share(part: usize, of: usize) -> f64 {
    if of == 0 { 1.0 } else { part as f64 / of as f64 }
}
