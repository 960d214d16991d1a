//! Rule 10, first part: plans as the server tells them, and what makes two of them the same.
//!
//! The identity of a plan is made of its operators, relations, indexes, and how they are joined and nested. Estimates,
//! literals and conditions do not count, so the same plan for other values is the same plan. Where it is known of which
//! table something is a partition, partitions that are read in the same way count as one: a value may leave over one of them
//! or many.
//!
//! Not here: what a plan costs in practice, and what differs between two.

mod json;
mod logged;
mod text;
mod written;

use std::ops::Range;

pub use self::logged::{LoggedPlan, logged};
use crate::readings::family::fingerprint;

/// Nodes below one another, at most: more is no plan that a server made.
const MOST_DEPTH: usize = 500;

/// A plan: its nodes in the order of the server's text, each before those below it.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Plan {
    /// The first is that which answers; never empty.
    pub nodes: Vec<Node>,
    /// Time that planning took; milliseconds. Nothing where the statement was not run, or that was not told.
    pub planning_ms: Option<f64>,
    /// Time that running it took; milliseconds. Likewise.
    pub execution_ms: Option<f64>,
}

/// One node of a plan.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct Node {
    /// Nodes above it.
    pub depth: usize,
    /// What it is to the one above, where that is more than an input: `CTE waiting`, `InitPlan 1`, `SubPlan 2`.
    pub role: Option<String>,
    /// What it does, with the kind of a join: `Hash Left Join`, `Parallel Seq Scan`.
    pub operator: String,
    /// Table, function, or whatever else it reads from or writes to, without schema.
    pub relation: Option<String>,
    /// Table that this is a partition of; nothing where it is none, or nobody looked.
    pub partition_of: Option<String>,
    /// What the statement calls that, where it is another name.
    pub alias: Option<String>,
    /// Index that it uses.
    pub index: Option<String>,
    /// Index of the partitioned table that this is a part of; likewise.
    pub index_part_of: Option<String>,
    /// What the planner expected; nothing where costs were left out.
    pub estimate: Option<Estimate>,
    /// What came of it; nothing where the statement was not run.
    pub actual: Option<Actual>,
    /// Pages that it and those below it asked for; nothing where that was not told.
    pub pages: Option<Pages>,
    /// What else is told of it, in the server's words: conditions, keys, rows removed.
    pub details: Vec<Detail>,
}

/// What the planner expected of a node.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Estimate {
    /// Until the first row; in the planner's units.
    pub startup_cost: f64,
    /// Until the last row, with the nodes below.
    pub total_cost: f64,
    /// Rows, each time that it runs.
    pub rows: f64,
    /// Bytes of a row.
    pub width: f64,
}

/// What came of a node. All zero where it was never run.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Actual {
    /// Until the first row, in the mean of its runs, with the nodes below; milliseconds. Nothing where timing was off.
    pub startup_ms: Option<f64>,
    /// Until the last row; likewise.
    pub total_ms: Option<f64>,
    /// Rows, in the mean of its runs.
    pub rows: f64,
    /// How often it ran; parallel workers count each.
    pub loops: f64,
}

/// Pages of 8 kB by the server's default, with those of the nodes below.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Pages {
    /// Of tables and indexes, found in the server's cache.
    pub hit: u64,
    /// Likewise, read into it.
    pub read: u64,
    /// Likewise, changed.
    pub dirtied: u64,
    /// Likewise, written to make room.
    pub written: u64,
    /// Of temporary tables, read from their file or found in the session's memory.
    pub local: u64,
    /// Of temporary files, read.
    pub temp_read: u64,
    /// Of temporary files, written.
    pub temp_written: u64,
}

/// Something that is told of a node.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Detail {
    /// The server's word for it, such as `Filter`.
    pub name: String,
    /// What it says.
    pub text: String,
}

