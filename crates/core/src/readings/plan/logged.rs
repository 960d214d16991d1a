//! Plans that a server writes to its log with the statements that it ran: how long they took, and what came of each node.
//!
//! Where literals are not to be kept, conditions keep their columns and operators, and figures stay as they are.

use serde_json::Value;

use super::{Plan, text, written};
use crate::readings::family::masked;

/// A plan of the log.
#[derive(Debug, Clone, PartialEq)]
pub struct LoggedPlan {
    /// How long the statement took; milliseconds.
    pub ms: f64,
    /// The statement, literals and all.
    pub statement: String,
    /// Its plan, likewise.
    pub plan: Plan,
}

/// What a message of the log tells: `duration: 12.5 ms  plan:` with the statement and its plan behind it, as text or as
/// JSON. Nothing where it tells anything else, or no plan that can be read.
pub fn logged(message: &str) -> Option<LoggedPlan> {
    let (ms, told) = message.strip_prefix("duration: ")?.split_once(" ms  plan:")?;
    let (ms, told) = (ms.parse().ok()?, told.trim_start_matches(['\r', '\n']));
    let statement = if told.trim_start().starts_with('{') { of_json(told)? } else { of_text(told)? };
    let mut plan = Plan::read(told).ok()?;
    plan.execution_ms.get_or_insert(ms);
    Some(LoggedPlan { ms, statement, plan })
}

/// What stands for the statement in each form.
const STATEMENT: &str = "Query Text";

fn of_json(told: &str) -> Option<String> {
    let value: Value = serde_json::from_str(told).ok()?;
    value.get(STATEMENT)?.as_str().map(str::to_owned)
}

/// It may go over many lines, up to where the plan begins or its parameters are told.
fn of_text(told: &str) -> Option<String> {
    let told = told.strip_prefix(STATEMENT)?.strip_prefix(": ")?;
    let is_behind = |line: &str| text::is_node(line) || line.starts_with("Query Parameters: ");
    let lines: Vec<&str> = told.lines().take_while(|line| !is_behind(line)).collect();
    Some(lines.join("\n"))
}

/// What is told of a node in figures and in the server's own words: it never holds a literal of the statement.
const FIGURES: &[&str] = &[
    "Async",
    "Average",
    "Batches",
    "Buckets",
    "Cache Mode",
    "Conflict Resolution",
    "Conflicting Tuples",
    "Disk",
    "Exact Heap",
    "Full-sort",
    "Group Count",
    "Hash Batches",
    "Hash Buckets",
    "HashAgg",
    "Heap",
    "Hits",
    "I/O",
    "Index Searches",
    "Lossy Heap",
    "Memory",
    "Original Hash",
    "Partitions",
    "Peak Memory",
    "Planned Partitions",
    "Pre-sorted",
    "Rows Removed",
    "Sort Method",
    "Sort Space",
    "Storage",
    "Subplans Removed",
    "Tuples",
    "WAL",
    "Workers",
];

