//! What statements cost over several periods.

use crate::readings::counters::{Counters, StatementCounters};

/// Counters of periods added up.
///
/// Squares of execution times are known of the whole only where they are known of each part: periods that an earlier
/// version kept have none, and the squares of the rest tell nothing of all.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct StatementSum {
    summed: StatementCounters,
    is_lower_bound: bool,
    lacks_squares: bool,
}

impl StatementSum {
    /// A sum that was made figure by figure: `lacks_squares` where one of its periods is without.
    pub fn of(summed: StatementCounters, is_lower_bound: bool, lacks_squares: bool) -> StatementSum {
        StatementSum { summed, is_lower_bound, lacks_squares }
    }

    /// Whether a period has no squares, though it should: executions of a millisecond and more have some.
    pub fn is_without_squares(calls: i64, exec_us: i64, squared_ms: i64) -> bool {
        squared_ms == 0 && calls > 0 && exec_us >= calls.saturating_mul(1_000)
    }

    /// Adds what a period says; `is_lower_bound` where that is only what could be seen.
    pub fn add(&mut self, by: &StatementCounters, is_lower_bound: bool) {
        let lacks_squares = StatementSum::is_without_squares(by.calls, by.exec_us, by.squared_ms);
        self.join(&StatementSum { summed: *by, is_lower_bound, lacks_squares });
    }

    /// Adds another sum.
    pub fn join(&mut self, other: &StatementSum) {
        self.summed = self.summed.plus(&other.summed);
        self.is_lower_bound |= other.is_lower_bound;
        self.lacks_squares |= other.lacks_squares;
    }

    /// What all of it cost; without squares where these are not known of all.
    pub fn counters(&self) -> StatementCounters {
        let squared_ms = if self.lacks_squares { 0 } else { self.summed.squared_ms };
        StatementCounters { squared_ms, ..self.summed }
    }

    /// Whether some of it is only what could be seen.
    pub fn is_lower_bound(&self) -> bool {
        self.is_lower_bound
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn sum(periods: &[StatementCounters]) -> StatementSum {
        let mut sum = StatementSum::default();
        periods.iter().for_each(|period| sum.add(period, period.calls == 7));
        sum
    }

    #[test]
    fn squares_are_known_of_all_or_of_nothing() {
        let with = StatementCounters { calls: 2, exec_us: 9_000, squared_ms: 41, ..Default::default() };
        let brief = StatementCounters { calls: 3, exec_us: 900, ..Default::default() };
        let earlier = StatementCounters { calls: 7, exec_us: 70_000, ..Default::default() };
        let counters = sum(&[with, brief]).counters();
        assert_eq!((counters.calls, counters.exec_us, counters.squared_ms), (5, 9_900, 41), "brief ones need none");
        let mixed = sum(&[with, earlier]);
        assert_eq!((mixed.counters().calls, mixed.counters().squared_ms), (9, 0));
        assert!(mixed.is_lower_bound() && !sum(&[with, brief]).is_lower_bound());
        let mut joined = sum(&[brief]);
        joined.join(&mixed);
        assert_eq!((joined.counters().squared_ms, joined.is_lower_bound()), (0, true));
    }
}