/// Why a text is no plan.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum PlanProblem {
    /// Nothing in it is a node.
    #[error("The text has no plan in it. Give what EXPLAIN answers, as text or as JSON, from its first line on.")]
    NoPlan,
    /// It begins like JSON and is none.
    #[error("The text begins like JSON and is none: {0}. Give the whole answer of EXPLAIN (FORMAT JSON).")]
    NotJson(String),
    /// It is nested too deeply.
    #[error("The plan has more than {MOST_DEPTH} nodes below one another. Give a plan that a server made.")]
    TooDeep,
}

/// What tells a plan from others by what the server tells of it; of what cannot be read, the whole text counts.
pub fn identity(told: &str) -> i64 {
    Plan::read(told).map_or_else(|_| marked(told), |plan| plan.identity())
}

/// A mark of a text; never 0.
fn marked(text: &str) -> i64 {
    match fingerprint(text) {
        0 => 1,
        mark => mark,
    }
}

impl Pages {
    /// Counts what the server tells by its words: `shared`, `local` or `temp`; says whether it is of this kind.
    fn count(&mut self, of: &str, name: &str, count: u64) -> bool {
        let place = match (of, name) {
            ("shared", "hit") => &mut self.hit,
            ("shared", "read") => &mut self.read,
            ("shared", "dirtied") => &mut self.dirtied,
            ("shared", "written") => &mut self.written,
            ("local", "hit" | "read") => &mut self.local,
            ("temp", "read") => &mut self.temp_read,
            ("temp", "written") => &mut self.temp_written,
            _ => return matches!(of, "local"),
        };
        *place += count;
        true
    }
}

impl Plan {
    /// Reads what EXPLAIN answers, as text or as JSON, also with what psql or the server's log puts around it.
    pub fn read(told: &str) -> Result<Plan, PlanProblem> {
        let plan = match json::within(told) {
            Some(document) => json::read(&document)?,
            None => text::read(told)?,
        };
        if plan.nodes.iter().any(|node| node.depth > MOST_DEPTH) { Err(PlanProblem::TooDeep) } else { Ok(plan) }
    }

    /// Names of tables and indexes that it uses.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.nodes.iter().flat_map(|node| [node.relation.as_deref(), node.index.as_deref()]).flatten()
    }

    /// Notes which of them are partitions: `whole` tells the table or index that one is a part of.
    pub fn note_partitions<'a>(&mut self, whole: impl Fn(&str) -> Option<&'a str>) {
        for node in &mut self.nodes {
            let of = |name: &Option<String>| name.as_deref().and_then(&whole).map(str::to_owned);
            (node.partition_of, node.index_part_of) = (of(&node.relation), of(&node.index));
        }
    }

    /// What tells it from others; never 0, which stands for no plan.
    pub fn identity(&self) -> i64 {
        let mut outline = Vec::new();
        self.outline(0, 0, &mut outline);
        marked(&outline.join("\n"))
    }

    /// Places of a node and of all below it.
    pub fn whole(&self, place: usize) -> Range<usize> {
        let depth = self.nodes[place].depth;
        let below = self.nodes[place + 1..].iter().take_while(|node| node.depth > depth).count();
        place..place + 1 + below
    }

    /// Places of the nodes right below one.
    pub fn children(&self, place: usize) -> impl Iterator<Item = usize> {
        let end = self.whole(place).end;
        let mut next = place + 1;
        std::iter::from_fn(move || {
            let child = (next < end).then_some(next)?;
            next = self.whole(child).end;
            Some(child)
        })
    }

    /// What counts for the identity of a node and of all below it, a line each.
    fn outline(&self, place: usize, depth: usize, lines: &mut Vec<String>) {
        let node = &self.nodes[place];
        let mut parts: Vec<Vec<String>> = Vec::new();
        let mut of_one_table = node.operator.ends_with("Append");
        for child in self.children(place) {
            let mut part = Vec::new();
            self.outline(child, depth + 1, &mut part);
            let is_partition = self.nodes[self.whole(child)].iter().any(|node| node.partition_of.is_some());
            of_one_table &= is_partition;
            if !(of_one_table && parts.contains(&part)) {
                parts.push(part);
            }
        }
        match &parts[..] {
            // Where one partition is left over, the server appends it to nothing.
            [_] if of_one_table => self.outline(place + 1, depth, lines),
            _ => {
                lines.push(format!("{depth} {}", node.outline()));
                lines.extend(parts.into_iter().flatten());
            }
        }
    }
}

