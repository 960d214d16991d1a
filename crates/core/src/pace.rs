//! How often to read a watched server, so that watching it costs no more than it may.
//!
//! Each kind of figures has an interval and a usual length of reading. What reading costs is taken to be
//! the time that the server was busy answering, in shares of one core: the time of reading over the
//! interval, summed over all kinds. That errs on the careful side, since a busy server answers late.
//!
//! Two rules stretch intervals: no kind may be read for more than a tenth of the time, and all together
//! may not cost more than the budget. Stretching ends at [`MOST_STRETCH`]; what is still too much then is
//! told, not hidden.

/// No kind of figures is read for more than this share of the time.
pub const LONGEST_READ_SHARE: f64 = 0.1;
/// Intervals are stretched by this factor at most, so that something is always read.
pub const MOST_STRETCH: f64 = 20.0;
/// Weight of the newest reading in the usual length of reading.
const NEWEST: f64 = 0.2;

/// How often each kind of figures is to be read.
#[derive(Debug, Clone, PartialEq)]
pub struct Pace {
    budget_share: f64,
    kinds: Vec<Paced>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
struct Paced {
    interval_seconds: f64,
    /// Usual length of reading; nothing before the first.
    read_seconds: Option<f64>,
}

impl Paced {
    /// The interval that keeps reading to its share of the time.
    fn own_interval(&self) -> f64 {
        let least = self.read_seconds.unwrap_or_default() / LONGEST_READ_SHARE;
        self.interval_seconds.max(least.min(self.interval_seconds * MOST_STRETCH))
    }
}

impl Pace {
    /// Kinds of figures by their intervals, in seconds, under a budget in shares of one core.
    pub fn new(budget_share: f64, intervals_seconds: &[f64]) -> Pace {
        let kinds = intervals_seconds.iter().map(|seconds| Paced { interval_seconds: *seconds, read_seconds: None });
        Pace { budget_share, kinds: kinds.collect() }
    }

    /// Notes how long a reading of a kind took.
    pub fn note(&mut self, kind: usize, seconds: f64) {
        let usual = &mut self.kinds[kind].read_seconds;
        *usual = Some(usual.map_or(seconds, |before| before + (seconds - before) * NEWEST));
    }

    /// Seconds from one reading of a kind to the next.
    pub fn interval_seconds(&self, kind: usize) -> f64 {
        let paced = &self.kinds[kind];
        (paced.own_interval() * self.budget_stretch()).min(paced.interval_seconds * MOST_STRETCH)
    }

    /// The factor by which a kind's interval is stretched.
    pub fn stretch(&self, kind: usize) -> f64 {
        self.interval_seconds(kind) / self.kinds[kind].interval_seconds
    }

    /// What reading costs at these intervals, in shares of one core.
    pub fn cost_share(&self) -> f64 {
        let cost = |kind: usize| self.kinds[kind].read_seconds.unwrap_or_default() / self.interval_seconds(kind);
        (0..self.kinds.len()).map(cost).sum()
    }

    /// The factor that brings all kinds together into the budget.
    fn budget_stretch(&self) -> f64 {
        let wanted: f64 =
            self.kinds.iter().map(|paced| paced.read_seconds.unwrap_or_default() / paced.own_interval()).sum();
        (wanted / self.budget_share).clamp(1.0, MOST_STRETCH)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn cheap_readings_keep_their_intervals() {
        let mut pace = Pace::new(0.01, &[1.0, 60.0]);
        pace.note(0, 0.002);
        pace.note(1, 0.030);
        assert_eq!((pace.interval_seconds(0), pace.interval_seconds(1)), (1.0, 60.0));
        assert!((pace.cost_share() - 0.0025).abs() < 1e-12);
    }

    #[test]
    fn a_slow_reading_stretches_its_own_interval() {
        let mut pace = Pace::new(1.0, &[1.0, 60.0]);
        pace.note(0, 0.4);
        assert_eq!((pace.interval_seconds(0), pace.interval_seconds(1)), (4.0, 60.0));
    }

    #[test]
    fn all_together_keep_to_the_budget_and_recover() {
        let mut pace = Pace::new(0.01, &[1.0, 60.0]);
        pace.note(0, 0.02);
        pace.note(1, 0.6);
        assert_eq!(pace.stretch(0), 3.0);
        assert!((pace.cost_share() - 0.01).abs() < 1e-12);
        for _ in 0..60 {
            pace.note(0, 0.001);
            pace.note(1, 0.02);
        }
        assert_eq!(pace.interval_seconds(0), 1.0);
    }

    proptest! {
        #[test]
        fn never_faster_than_asked_never_dearer_than_allowed_and_never_silent(
            kinds in proptest::collection::vec((1.0f64..3600.0, 0.0f64..20.0), 1..12), budget in 0.001f64..1.0,
        ) {
            let intervals: Vec<f64> = kinds.iter().map(|(interval, _)| *interval).collect();
            let mut pace = Pace::new(budget, &intervals);
            for (kind, (_, took)) in kinds.iter().enumerate() {
                pace.note(kind, *took);
            }
            for (kind, interval) in intervals.iter().enumerate() {
                let paced = pace.interval_seconds(kind);
                prop_assert!(paced >= *interval && paced <= interval * MOST_STRETCH * 1.000_001);
            }
            let at_the_end = (0..kinds.len()).any(|kind| pace.stretch(kind) > MOST_STRETCH * 0.999_999);
            prop_assert!(at_the_end || pace.cost_share() <= budget * 1.000_001);
        }
    }
}
