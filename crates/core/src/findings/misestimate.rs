//! Where the planner first expected far more or fewer rows than came: what is above is built on that.
//!
//! Told of a plan that was run, of nodes whose rows are wrong by a factor while those of all nodes below are not. A node
//! that was stopped before its end, below a limit or on the inner side of a join that needs one match only, yields fewer
//! rows than it would: of such a node, fewer than expected are not told.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::readings::plan::{Node, Plan};

/// Wrong by more than this is told: less seldom leads to another plan.
const FACTOR: f64 = 10.0;
/// Rows, at least, on the larger side: of a few rows nothing depends on them.
const FEWEST_ROWS: f64 = 100.0;

/// Why an estimate is likely to be wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum WhyWrong {
    /// Several conditions on one table: the planner multiplies their shares, as if they had nothing to do with one
    /// another.
    CorrelatedColumns,
    /// A condition on what a function or an expression makes of a column, of which there are no statistics.
    Expression,
    /// Rows of a function, of which the planner knows a number at most.
    Function,
    /// A grouping by several columns.
    Groups,
    /// Rows that a join leaves over, though what it joins was expected as it came.
    Join,
    /// One condition on a column: its statistics are old, or too coarse for values as unequal as these.
    StatisticsOrSkew,
}

/// A node whose rows were expected wrongly.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Misestimate {
    /// Its place in the plan.
    pub place: usize,
    /// Rows that were expected, each time that it runs.
    pub expected: f64,
    /// Rows that came, likewise.
    pub came: f64,
    /// Why, most likely.
    pub why: WhyWrong,
}

/// The nodes at which it begins, the worst first. Empty of a plan that was not run.
pub fn first_wrong(plan: &Plan) -> Vec<Misestimate> {
    let stopped = stopped_early(plan);
    let wrong: Vec<Option<(f64, f64)>> =
        plan.nodes.iter().zip(&stopped).map(|(node, is_stopped)| wrong_rows(node, *is_stopped)).collect();
    let is_first = |place: usize| plan.whole(place).skip(1).all(|below| wrong[below].is_none());
    let told = wrong.iter().enumerate().filter_map(|(place, rows)| {
        let (expected, came) = (*rows)?;
        is_first(place).then(|| Misestimate { place, expected, came, why: why(&plan.nodes[place]) })
    });
    let mut told: Vec<Misestimate> = told.collect();
    told.sort_by(|a, b| factor(b.expected, b.came).total_cmp(&factor(a.expected, a.came)));
    told
}

fn factor(expected: f64, came: f64) -> f64 {
    let (expected, came) = (expected.max(1.0), came.max(1.0));
    (expected / came).max(came / expected)
}

/// Rows expected and come, where they are wrong.
fn wrong_rows(node: &Node, is_stopped: bool) -> Option<(f64, f64)> {
    let (expected, actual) = (node.estimate?.rows, node.actual.filter(|actual| actual.loops > 0.0)?);
    let came = actual.rows;
    // A bitmap of several indexes tells no rows of its own.
    let tells = !node.operator.starts_with("Bitmap") || node.operator.contains("Scan");
    let is_wrong = factor(expected, came) >= FACTOR && expected.max(came) * actual.loops >= FEWEST_ROWS;
    (tells && is_wrong && !(is_stopped && came < expected)).then_some((expected, came))
}

/// Which nodes may have been stopped before their end.
fn stopped_early(plan: &Plan) -> Vec<bool> {
    let mut stopped = vec![false; plan.nodes.len()];
    for place in 0..plan.nodes.len() {
        let operator = plan.nodes[place].operator.as_str();
        let children: Vec<usize> = plan.children(place).collect();
        for (at, child) in children.iter().enumerate() {
            // What reads all that is below it before its first row stops nothing there.
            let reads_all = ["Sort", "Hash", "HashAggregate", "Aggregate", "Materialize"].contains(&operator);
            let is_inner =
                at > 0 && (operator.contains("Semi") || operator.contains("Anti") || operator.starts_with("Merge"));
            let is_one_row = plan.nodes[*child].role.as_deref().is_some_and(|role| role.starts_with("SubPlan"));
            stopped[*child] = operator == "Limit" || is_inner || is_one_row || (stopped[place] && !reads_all);
        }
    }
    stopped
}

fn why(node: &Node) -> WhyWrong {
    let conditions: Vec<&str> = node
        .details
        .iter()
        .filter(|detail| detail.name == "Filter" || detail.name.ends_with(" Cond"))
        .map(|detail| detail.text.as_str())
        .collect();
    let operator = node.operator.as_str();
    if operator.contains("Function Scan") {
        WhyWrong::Function
    } else if operator.contains("Join") || operator.starts_with("Nested Loop") {
        WhyWrong::Join
    } else if operator.contains("Aggregate") || operator.contains("Group") || operator.contains("Unique") {
        WhyWrong::Groups
    } else if conditions.iter().any(|text| has_call(text)) {
        WhyWrong::Expression
    } else if conditions.len() > 1 || conditions.iter().any(|text| text.contains(" AND ")) {
        WhyWrong::CorrelatedColumns
    } else {
        WhyWrong::StatisticsOrSkew
    }
}