impl Node {
    /// As the server's text form names it: operator, index, relation and alias.
    pub fn name(&self) -> String {
        self.named(self.index.as_deref(), self.relation.as_deref(), self.alias.as_deref())
    }

    /// What counts of it for the identity of its plan: its name, or that of the table that it is a partition of, which
    /// the statement may call by one name for each partition.
    pub(crate) fn outline(&self) -> String {
        let alias = self.alias.as_deref().filter(|_| self.partition_of.is_none());
        let index = self.index_part_of.as_deref().or(self.index.as_deref());
        self.named(index, self.partition_of.as_deref().or(self.relation.as_deref()), alias)
    }

    /// Likewise, with names in quotes that are no plain ones.
    fn quoted_name(&self) -> String {
        let [index, relation, alias] =
            [&self.index, &self.relation, &self.alias].map(|name| name.as_deref().map(quoted));
        self.named(index.as_deref(), relation.as_deref(), alias.as_deref())
    }

    fn named(&self, index: Option<&str>, relation: Option<&str>, alias: Option<&str>) -> String {
        let mut name = self.operator.clone();
        let words = match (index, relation) {
            (Some(index), None) => [(" on ", Some(index)), ("", None)],
            (index, relation) => [(" using ", index), (" on ", relation)],
        };
        for (before, told) in words.into_iter().chain([(" ", alias)]) {
            if let Some(told) = told {
                name.extend([before, told]);
            }
        }
        name
    }
}

fn quoted(name: &str) -> String {
    let is_plain = |sign: char| sign.is_ascii_lowercase() || sign.is_ascii_digit() || sign == '_';
    if name.chars().all(is_plain) { name.to_owned() } else { format!("\"{}\"", name.replace('"', "\"\"")) }
}

#[cfg(test)]
mod tests {
    use super::*;

    const JOIN: &str = "Hash Join  (cost=1.09..2.19 rows=4 width=8) (actual time=0.031..0.040 rows=3 loops=1)
  Hash Cond: (a.n = b.n)
  Buffers: shared hit=3 read=1, temp read=2 written=2
  ->  Seq Scan on deck a  (cost=0.00..1.04 rows=4 width=4) (actual time=0.011..0.012 rows=4 loops=1)
        Filter: (n > 3)
        Rows Removed by Filter: 2
  ->  Hash  (cost=1.04..1.04 rows=4 width=4) (never executed)
        ->  Index Scan using deck_pkey on deck b  (cost=0.00..1.04 rows=4 width=4) (never executed)
Planning Time: 0.125 ms
Execution Time: 0.250 ms";

    fn read(told: &str) -> Plan {
        Plan::read(told).unwrap()
    }

    fn names(told: &str) -> Vec<(usize, String)> {
        read(told).nodes.into_iter().map(|node| (node.depth, node.name())).collect()
    }

    #[test]
    fn all_that_a_text_tells_is_read() {
        let plan = read(JOIN);
        let expected =
            [(0, "Hash Join"), (1, "Seq Scan on deck a"), (1, "Hash"), (2, "Index Scan using deck_pkey on deck b")];
        assert_eq!(names(JOIN), expected.map(|(depth, name)| (depth, name.to_owned())));
        assert_eq!((plan.planning_ms, plan.execution_ms), (Some(0.125), Some(0.25)));
        let root = &plan.nodes[0];
        assert_eq!(root.estimate, Some(Estimate { startup_cost: 1.09, total_cost: 2.19, rows: 4.0, width: 8.0 }));
        assert_eq!(root.actual, Some(Actual { startup_ms: Some(0.031), total_ms: Some(0.04), rows: 3.0, loops: 1.0 }));
        assert_eq!(root.pages, Some(Pages { hit: 3, read: 1, temp_read: 2, temp_written: 2, ..Pages::default() }));
        assert_eq!(root.details, [Detail { name: "Hash Cond".into(), text: "(a.n = b.n)".into() }]);
        assert_eq!(plan.nodes[1].details.len(), 2);
        assert_eq!(plan.nodes[3].actual, Some(Actual::default()), "never run");
        assert_eq!(plan.children(0).collect::<Vec<_>>(), [1, 2]);
        assert_eq!(plan.whole(2), 2..4);
    }

