//! Rule 19, second part: two periods side by side, what differs most by time first.
//!
//! Everything is told for each second that was observed, so that periods of other lengths, or with gaps, can be held
//! against each other. What a statement gained or lost is split exactly into what comes from how often it was called and
//! what comes from how long each call took.
//!
//! Laws, tested below: both parts add up to the whole; then and now exchanged turn the sign and nothing else; what is
//! alike comes last.

mod figures;
mod likeness;
mod same_work;
mod why;

pub use figures::{FigureMoved, figures_moved};
pub use likeness::{Likeness, matched_before, matched_periods};
pub use same_work::{Tolerated, same_work, tolerated};
pub use why::{Around, Why, why};

use crate::readings::counters::StatementCounters;
use crate::readings::load::Load;

/// What a statement did in a period.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Did {
    /// Seconds of the period in which statements were counted.
    pub seconds: f64,
    /// What it counted in them.
    pub counters: StatementCounters,
    /// Sessions that were seen running it or waiting in it.
    pub load: Load,
}

impl Did {
    /// Seconds that it took of each second.
    pub fn time(&self) -> f64 {
        self.per_second(self.counters.exec_us as f64 / 1e6)
    }

    /// Calls of each second.
    pub fn calls(&self) -> f64 {
        self.per_second(self.counters.calls as f64)
    }

    /// Seconds of each call; nothing without calls.
    pub fn each(&self) -> Option<f64> {
        self.per_call(self.counters.exec_us as f64 / 1e6)
    }

    fn per_second(&self, value: f64) -> f64 {
        if self.seconds > 0.0 { value / self.seconds } else { 0.0 }
    }

    fn per_call(&self, value: f64) -> Option<f64> {
        (self.counters.calls > 0).then(|| value / self.counters.calls as f64)
    }
}

/// What a statement gained or lost from then to now, in seconds of each second; above zero is lost time.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Moved {
    /// All of it.
    pub by: f64,
    /// Of it, because it was called more or less often.
    pub by_calls: f64,
    /// Of it, because each call took longer or shorter.
    pub by_each: f64,
}

/// A statement that moved by less than this share of all of them is of no weight.
const LEAST_SHARE: f64 = 0.05;

impl Moved {
    /// Whether it is worth a sentence, beside all statements in the two periods.
    pub fn matters(&self, all_then: &Did, all_now: &Did) -> bool {
        self.by.abs() >= LEAST_SHARE * all_then.time().max(all_now.time())
    }
}

/// What a statement gained or lost. With `c` calls a second of `m` seconds each, the difference of `c·m` is exactly
/// `Δc·(m + m′)/2 + Δm·(c + c′)/2`. One that ran in one of the periods only moved by its calls.
pub fn moved(then: &Did, now: &Did) -> Moved {
    let by = now.time() - then.time();
    match (then.each(), now.each()) {
        (Some(before), Some(after)) => {
            let by_calls = (now.calls() - then.calls()) * (before + after) / 2.0;
            Moved { by, by_calls, by_each: by - by_calls }
        }
        _ => Moved { by, by_calls: by, by_each: 0.0 },
    }
}

/// Things in the order in which they moved most, whichever way: those that did not come last. n log n.
pub fn by_most<T>(things: &mut [T], by: impl Fn(&T) -> f64) {
    things.sort_by(|a, b| by(b).abs().total_cmp(&by(a).abs()));
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn did(seconds: f64, calls: i64, exec_us: i64) -> Did {
        let counters = StatementCounters { calls, exec_us, ..Default::default() };
        Did { seconds, counters, load: Load::default() }
    }

    #[test]
    fn twice_the_calls_of_half_as_long_again() {
        // 10 /s of 20 ms: 0.2 s/s. 20 /s of 30 ms: 0.6 s/s. Calls: 10 · 25 ms; each: 10 ms · 15.
        let moved = moved(&did(100.0, 1_000, 20_000_000), &did(50.0, 1_000, 30_000_000));
        assert!((moved.by - 0.4).abs() < 1e-9);
        assert!((moved.by_calls - 0.25).abs() < 1e-9 && (moved.by_each - 0.15).abs() < 1e-9);
    }

    #[test]
    fn what_is_new_or_gone_moved_by_its_calls() {
        let (none, some) = (did(60.0, 0, 0), did(60.0, 60, 6_000_000));
        let (new, gone) = (moved(&none, &some), moved(&some, &none));
        assert_eq!((new.by_calls, new.by_each), (0.1, 0.0));
        assert_eq!((gone.by_calls, gone.by_each), (-0.1, 0.0));
        assert_eq!(moved(&Did::default(), &Did::default()).by, 0.0);
    }

    #[test]
    fn what_is_little_beside_all_statements_is_not_worth_a_sentence() {
        let (then, now) = (did(60.0, 600, 60_000_000), did(60.0, 600, 120_000_000));
        let by = |by: f64| Moved { by, by_calls: by, by_each: 0.0 };
        assert!(by(0.11).matters(&then, &now) && by(-0.11).matters(&then, &now), "of 2 s/s");
        assert!(!by(0.09).matters(&then, &now) && !by(-0.09).matters(&now, &then));
    }

    #[test]
    fn what_moved_most_comes_first_whichever_way() {
        let mut moved = [0.1, -0.5, 0.0, 0.3];
        by_most(&mut moved, |by| *by);
        assert_eq!(moved, [-0.5, 0.3, 0.1, 0.0]);
    }

    fn any_did() -> impl Strategy<Value = Did> {
        (1.0..1e6f64, 0i64..1_000_000, 0i64..1_000_000_000_000)
            .prop_map(|(seconds, calls, exec_us)| did(seconds, calls, if calls > 0 { exec_us } else { 0 }))
    }

    proptest! {
        #[test]
        fn both_parts_are_the_whole_and_turn_with_the_periods(then in any_did(), now in any_did()) {
            let (there, back) = (moved(&then, &now), moved(&now, &then));
            let size = 1e-9 * (1.0 + then.time() + now.time() + there.by_calls.abs());
            prop_assert!((there.by - (there.by_calls + there.by_each)).abs() <= size);
            prop_assert!((there.by + back.by).abs() <= size);
            prop_assert!((there.by_calls + back.by_calls).abs() <= size);
            prop_assert!((there.by_each + back.by_each).abs() <= size);
        }

        /// A period twice as long in which twice as much happened is the same.
        #[test]
        fn lengths_do_not_matter(then in any_did(), now in any_did()) {
            let counters = StatementCounters { calls: now.counters.calls * 2, exec_us: now.counters.exec_us * 2, ..now.counters };
            let twice = Did { seconds: now.seconds * 2.0, counters, load: now.load };
            let (one, other) = (moved(&then, &now), moved(&then, &twice));
            prop_assert!((one.by - other.by).abs() <= 1e-9 * (1.0 + now.time()));
            prop_assert!((one.by_each - other.by_each).abs() <= 1e-9 * (1.0 + one.by_each.abs() + now.time() + then.time()));
        }
    }
}
