use std::collections::BTreeMap;

use super::{Cause, CauseKind, Evidence, PlanSeen};
use crate::findings::plan_cost::{PlanCost, PlanVerdict, compared};
use crate::readings::plan::Plan;
use crate::wording::seconds;

/// How much another plan explains, where calls with it moved as the change did or are not known, and where they did not.
const LIKE: f64 = 0.9;
const UNLIKE: f64 = 0.4;
/// Steps of each plan that are told.
const MOST_STEPS: usize = 2;

/// Another plan, with the steps that it has in place of those before.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    let cause = evidence.new_plan().map(|(known, new)| {
        let another = format!("The server makes another plan since then: {}", difference(known.text, new.text));
        let is_slower = evidence.change.ratio.value > 1.0;
        // A plan is read some time after the server first makes it: calls with it count for the one before until then, so
        // that two that look alike say nothing.
        let (told, against) = match cost_of_both(&known.cost, &new.cost) {
            Some((PlanVerdict::Worse, told)) if is_slower => (Some(told), None),
            Some((PlanVerdict::Better, told)) if !is_slower => (Some(told), None),
            None | Some((PlanVerdict::Alike, _)) => (None, None),
            Some((_, told)) => (None, Some(told)),
        };
        Cause {
            kind: CauseKind::Plan,
            likely: if against.is_some() { UNLIKE } else { LIKE },
            evidence: told.map_or_else(|| another.clone(), |told| format!("{another}. {told}")),
            against,
        }
    });
    cause.into_iter().collect()
}

/// What calls took while each was in use, and whether the new one is better; nothing where too little was counted.
fn cost_of_both(known: &PlanCost, new: &PlanCost) -> Option<(PlanVerdict, String)> {
    let (verdict, _) = compared(known, new)?;
    let [before, since] = [known.mean_ms()?, new.mean_ms()?].map(|ms| seconds(ms / 1e3));
    Some((verdict, format!("A call took {before} while the plan before was in use, and {since} since")))
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
            PlanSeen { text: BY_INDEX, first_seen_at: at(0), cost: PlanCost::default() },
            PlanSeen { text: IN_FULL, first_seen_at: at(1010), cost: PlanCost::default() },
        ];
        let told = &case.causes()[0];
        assert_eq!(told.kind, CauseKind::Plan);
        assert!(told.evidence.ends_with(": Seq Scan on tariff in place of Index Scan using tariff_route on tariff"));
        // With what was counted while each was in use.
        let cost = |ms: i64| PlanCost { calls: 100, exec_us: ms * 100_000 };
        (case.plans[0].cost, case.plans[1].cost) = (cost(2), cost(34));
        let told = &case.causes()[0];
        assert!(
            told.evidence.ends_with(". A call took 2\u{a0}ms while the plan before was in use, and 34\u{a0}ms since"),
            "{told:?}"
        );
        (case.plans[0].cost, case.plans[1].cost) = (cost(34), cost(2));
        let told = case.causes().into_iter().find(|cause| cause.kind == CauseKind::Plan).unwrap();
        assert!(
            told.against.is_some_and(|against| against.contains("and 2\u{a0}ms since")),
            "calls with it are faster"
        );
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
