//! What calls of a statement took while each of its plans was in use, and whether another plan made them faster.
//!
//! A server counts by statement, not by plan: calls count for the plan that was the last one made before them.

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::readings::counters::StatementCounters;

/// Calls with a plan below which nothing is said of it.
pub const LEAST_CALLS: i64 = 20;
/// Factor of the time per call below which two plans are alike.
const ALIKE: f64 = 1.1;

/// What a plan cost while it was in use.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct PlanCost {
    /// Calls.
    pub calls: i64,
    /// Time executing, in microseconds.
    pub exec_us: i64,
}

/// How a plan compares with the one before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum PlanVerdict {
    /// Calls take less time.
    Better,
    /// Calls take more time.
    Worse,
    /// Neither, by a tenth.
    Alike,
}

impl PlanCost {
    /// Adds what calls cost.
    pub fn add(&mut self, counters: &StatementCounters) {
        self.calls += counters.calls;
        self.exec_us += counters.exec_us;
    }

    /// Mean time per call, in milliseconds; nothing where too few calls were counted.
    pub fn mean_ms(&self) -> Option<f64> {
        (self.calls >= LEAST_CALLS).then(|| self.exec_us as f64 / 1e3 / self.calls as f64)
    }
}

/// How a plan compares with the one before it, with the factor of the time per call; nothing where too little was counted
/// of either.
pub fn compared(before: &PlanCost, now: &PlanCost) -> Option<(PlanVerdict, f64)> {
    let ratio = now.mean_ms()? / before.mean_ms().filter(|mean| *mean > 0.0)?;
    let verdict = match ratio {
        ratio if ratio > ALIKE => PlanVerdict::Worse,
        ratio if ratio < 1.0 / ALIKE => PlanVerdict::Better,
        _ => PlanVerdict::Alike,
    };
    Some((verdict, ratio))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn cost(calls: i64, ms_each: f64) -> PlanCost {
        let mut cost = PlanCost::default();
        let exec_us = (calls as f64 * ms_each * 1e3) as i64;
        cost.add(&StatementCounters { calls, exec_us, ..Default::default() });
        cost
    }

    #[test]
    fn plans_are_judged_by_time_per_call_where_enough_was_counted() {
        let verdict = |before: PlanCost, now: PlanCost| compared(&before, &now).map(|(verdict, _)| verdict);
        assert_eq!(compared(&cost(100, 2.0), &cost(400, 6.0)), Some((PlanVerdict::Worse, 3.0)));
        assert_eq!(verdict(cost(100, 2.0), cost(400, 1.5)), Some(PlanVerdict::Better));
        assert_eq!(verdict(cost(100, 2.0), cost(400, 2.1)), Some(PlanVerdict::Alike));
        assert_eq!(verdict(cost(100, 2.0), cost(LEAST_CALLS - 1, 9.0)), None, "too few calls");
        assert_eq!(verdict(cost(100, 0.0), cost(100, 1.0)), None, "no time at all tells nothing");
    }
}