impl LoggedPlan {
    /// The plan as text; without literals of the statement if `is_masked`.
    pub fn text(&self, is_masked: bool) -> String {
        let mut plan = self.plan.clone();
        if is_masked {
            // A literal that goes over lines leaves a quote open, and the rest of it looks like anything.
            let is_cut =
                plan.nodes.iter().flat_map(|node| &node.details).any(|told| told.text.matches('\'').count() % 2 == 1);
            for node in &mut plan.nodes {
                let is_figure = |name: &str| FIGURES.iter().any(|figure| name.starts_with(figure));
                node.details.retain(|told| !is_cut || is_figure(&told.name));
                for told in node.details.iter_mut().filter(|told| !is_figure(&told.name)) {
                    told.text = masked(&told.text);
                }
            }
        }
        written::write(&plan)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const TEXT: &str = "duration: 512.250 ms  plan:
Query Text: SELECT *
  FROM booking WHERE holder = 'A. Skerry' -- desk 4
Sort  (cost=8.30..8.31 rows=1 width=40) (actual time=500.100..511.000 rows=900 loops=1)
  Sort Key: booked_at
  Sort Method: quicksort  Memory: 25kB
  Buffers: shared hit=3 read=120
  ->  Index Scan using booking_holder on public.booking  (cost=0.28..8.29 rows=1 width=40) (actual time=0.100..499.000 rows=900 loops=1)
        Index Cond: (holder = 'A. Skerry'::text)
        Filter: (deck > 3)
        Rows Removed by Filter: 42";

    #[test]
    fn a_plan_of_the_log_is_read_with_its_statement_and_its_time() {
        let read = logged(TEXT).unwrap();
        assert_eq!(read.ms, 512.25);
        assert_eq!(read.statement, "SELECT *\n  FROM booking WHERE holder = 'A. Skerry' -- desk 4");
        let scan = &read.plan.nodes[1];
        assert_eq!(
            (scan.name().as_str(), scan.actual.map(|came| came.rows)),
            ("Index Scan using booking_holder on booking", Some(900.0))
        );
        assert_eq!(read.plan.execution_ms, Some(512.25));
        let told = read.text(false);
        assert!(told.contains("(holder = 'A. Skerry'::text)"), "{told}");
        assert_eq!(Plan::read(&told).unwrap(), read.plan);
    }

    #[test]
    fn literals_leave_and_figures_stay() {
        let read = logged(TEXT).unwrap();
        let told = read.text(true);
        assert!(!told.contains("A. Skerry") && told.contains("Index Cond: (holder = $1::text)"), "{told}");
        assert!(told.contains("Filter: (deck > $1)"), "{told}");
        for figure in
            ["Rows Removed by Filter: 42", "Sort Method: quicksort  Memory: 25kB", "shared hit=3 read=120", "rows=900"]
        {
            assert!(told.contains(figure), "{figure}: {told}");
        }
        assert_eq!(Plan::read(&told).unwrap().identity(), read.plan.identity());
        // Over lines: whatever looks like a detail may be the rest of a literal.
        let cut = TEXT.replace("A. Skerry'::text)", "A.\n        Name: Skerry'::text)");
        let told = logged(&cut).unwrap().text(true);
        assert!(
            !told.contains("Skerry") && !told.contains("holder =") && told.contains("Rows Removed by Filter: 42"),
            "{told}"
        );
    }

    #[test]
    fn a_plan_in_json_is_the_same_plan() {
        let json = "duration: 512.250 ms  plan:\n{\n  \"Query Text\": \"SELECT 'it''s' FROM booking\",\n  \"Plan\": {\"Node Type\": \"Seq Scan\",
            \"Relation Name\": \"booking\", \"Alias\": \"booking\", \"Startup Cost\": 0.0, \"Total Cost\": 9.5, \"Plan Rows\": 4, \"Plan Width\": 8,
            \"Actual Rows\": 3, \"Actual Loops\": 1, \"Filter\": \"(holder = 'A'::text)\", \"Rows Removed by Filter\": 7}\n}";
        let read = logged(json).unwrap();
        assert_eq!((read.ms, read.statement.as_str()), (512.25, "SELECT 'it''s' FROM booking"));
        let told = read.text(true);
        assert!(
            told.starts_with("Seq Scan on booking  (cost=0..9.5 rows=4 width=8) (actual rows=3 loops=1)"),
            "{told}"
        );
        assert!(told.contains("Filter: (holder = $1::text)") && told.contains("Rows Removed by Filter: 7"), "{told}");
    }

    #[test]
    fn other_messages_tell_no_plan() {
        for message in [
            "duration: 7 ms  statement: select 'secret'",
            "duration: 7 ms  plan:\nQuery Text: select 1",
            "duration: x ms  plan:\nQuery Text: select 1\nResult  (cost=0.00..0.01 rows=1 width=4)",
            "duration: 7 ms  plan:\n<explain xmlns=\"http://www.postgresql.org/2009/explain\">",
            "plan:",
        ] {
            assert_eq!(logged(message), None, "{message}");
        }
    }
}
