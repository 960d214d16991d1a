use std::collections::BTreeMap;

use super::{Cause, CauseKind, Evidence, PlanSeen};
use crate::readings::plan::Plan;

/// Steps of each plan that are told.
const MOST_STEPS: usize = 2;

/// Another plan, with the steps that it has in place of those before.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    let cause = evidence.new_plan().map(|(known, new)| Cause {
        kind: CauseKind::Plan,
        likely: 0.9,
        evidence: format!("The server makes another plan since then: {}", difference(known.text, new.text)),
        against: None,
    });
    cause.into_iter().collect()
}

impl Evidence<'_> {
    /// The last plan that was known before the onset, and the first one since; nothing where one of them is missing.
    pub(super) fn new_plan(&self) -> Option<(&PlanSeen<'_>, &PlanSeen<'_>)> {
        let (earliest, _) = self.onset_between();
        let known = self.plans.iter().filter(|plan| plan.first_seen_at < earliest);
        let new = self.plans.iter().filter(|plan| plan.first_seen_at >= earliest);
        known.max_by_key(|plan| plan.first_seen_at).zip(new.min_by_key(|plan| plan.first_seen_at))
    }
}

/// Which steps a plan has in place of which of another.
fn difference(known: &str, new: &str) -> String {
    let mut count: BTreeMap<String, i32> = BTreeMap::new();
    let names = |told: &str| Plan::read(told).unwrap_or_default().nodes.into_iter().map(|node| node.name());
    names(known).for_each(|name| *count.entry(name).or_default() -= 1);
    names(new).for_each(|name| *count.entry(name).or_default() += 1);
    // What names a table says more than how rows are joined or sorted.
    let told = |sign: i32| {
        let mut steps: Vec<&str> =
            count.iter().filter(|(_, count)| count.signum() == sign).map(|(name, _)| name.as_str()).collect();
        steps.sort_by_key(|step| !step.contains(" on "));
        steps.truncate(MOST_STEPS);
        steps.join(" and ")
    };
    match (told(1), told(-1)) {
        (come, gone) if come.is_empty() && gone.is_empty() => "the same steps in another order".into(),
        (come, gone) if gone.is_empty() => format!("{come} as well"),
        (come, gone) if come.is_empty() => format!("without {gone}"),
        (come, gone) => format!("{come} in place of {gone}"),
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::Case;
    use super::*;
    use crate::time::Timestamp;

    const BY_INDEX: &str = "Sort  (cost=1.0 rows=1)
  ->  Index Scan using tariff_route on tariff  (cost=1.0 rows=1)";
    const IN_FULL: &str = "Sort  (cost=1.0 rows=1)
  ->  Seq Scan on tariff  (cost=1.0 rows=1)";

    #[test]
    fn another_plan_is_told_with_the_step_that_changed() {
        let mut case = Case::slower(17.0);
        let at = |seconds: i64| Timestamp(seconds * 1_000_000);
        case.plans = vec![
            PlanSeen { text: BY_INDEX, first_seen_at: at(0) },
            PlanSeen { text: IN_FULL, first_seen_at: at(1010) },
        ];
        let told = &case.causes()[0];
        assert_eq!(told.kind, CauseKind::Plan);
        assert!(told.evidence.ends_with(": Seq Scan on tariff in place of Index Scan using tariff_route on tariff"));
        case.plans.remove(1);
        assert_eq!(case.kinds(), [], "the one that was known is no other");
    }

    #[test]
    fn what_comes_and_what_goes_is_told() {
        assert_eq!(difference("Seq Scan on deck", "Sort\n  ->  Seq Scan on deck"), "Sort as well");
        assert_eq!(difference("Sort\n  ->  Seq Scan on deck", "Seq Scan on deck"), "without Sort");
        assert_eq!(difference(BY_INDEX, BY_INDEX), "the same steps in another order");
    }
}
