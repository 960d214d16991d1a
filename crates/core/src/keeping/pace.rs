//! How often to read a watched server, so that watching it costs no more than it may.
//!
//! Each kind of figures has an interval and a usual length of reading. What reading costs is taken to be
//! the time that the server was busy answering, in shares of one core: the time of reading over the
//! interval, summed over all kinds. That errs on the careful side, since a busy server answers late.
//!
//! Three rules stretch intervals: no kind may be read for more than a tenth of the time, and all together
//! may cost no more than the budget, neither of the server's time nor in bytes read. Stretching ends at
//! [`MOST_STRETCH`]; what is still too much then is told, not hidden.

/// No kind of figures is read for more than this share of the time.
pub const LONGEST_READ_SHARE: f64 = 0.1;
/// Intervals are stretched by this factor at most, so that something is always read.
pub const MOST_STRETCH: f64 = 20.0;
/// Weight of the newest reading in what a reading usually costs.
const NEWEST: f64 = 0.2;

/// What one reading costs, or what all readings cost in a second.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Cost {
    /// Time that the server is busy with it, in seconds; in a second: shares of one core.
    pub seconds: f64,
    /// What is read, in bytes.
    pub bytes: f64,
}

impl Cost {
    fn plus(self, other: Cost) -> Cost {
        Cost { seconds: self.seconds + other.seconds, bytes: self.bytes + other.bytes }
    }

    /// In a second, when it comes every so many seconds.
    fn every(self, seconds: f64) -> Cost {
        Cost { seconds: self.seconds / seconds, bytes: self.bytes / seconds }
    }

    fn times(self, factor: f64) -> Cost {
        Cost { seconds: self.seconds * factor, bytes: self.bytes * factor }
    }
}

/// How often each kind of figures is to be read.
#[derive(Debug, Clone, PartialEq)]
pub struct Pace {
    budget: Cost,
    kinds: Vec<Paced>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
struct Paced {
    interval_seconds: f64,
    /// What a reading usually costs; nothing before the first.
    usual: Option<Cost>,
}

impl Paced {
    /// The interval that keeps reading to its share of the time.
    fn own_interval(&self) -> f64 {
        let least = self.usual.unwrap_or_default().seconds / LONGEST_READ_SHARE;
        self.interval_seconds.max(least.min(self.interval_seconds * MOST_STRETCH))
    }
}

impl Pace {
    /// Kinds of figures by their intervals, in seconds, under a budget for a second.
    pub fn new(budget: Cost, intervals_seconds: &[f64]) -> Pace {
        let kinds = intervals_seconds.iter().map(|seconds| Paced { interval_seconds: *seconds, usual: None });
        Pace { budget, kinds: kinds.collect() }
    }

    /// Notes what a reading of a kind cost.
    pub fn note(&mut self, kind: usize, cost: Cost) {
        let usual = &mut self.kinds[kind].usual;
        *usual = Some(usual.map_or(cost, |before| before.times(1.0 - NEWEST).plus(cost.times(NEWEST))));
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

    /// What reading costs in a second at these intervals.
    pub fn cost(&self) -> Cost {
        let cost = |kind: usize| self.kinds[kind].usual.unwrap_or_default().every(self.interval_seconds(kind));
        (0..self.kinds.len()).map(cost).fold(Cost::default(), Cost::plus)
    }

    /// The factor that brings all kinds together into the budget.
    fn budget_stretch(&self) -> f64 {
        let wanted = |paced: &Paced| paced.usual.unwrap_or_default().every(paced.own_interval());
        let wanted = self.kinds.iter().map(wanted).fold(Cost::default(), Cost::plus);
        (wanted.seconds / self.budget.seconds).max(wanted.bytes / self.budget.bytes).clamp(1.0, MOST_STRETCH)
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const PLENTY: f64 = 1e12;

    fn pace(seconds: f64, intervals: &[f64]) -> Pace {
        Pace::new(Cost { seconds, bytes: PLENTY }, intervals)
    }

    fn took(seconds: f64) -> Cost {
        Cost { seconds, bytes: 0.0 }
    }

    #[test]
    fn cheap_readings_keep_their_intervals() {
        let mut pace = pace(0.01, &[1.0, 60.0]);
        pace.note(0, took(0.002));
        pace.note(1, took(0.030));
        assert_eq!((pace.interval_seconds(0), pace.interval_seconds(1)), (1.0, 60.0));
        assert!((pace.cost().seconds - 0.0025).abs() < 1e-12);
    }

    #[test]
    fn a_slow_reading_stretches_its_own_interval() {
        let mut pace = pace(1.0, &[1.0, 60.0]);
        pace.note(0, took(0.4));
        assert_eq!((pace.interval_seconds(0), pace.interval_seconds(1)), (4.0, 60.0));
    }

    #[test]
    fn all_together_keep_to_the_budget_and_recover() {
        let mut pace = pace(0.01, &[1.0, 60.0]);
        pace.note(0, took(0.02));
        pace.note(1, took(0.6));
        assert_eq!(pace.stretch(0), 3.0);
        assert!((pace.cost().seconds - 0.01).abs() < 1e-12);
        for _ in 0..60 {
            pace.note(0, took(0.001));
            pace.note(1, took(0.02));
        }
        assert_eq!(pace.interval_seconds(0), 1.0);
    }

    #[test]
    fn many_bytes_stretch_as_much_time_does() {
        let mut pace = Pace::new(Cost { seconds: 1.0, bytes: 1000.0 }, &[1.0, 10.0]);
        pace.note(0, Cost { seconds: 0.001, bytes: 1500.0 });
        pace.note(1, Cost { seconds: 0.001, bytes: 5000.0 });
        assert_eq!((pace.interval_seconds(0), pace.interval_seconds(1)), (2.0, 20.0));
        assert!((pace.cost().bytes - 1000.0).abs() < 1e-9);
    }

    proptest! {
        #[test]
        fn never_faster_than_asked_never_dearer_than_allowed_and_never_silent(
            kinds in proptest::collection::vec((1.0f64..3600.0, 0.0f64..20.0, 0.0f64..1e6), 1..12),
            seconds in 0.001f64..1.0, bytes in 100.0f64..1e6,
        ) {
            let intervals: Vec<f64> = kinds.iter().map(|(interval, ..)| *interval).collect();
            let budget = Cost { seconds, bytes };
            let mut pace = Pace::new(budget, &intervals);
            for (kind, (_, seconds, bytes)) in kinds.iter().enumerate() {
                pace.note(kind, Cost { seconds: *seconds, bytes: *bytes });
            }
            for (kind, interval) in intervals.iter().enumerate() {
                let paced = pace.interval_seconds(kind);
                prop_assert!(paced >= *interval && paced <= interval * MOST_STRETCH * 1.000_001);
            }
            let at_the_end = (0..kinds.len()).any(|kind| pace.stretch(kind) > MOST_STRETCH * 0.999_999);
            let (cost, budget) = (pace.cost(), budget.times(1.000_001));
            prop_assert!(at_the_end || cost.seconds <= budget.seconds && cost.bytes <= budget.bytes);
        }
    }
}
