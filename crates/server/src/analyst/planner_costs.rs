use hurnix_core::changes::advice::FamilyCost;
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::plan::Plan;
use hurnix_core::workload::planner_check::{Planned, PlannerCheck};
use hurnix_store::Result;

use crate::state::App;

/// Statements whose plans are looked at, those that took most time.
const MOST_PLANS: usize = 300;

/// How well our costs agree with the planner's, by the newest plan of each of these statements.
pub async fn planner_check(app: &App, families: &[FamilyCost], catalog: &Catalog) -> Result<PlannerCheck> {
    let mut costliest: Vec<&FamilyCost> = families.iter().collect();
    costliest.sort_by_key(|family| std::cmp::Reverse(family.exec_us));
    costliest.truncate(MOST_PLANS);
    let numbers: Vec<i64> = costliest.iter().map(|family| family.family).collect();
    let told = app.store.newest_plans(&numbers).await?;
    Ok(tokio::task::block_in_place(|| {
        let plan = |family: &FamilyCost| Plan::read(told.get(&family.family)?).ok();
        let plans: Vec<(&FamilyCost, Plan)> =
            costliest.into_iter().filter_map(|family| Some((family, plan(family)?))).collect();
        let planned =
            plans.iter().map(|(family, plan)| Planned { family: family.family, statement: &family.text, plan });
        PlannerCheck::of(planned, catalog)
    }))
}
