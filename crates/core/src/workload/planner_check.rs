//! What statements cost by our formulas, held against what the server's planner expects of the same statements with the
//! same indexes: how far predictions can be trusted on this server.

use super::cost::{Costing, Indexes, Sizes};
use super::index_form::IndexForm;
use super::parse::shape;
use crate::readings::catalog::Catalog;
use crate::readings::plan::Plan;

/// Fewer plans say nothing of how far predictions can be trusted.
const LEAST_PLANS: usize = 5;
/// One plan of so many lies outside of the factor that is told.
const ONE_OUTSIDE_OF: usize = 5;

/// A statement with the plan that the server made for it without running it.
#[derive(Debug, Clone, Copy)]
pub struct Planned<'a> {
    /// Number of its family.
    pub family: i64,
    /// Its text.
    pub statement: &'a str,
    /// The plan.
    pub plan: &'a Plan,
}

/// A statement as it is costed here and there, in the planner's units.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Costed {
    /// Number of its family.
    pub family: i64,
    /// By our formulas.
    pub ours: f64,
    /// By the planner.
    pub planners: f64,
}

impl Costed {
    /// How many times as much we expect as the planner.
    pub fn ratio(&self) -> f64 {
        self.ours / self.planners
    }

    /// How far they are apart, whichever is larger; 1 where they agree.
    pub fn apart(&self) -> f64 {
        self.ratio().max(1.0 / self.ratio())
    }
}

/// How well our costs agree with the planner's.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct PlannerCheck {
    /// Each statement whose plan was read, the one that is furthest apart first.
    pub costed: Vec<Costed>,
}

impl PlannerCheck {
    /// Of these plans. Statements that are not understood, or not in whole, are left out, and so are plans whose costs
    /// were switched off. The rows are those that the planner expects, since in practice they are counted: what is held
    /// against each other is what the formulas make of them.
    pub fn of<'p>(planned: impl IntoIterator<Item = Planned<'p>>, catalog: &Catalog) -> PlannerCheck {
        let sizes = Sizes::of(catalog);
        let present = IndexForm::present(catalog);
        let indexes = Indexes::of(present.iter().map(|(form, bytes)| (form, *bytes)));
        let costed = |one: Planned| {
            let shape = shape(one.statement, catalog).ok()?;
            if shape.hides_literal || !Costing::is_complete(&shape) {
                return None;
            }
            let (planners, rows) = expected(one.plan)?;
            let ours = Costing::as_planned(&shape, catalog, &sizes, rows).cost(&indexes).units;
            Some(Costed { family: one.family, ours, planners })
        };
        let mut costed: Vec<Costed> = planned.into_iter().filter_map(costed).collect();
        costed.sort_by(|a, b| b.apart().total_cmp(&a.apart()));
        PlannerCheck { costed }
    }

    /// The middle of how many times as much we expect as the planner; nothing of too few plans.
    pub fn middle(&self) -> Option<f64> {
        let mut ratios: Vec<f64> = self.costed.iter().map(Costed::ratio).collect();
        ratios.sort_by(f64::total_cmp);
        (ratios.len() >= LEAST_PLANS).then(|| ratios[ratios.len() / 2])
    }

    /// The factor within which four of five of them agree; nothing of too few plans.
    pub fn factor(&self) -> Option<f64> {
        let outside = self.costed.len() / ONE_OUTSIDE_OF;
        (self.costed.len() >= LEAST_PLANS).then(|| self.costed[outside].apart())
    }
}

/// Cost of a plan, and the rows that are expected to come of it: of one that changes them, those that it changes.
fn expected(plan: &Plan) -> Option<(f64, f64)> {
    let cost = plan.nodes.first()?.estimate?.total_cost;
    let rows = plan.nodes.iter().filter_map(|node| Some(node.estimate?.rows)).find(|rows| *rows > 0.0)?;
    (cost > 0.0).then_some((cost, rows))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::readings::catalog::test_catalog::{catalog, index, table};

    const ALL: &str = "Seq Scan on passage_leg  (cost=0.00..12000.00 rows=600000 width=40)";
    const ONE: &str = "Index Scan using leg_key on passage_leg  (cost=0.42..8.44 rows=1 width=40)";

    fn check(plans: &[(&str, &str)]) -> PlannerCheck {
        let columns = [("passage_leg_id", 6e5), ("crossing_id", 6000.0)];
        let catalog =
            catalog(0, vec![table("passage_leg", 6e5, &columns, vec![index("leg_key", &["passage_leg_id"], true)])]);
        let plans: Vec<(&str, Plan)> =
            plans.iter().map(|(statement, plan)| (*statement, Plan::read(plan).expect("it is a plan"))).collect();
        let planned = plans.iter().zip(0..).map(|((statement, plan), family)| Planned { family, statement, plan });
        PlannerCheck::of(planned, &catalog)
    }

    #[test]
    fn a_full_read_and_a_search_cost_as_the_planner_has_them() {
        let found =
            check(&[("select * from passage_leg", ALL), ("select * from passage_leg where passage_leg_id = $1", ONE)]);
        assert_eq!(found.costed.len(), 2);
        assert!(found.costed.iter().all(|costed| costed.apart() < 1.3), "{found:?}");
        assert_eq!((found.middle(), found.factor()), (None, None), "two plans say nothing of others");
    }

    #[test]
    fn the_factor_leaves_out_the_fifth_that_is_furthest_apart() {
        let statement = "select * from passage_leg where passage_leg_id = $1";
        let far = ONE.replace("8.44", "844.00");
        let mut plans = vec![(statement, ONE); 4];
        plans.push((statement, &far));
        let found = check(&plans);
        assert_eq!(found.costed[0].family, 4, "the furthest first: {found:?}");
        assert!(found.costed[0].apart() > 50.0, "{found:?}");
        assert!(found.factor().is_some_and(|factor| factor < 1.3), "{found:?}");
        assert!(found.middle().is_some_and(|middle| (0.7..1.3).contains(&middle)), "{found:?}");
        plans.push((statement, &far));
        assert!(check(&plans).factor().is_some_and(|factor| factor > 50.0));
    }

    #[test]
    fn what_is_not_understood_is_left_out() {
        let found = check(&[
            ("select * from passage_leg where crossing_id like $1", ALL),
            ("select * from quay", ALL),
            ("select * from passage_leg", "Seq Scan on passage_leg"),
        ]);
        assert_eq!(found.costed, []);
    }
}
