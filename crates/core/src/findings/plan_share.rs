//! Which share of a plan each of its nodes takes for itself, by the planner's cost or by measured time.
//!
//! The server tells of each node what it takes together with those below it, each time that it runs. So a node's own part
//! is the rest. The inner side of a nested loop runs once for each outer row; below a limit nodes stop early; parallel
//! workers run at the same time: where those below would take more than the node has, they share what it has in their
//! proportion. So no share is negative, and all of a plan add up to one.

use crate::readings::plan::{Node, Plan};

/// Shares of the nodes of a plan, in their order; nothing where the server told no cost of some of them, or the plan costs nothing.
pub fn of_cost(plan: &Plan) -> Option<Vec<f64>> {
    shares(
        plan,
        |node| node.estimate.map(|estimate| estimate.total_cost),
        |plan, above, node| {
            let is_inner = plan.nodes[above].operator.starts_with("Nested Loop") && plan.nodes[node].role.is_none();
            let outer = plan.children(above).find(|child| plan.nodes[*child].role.is_none());
            let rows = |place: usize| plan.nodes[place].estimate.map_or(1.0, |estimate| estimate.rows.max(1.0));
            outer.filter(|outer| is_inner && *outer != node).map_or(1.0, rows)
        },
    )
}

/// Likewise, by the time that they took; nothing where the statement was not run, or not timed.
pub fn of_time(plan: &Plan) -> Option<Vec<f64>> {
    let time = |node: &Node| node.actual.map(|actual| actual.total_ms.unwrap_or_default() * actual.loops);
    shares(plan, time, |_, _, _| 1.0)
}

/// `whole` tells what a node takes with those below it, `runs` how often one below another runs for each time that the
/// other does.
fn shares(
    plan: &Plan,
    whole: impl Fn(&Node) -> Option<f64>,
    runs: impl Fn(&Plan, usize, usize) -> f64,
) -> Option<Vec<f64>> {
    let all = whole(plan.nodes.first()?).filter(|all| *all > 0.0)?;
    // Where only some of it was told, the rest would be taken for nothing.
    if plan.nodes.iter().any(|node| whole(node).is_none()) {
        return None;
    }
    // What a node and those below it take of the whole plan.
    let mut taken = vec![0.0; plan.nodes.len()];
    let mut own = vec![0.0; plan.nodes.len()];
    taken[0] = 1.0;
    for place in 0..plan.nodes.len() {
        let mine = whole(&plan.nodes[place]).unwrap_or_default();
        // A node that stops early takes less than it would.
        let scale = if mine > 0.0 { taken[place] / mine } else { 1.0 / all };
        let mut below = 0.0;
        for child in plan.children(place) {
            let claim = whole(&plan.nodes[child]).unwrap_or_default() * runs(plan, place, child) * scale;
            taken[child] = claim;
            below += claim;
        }
        if below > taken[place] {
            plan.children(place).for_each(|child| taken[child] *= taken[place] / below);
            below = taken[place];
        }
        own[place] = taken[place] - below;
    }
    Some(own)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::plan::{Actual, Estimate};

    fn percents(shares: Option<Vec<f64>>) -> Vec<f64> {
        shares.unwrap().into_iter().map(|share| (share * 100.0).round()).collect()
    }

    #[test]
    fn the_inner_side_of_a_nested_loop_counts_once_for_each_outer_row() {
        let plan = Plan::read(
            "Nested Loop  (cost=0.00..1000.00 rows=100 width=8)
  ->  Seq Scan on passage  (cost=0.00..200.00 rows=100 width=4)
  ->  Index Scan using vessel_pkey on vessel  (cost=0.00..7.50 rows=1 width=4)",
        );
        assert_eq!(percents(of_cost(&plan.unwrap())), [5.0, 20.0, 75.0]);
    }

    #[test]
    fn what_stops_early_takes_no_more_than_the_limit() {
        let plan = Plan::read(
            "Limit  (cost=0.00..10.00 rows=1 width=8)
  ->  Seq Scan on passage  (cost=0.00..1000.00 rows=100 width=8)",
        );
        assert_eq!(percents(of_cost(&plan.unwrap())), [0.0, 100.0]);
    }

    #[test]
    fn time_counts_all_runs_and_nothing_is_told_where_none_was_taken() {
        let plan = Plan::read(
            "Nested Loop  (cost=0.00..10.00 rows=1 width=8) (actual time=0.1..100.0 rows=10 loops=1)
  ->  Seq Scan on a  (cost=0.00..1.00 rows=1 width=8) (actual time=0.1..30.0 rows=10 loops=1)
  ->  Seq Scan on b  (cost=0.00..1.00 rows=1 width=8) (actual time=0.1..6.0 rows=1 loops=10)",
        );
        assert_eq!(percents(of_time(&plan.unwrap())), [10.0, 30.0, 60.0]);
        let never_run = Plan::read("Seq Scan on a  (cost=0.00..1.00 rows=1 width=8)").unwrap();
        assert_eq!(of_time(&never_run), None);
        assert_eq!(of_cost(&Plan::read("Seq Scan on a").unwrap()), None);
        let in_part = "Sort  (cost=1.00..9.00 rows=1 width=8)\n  ->  Seq Scan on a";
        assert_eq!(of_cost(&Plan::read(in_part).unwrap()), None);
    }

    proptest! {
        #[test]
        fn shares_add_up_to_one_and_none_is_negative(
            drawn in prop::collection::vec((0_usize..4, 0.0_f64..1e6, 0.0_f64..1e4, 0.0_f64..50.0), 1..60),
        ) {
            let mut depth = 0_usize;
            let nodes = drawn.iter().enumerate().map(|(place, (up, cost, rows, loops))| {
                depth = if place == 0 { 0 } else { (depth + 1).saturating_sub(*up).max(1) };
                Node {
                    depth,
                    operator: if up.is_multiple_of(2) { "Nested Loop".into() } else { "Append".into() },
                    estimate: Some(Estimate { total_cost: *cost, rows: *rows, ..Estimate::default() }),
                    actual: Some(Actual { total_ms: Some(*cost), loops: *loops, ..Actual::default() }),
                    ..Node::default()
                }
            });
            let plan = Plan { nodes: nodes.collect(), ..Plan::default() };
            for shares in [of_cost(&plan), of_time(&plan)].into_iter().flatten() {
                prop_assert!((shares.iter().sum::<f64>() - 1.0).abs() < 1e-9, "{shares:?}");
                prop_assert!(shares.iter().all(|share| *share >= -1e-12), "{shares:?}");
            }
        }
    }
}