    #[test]
    fn what_others_write_around_a_plan_is_passed_over() {
        let from_psql = format!(
            "                   QUERY PLAN\n-----------------\n{}\n(10 rows)\n",
            JOIN.lines().map(|line| format!(" {line}")).collect::<Vec<_>>().join("\n")
        );
        let from_log = format!("duration: 12.5 ms  plan:\nQuery Text: SELECT 1\n{JOIN}");
        for told in [from_psql, from_log] {
            assert_eq!(read(&told), read(JOIN), "{told}");
        }
    }

    #[test]
    fn roles_and_quoted_names_are_read_and_workers_are_not_counted_again() {
        let told = "Aggregate  (cost=1.0..2.0 rows=1 width=8)
  InitPlan 1 (returns $0)
    ->  Seq Scan on public.\"Deck on hold\" \"d.1\"  (cost=0.0..1.0 rows=1 width=4)
  CTE waiting
    ->  Function Scan on generate_series n  (cost=0.0..1.0 rows=1 width=4)
  ->  Bitmap Heap Scan on deck  (cost=0.0..1.0 rows=1 width=4)
        Buffers: shared hit=5
        Worker 0:  actual time=0.1..0.2 rows=1 loops=1
          Buffers: shared hit=4
        ->  Bitmap Index Scan on deck_pkey  (cost=0.0..1.0 rows=1 width=0)
        SubPlan 2
          ->  Result  (cost=0.0..1.0 rows=1 width=0)";
        let plan = read(told);
        let roles: Vec<Option<&str>> = plan.nodes.iter().map(|node| node.role.as_deref()).collect();
        assert_eq!(roles, [None, Some("InitPlan 1"), Some("CTE waiting"), None, None, Some("SubPlan 2")]);
        assert_eq!(plan.nodes[1].relation.as_deref(), Some("Deck on hold"));
        assert_eq!(plan.nodes[1].alias.as_deref(), Some("d.1"));
        assert_eq!(plan.nodes[3].pages.map(|pages| pages.hit), Some(5));
        assert_eq!(plan.nodes[4].index.as_deref(), Some("deck_pkey"));
        assert_eq!(plan.nodes.iter().map(|node| node.depth).collect::<Vec<_>>(), [0, 1, 1, 1, 2, 2]);
    }

    #[test]
    fn a_document_tells_the_same() {
        let told = r#"[{ "Plan": { "Node Type": "Aggregate", "Strategy": "Sorted", "Partial Mode": "Finalize",
            "Startup Cost": 1.0, "Total Cost": 2.0, "Plan Rows": 1, "Plan Width": 8, "Group Key": ["a", "b"],
            "Actual Startup Time": 0.1, "Actual Total Time": 0.2, "Actual Rows": 1.00, "Actual Loops": 1,
            "Shared Hit Blocks": 3, "Shared Read Blocks": 0, "Temp Written Blocks": 2,
            "Plans": [{ "Node Type": "Index Scan", "Parallel Aware": true, "Scan Direction": "Backward",
                "Relation Name": "deck", "Alias": "d", "Index Name": "deck_pkey", "Filter": "(n > 3)",
                "Startup Cost": 0.0, "Total Cost": 1.0, "Plan Rows": 4, "Plan Width": 4,
                "Actual Startup Time": 0.0, "Actual Total Time": 0.0, "Actual Rows": 0, "Actual Loops": 0 }] },
            "Planning Time": 0.5, "Execution Time": 1.5 }]"#;
        let text = "Finalize GroupAggregate  (cost=1.0..2.0 rows=1 width=8) (actual time=0.1..0.2 rows=1.00 loops=1)
  Group Key: a, b
  Buffers: shared hit=3, temp written=2
  ->  Parallel Index Scan Backward using deck_pkey on deck d  (cost=0.0..1.0 rows=4 width=4) (never executed)
        Filter: (n > 3)