/// Whether a condition calls a function, or computes with a column: a name right before a bracket, or arithmetic. A cast
/// to a type with a length looks like a call and is none; `ANY (…)` stands apart from its bracket.
fn has_call(condition: &str) -> bool {
    let is_call = |(place, _): (usize, &str)| {
        let before = &condition[..place];
        let name = before.trim_end_matches(|sign: char| sign.is_alphanumeric() || sign == '_');
        let is_length = name.ends_with("::") || before.ends_with(" varying");
        name.len() < before.len() && !is_length
    };
    condition.match_indices('(').any(is_call)
        || [" % ", " / ", " * ", " || "].iter().any(|sign| condition.contains(sign))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn told(plan: &str) -> Vec<(usize, WhyWrong)> {
        let plan = Plan::read(plan).unwrap();
        first_wrong(&plan).into_iter().map(|wrong| (wrong.place, wrong.why)).collect()
    }

    #[test]
    fn where_it_begins_is_told_and_what_follows_from_it_is_not() {
        let plan = "Nested Loop  (cost=0.0..900.0 rows=2 width=8) (actual time=0.1..9000.0 rows=40000 loops=1)
  ->  Seq Scan on booking  (cost=0.0..90.0 rows=2 width=8) (actual time=0.1..20.0 rows=40000 loops=1)
        Filter: ((state = 'open'::text) AND (paid = 0))
  ->  Index Scan using crossing_pkey on crossing  (cost=0.0..4.0 rows=1 width=8) (actual time=0.1..0.2 rows=1 loops=40000)";
        assert_eq!(told(plan), [(1, WhyWrong::CorrelatedColumns)]);
        assert_eq!(told(&plan.replace("rows=40000 loops=1)", "rows=3 loops=1)")), []);
    }

    #[test]
    fn what_a_limit_stopped_is_not_wrong() {
        let plan = "Limit  (cost=0.0..9.0 rows=5 width=8) (actual time=0.1..0.2 rows=5 loops=1)
  ->  Seq Scan on booking  (cost=0.0..90.0 rows=90000 width=8) (actual time=0.1..0.2 rows=5 loops=1)
        Filter: (paid = 0)";
        assert_eq!(told(plan), []);
        // A sort reads all that is below it.
        let sorted = "Limit  (cost=0.0..9.0 rows=5 width=8) (actual time=0.1..0.2 rows=5 loops=1)
  ->  Sort  (cost=0.0..90.0 rows=90000 width=8) (actual time=0.1..0.2 rows=5 loops=1)
        ->  Seq Scan on booking  (cost=0.0..90.0 rows=90000 width=8) (actual time=0.1..0.2 rows=5 loops=1)
              Filter: (paid = 0)";
        assert_eq!(told(sorted), [(2, WhyWrong::StatisticsOrSkew)]);
    }

    #[test]
    fn each_reason_is_told_by_what_the_node_does() {
        let scan = |condition: &str| {
            let node = "Seq Scan on a  (cost=0.0..9.0 rows=1 width=8) (actual time=0.1..0.2 rows=5000 loops=1)";
            told(&format!("{node}\n  Filter: {condition}"))
        };
        assert_eq!(scan("(lower(code) = 'x'::text)"), [(0, WhyWrong::Expression)]);
        assert_eq!(scan("((n % 7) = 0)"), [(0, WhyWrong::Expression)]);
        assert_eq!(scan("(code = 'x'::character varying(10))"), [(0, WhyWrong::StatisticsOrSkew)]);
        assert_eq!(scan("(fare = '3'::numeric(10,2))"), [(0, WhyWrong::StatisticsOrSkew)]);
        assert_eq!(scan("(state = ANY ('{open,held}'::text[]))"), [(0, WhyWrong::StatisticsOrSkew)]);
        let of = |operator: &str| {
            told(&format!("{operator}  (cost=0.0..9.0 rows=1 width=8) (actual time=0.1..0.2 rows=5000 loops=1)"))
        };
        assert_eq!(of("Function Scan on unnest"), [(0, WhyWrong::Function)]);
        assert_eq!(of("Hash Join"), [(0, WhyWrong::Join)]);
        assert_eq!(of("HashAggregate"), [(0, WhyWrong::Groups)]);
    }

    #[test]
    fn few_rows_and_what_was_never_run_are_not_told() {
        let few = "Seq Scan on a  (cost=0.0..9.0 rows=1 width=8) (actual time=0.1..0.2 rows=50 loops=1)";
        assert_eq!(told(few), []);
        assert_eq!(told("Seq Scan on a  (cost=0.0..9.0 rows=9000 width=8) (never executed)"), []);
        assert_eq!(told("Seq Scan on a  (cost=0.0..9.0 rows=9000 width=8)"), []);
    }
}
