use super::{Cause, CauseKind, Evidence, TableStatistics};
use crate::readings::statement::has_word;
use crate::wording::number;

/// Where more than this share of a table changed since, they are old: the server collects them anew at a tenth.
const OLD_FROM: f64 = 0.5;
/// How likely statistics are where the plan changed then, and where it is not known to have.
const WITH_NEW_PLAN: f64 = 0.7;
const WITHOUT: f64 = 0.35;

/// Statistics of its tables that were collected shortly before the onset, or that are old: the planner thinks by them. They
/// are collected all the time, so they say little unless the plan changed.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    let named = |of: &&TableStatistics| has_word(evidence.statement, of.table.rsplit('.').next().unwrap_or(&of.table));
    let has_new_plan = evidence.new_plan().is_some();
    let cause = |told: String| Cause {
        kind: CauseKind::Statistics,
        likely: if has_new_plan { WITH_NEW_PLAN } else { WITHOUT },
        evidence: told,
        against: (!has_new_plan).then(|| "The plan is not known to have changed then".into()),
    };
    let told =
        evidence.statistics.iter().filter(named).find_map(|of| fresh(evidence, of).or_else(|| old(evidence, of)));
    told.map(cause).into_iter().collect()
}

fn fresh(evidence: &Evidence, of: &TableStatistics) -> Option<String> {
    let (earliest, latest) = evidence.onset_between();
    let near = evidence.near();
    let mut collected = of.collected.iter();
    let is_fresh = collected.any(|at| earliest.seconds_since(*at) <= near && at.seconds_since(latest) <= 0.0);
    is_fresh.then(|| format!("The planner's statistics of {} were collected anew shortly before", of.table))
}

fn old(evidence: &Evidence, of: &TableStatistics) -> Option<String> {
    let share = of.changed? / of.rows.filter(|rows| *rows > 0.0)?;
    if share < OLD_FROM || !evidence.is_slower() {
        return None;
    }
    let table = &of.table;
    Some(format!(
        "The planner's statistics of {table} are old: {} % of its rows have changed since they were collected. ANALYZE {table} brings them up to date",
        number(100.0 * share)
    ))
}

#[cfg(test)]
mod tests {
    use super::super::PlanSeen;
    use super::super::tests::Case;
    use super::*;
    use crate::findings::plan_cost::PlanCost;
    use crate::time::Timestamp;

    fn of(table: &str, collected: &[i64], changed: f64) -> TableStatistics {
        let collected = collected.iter().map(|at| Timestamp(at * 1_000_000)).collect();
        TableStatistics { table: table.into(), collected, rows: Some(1000.0), changed: Some(changed) }
    }

    #[test]
    fn fresh_ones_say_little_unless_the_plan_changed() {
        let mut case = Case::slower(9.0);
        case.statistics = vec![of("public.passage_leg", &[990], 0.0)];
        assert_eq!(case.kinds(), [CauseKind::Statistics]);
        assert!(case.causes()[0].against.is_some());
        case.plans = [("Index Scan", 0), ("Seq Scan", 1_010)]
            .map(|(text, at)| PlanSeen { text, first_seen_at: Timestamp(at * 1_000_000), cost: PlanCost::default() })
            .into();
        assert_eq!(case.kinds(), [CauseKind::Plan, CauseKind::Statistics]);
        assert!(case.causes()[1].against.is_none());
        case.statistics = vec![of("public.deck", &[990], 0.0)];
        assert_eq!(case.kinds(), [CauseKind::Plan], "the statement does not name it");
    }

    #[test]
    fn old_ones_are_told_with_the_remedy() {
        let mut case = Case::slower(9.0);
        case.statistics = vec![of("public.passage_leg", &[300], 800.0)];
        assert!(case.causes()[0].evidence.contains("80 % of its rows"), "{:?}", case.causes());
        case.statistics = vec![of("public.passage_leg", &[300], 100.0)];
        assert_eq!(case.kinds(), []);
    }
}