Planning Time: 0.5 ms
Execution Time: 1.5 ms";
        assert_eq!(read(told), read(text));
        let from_psql = told.lines().map(|line| format!(" {line}   +")).collect::<Vec<_>>().join("\n");
        assert_eq!(read(&format!("  QUERY PLAN\n----\n{from_psql}\n(1 row)")), read(text));
    }

    #[test]
    fn what_is_no_plan_is_refused_with_what_to_do() {
        for told in ["", "SELECT 1", "nothing: at all", "[]", "{\"Plan\": 3}", "Deck"] {
            assert_eq!(Plan::read(told), Err(PlanProblem::NoPlan), "{told}");
        }
        assert!(matches!(Plan::read("[{\"Plan\": "), Err(PlanProblem::NotJson(_))));
        let deep = "{\"Plan\":{\"Plans\":[".repeat(100_000);
        assert_eq!(Plan::read(&deep), Err(PlanProblem::TooDeep));
        let deep: Vec<String> = (0..2_000).map(|depth| format!("{}->  Sort", " ".repeat(6 * depth + 2))).collect();
        assert_eq!(Plan::read(&format!("Sort\n{}", deep.join("\n"))), Err(PlanProblem::TooDeep));
    }

    #[test]
    fn a_plan_without_costs_is_one_too() {
        assert_eq!(names("Sort\n  Sort Key: n\n  ->  Seq Scan on deck").len(), 2);
        assert_eq!(names("Seq Scan on deck"), [(0, "Seq Scan on deck".to_owned())]);
    }

    #[test]
    fn estimates_and_literals_do_not_count_and_structure_does() {
        let other_values =
            JOIN.replace("rows=4", "rows=90000").replace("n > 3", "n > 17").replace("cost=0.00", "cost=9.50");
        assert_eq!(identity(JOIN), identity(&other_values));
        for (from, to) in [("deck_pkey", "deck_code"), ("Hash Join", "Merge Join"), ("deck a", "crossing a")] {
            assert_ne!(identity(JOIN), identity(&JOIN.replacen(from, to, 1)), "{from}");
        }
        // The same nodes, nested otherwise.
        let deeper =
            JOIN.replace("  ->  Hash ", "        ->  Hash ").replace("        ->  Index", "              ->  Index");
        assert_ne!(identity(JOIN), identity(&deeper));
        assert_ne!(identity(""), 0, "nothing at all has one too");
    }

    #[test]
    fn however_many_partitions_are_read_alike_it_is_the_same_plan() {
        let scan =
            |number: usize| format!("  ->  Index Scan using booking_{number}_idx on booking_{number} b_{number}\n");
        let appended =
            |numbers: &[usize]| format!("Append\n{}", numbers.iter().map(|number| scan(*number)).collect::<String>());
        let lone = "Index Scan using booking_7_idx on booking_7 b";
        let identity = |told: &str, are_known: bool| {
            let mut plan = read(told);
            plan.note_partitions(|name| match (are_known, name.ends_with("_idx")) {
                (false, _) => None,
                (true, true) => Some("booking_idx"),
                (true, false) => Some("booking"),
            });
            plan.identity()
        };
        let all = identity(&appended(&[1, 2, 3]), true);
        assert_eq!(all, identity(&appended(&[2, 3]), true));
        assert_eq!(all, identity(lone, true));
        let mixed = appended(&[1, 2]) + "  ->  Seq Scan on booking_3 b_3\n";
        assert_ne!(all, identity(&mixed, true), "one of them is read in another way");
        assert_ne!(identity(&appended(&[1, 2, 3]), false), identity(lone, false));
    }
}
