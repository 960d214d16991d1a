//! What a family cost while each of its plans was in use.

use std::collections::HashMap;

use hurnix_core::Window;
use hurnix_core::findings::plan_cost::PlanCost;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_store::{PlanUse, Result, Store};

use crate::state::now;

/// The last times that the plan changed that are looked at.
const MOST_USES: i64 = 12;

/// Plans of a family in use.
pub struct PlansInUse {
    /// When it came to be run with which plan, in order of time.
    pub uses: Vec<PlanUse>,
    /// What it cost meanwhile, by identity of the plan, over all times that it was in use.
    pub costs: HashMap<i64, PlanCost>,
}

/// Sums up what was counted from each time that the plan changed to the next.
pub async fn plans_in_use(store: &Store, instance_id: i32, family_id: i64) -> Result<PlansInUse> {
    let uses = store.plan_uses(family_id, MOST_USES).await?;
    let ends = uses.iter().skip(1).map(|next| next.from).chain([now()]);
    let mut costs: HashMap<i64, PlanCost> = HashMap::new();
    for (one, to) in uses.iter().zip(ends) {
        let Ok(window) = Window::new(one.from, to) else { continue };
        let pieces =
            store.pieces(instance_id, &[RetentionGroup::Statements], window, Detail::for_sums(window), now()).await?;
        costs.entry(one.identity).or_default().add(&store.family_sum(instance_id, family_id, &pieces).await?);
    }
    Ok(PlansInUse { uses, costs })
}
