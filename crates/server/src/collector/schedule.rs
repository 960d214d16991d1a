use std::time::{Duration, Instant};

use hurnix_core::keeping::pace::{Cost, Pace};
use hurnix_core::readings::figures::Figures;

use crate::options::Intervals;

/// When each kind of figures of one instance is to be read next.
#[derive(Debug)]
pub struct Schedule {
    pace: Pace,
    due: [Instant; Figures::ALL.len()],
}

impl Schedule {
    /// Everything due at `start`, plans a little later: they need to know which statements are costly.
    pub fn new(intervals: &Intervals, start: Instant) -> Schedule {
        let seconds = Figures::ALL.map(|figures| intervals.of(figures).as_secs_f64());
        let mut due = [start; Figures::ALL.len()];
        due[Figures::Plans.position()] += intervals.statements * 2;
        Schedule { pace: Pace::new(intervals.budget(), &seconds), due }
    }

    /// What is due next, and when.
    pub fn next(&self) -> (Figures, Instant) {
        let due = |figures: &Figures| self.due[figures.position()];
        let next = Figures::ALL.into_iter().min_by_key(due).unwrap_or(Figures::Activity);
        (next, due(&next))
    }

    /// A reading that began at `begun` took so long and read so much: the next is due one interval after it
    /// began.
    pub fn done(&mut self, figures: Figures, begun: Instant, took: Duration, bytes: usize) {
        self.pace.note(figures.position(), Cost { seconds: took.as_secs_f64(), bytes: bytes as f64 });
        self.due[figures.position()] = begun + self.interval(figures);
    }

    /// How many readings of a kind were due before `now` and can no longer be made; the one that is due
    /// now is not among them. They are given up.
    pub fn give_up_missed(&mut self, figures: Figures, now: Instant) -> i64 {
        let late = now.saturating_duration_since(self.due[figures.position()]);
        let missed = (late.as_secs_f64() / self.interval(figures).as_secs_f64()).floor();
        if missed > 0.0 {
            self.due[figures.position()] = now;
        }
        missed as i64
    }

    /// What reading costs in a second, and the largest factor by which an interval is stretched.
    pub fn pace(&self) -> (Cost, f64) {
        let stretch = Figures::ALL.map(|figures| self.pace.stretch(figures.position()));
        (self.pace.cost(), stretch.into_iter().fold(1.0, f64::max))
    }

    fn interval(&self, figures: Figures) -> Duration {
        Duration::from_secs_f64(self.pace.interval_seconds(figures.position()))
    }
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    #[derive(Parser)]
    struct Cli {
        #[command(flatten)]
        intervals: Intervals,
    }

    fn schedule(start: Instant) -> Schedule {
        Schedule::new(&Cli::parse_from(["hurnix"]).intervals, start)
    }

    #[test]
    fn what_is_due_first_is_read_first_and_then_one_interval_later() {
        let start = Instant::now();
        let mut schedule = schedule(start);
        assert_eq!(schedule.next(), (Figures::Activity, start));
        schedule.done(Figures::Activity, start, Duration::from_millis(1), 100);
        assert_eq!(schedule.next(), (Figures::Statements, start));
        for figures in Figures::ALL {
            schedule.done(figures, start, Duration::from_micros(100), 100);
        }
        assert_eq!(schedule.next(), (Figures::Activity, start + Duration::from_secs(1)));
    }

    #[test]
    fn what_was_missed_is_counted_and_not_made_up_for() {
        let start = Instant::now();
        let mut schedule = schedule(start);
        let later = start + Duration::from_millis(5_300);
        assert_eq!(schedule.give_up_missed(Figures::Activity, later), 5);
        assert_eq!(schedule.give_up_missed(Figures::Activity, later), 0);
        assert_eq!(schedule.give_up_missed(Figures::Statements, later), 0);
    }

    #[test]
    fn a_slow_reading_is_made_less_often() {
        let start = Instant::now();
        let mut schedule = schedule(start);
        schedule.done(Figures::Activity, start, Duration::from_millis(30), 100);
        let (cost, stretch) = schedule.pace();
        assert!((cost.seconds - 0.01).abs() < 1e-9 && (stretch - 3.0).abs() < 1e-9, "{cost:?} {stretch}");
    }
}
