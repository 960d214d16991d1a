//! A plan in the server's JSON form.

use serde::Deserialize;
use serde_json::{Map, Value};

use super::text::role;
use super::{Actual, Detail, Estimate, MOST_DEPTH, Node, Pages, Plan, PlanProblem};

/// Signs that open something, at most, before others close it: a node has two.
const MOST_NESTED: usize = 2 * MOST_DEPTH + 8;
/// What is told of a node besides, and says nothing about it that is not told here in another way.
const PASSED_OVER: &[&str] = &[
    "Node Type",
    "Strategy",
    "Partial Mode",
    "Operation",
    "Join Type",
    "Command",
    "Parallel Aware",
    "Async Capable",
    "Scan Direction",
    "Parent Relationship",
    "Subplan Name",
    "Relation Name",
    "Schema",
    "Alias",
    "Index Name",
    "Function Name",
    "CTE Name",
    "Tuplestore Name",
    "Table Function Name",
    "Custom Plan Provider",
    "Startup Cost",
    "Total Cost",
    "Plan Rows",
    "Plan Width",
    "Actual Startup Time",
    "Actual Total Time",
    "Actual Rows",
    "Actual Loops",
    "Plans",
    "Workers",
    "Output",
    "Inner Unique",
    "Disabled",
    "Single Copy",
];

/// The document within what psql or the log writes around it; nothing where the text has none.
pub fn within(told: &str) -> Option<String> {
    let mut lines = told.lines().map(|line| line.trim_end().trim_end_matches('+').trim_end());
    let is_begun = |line: &&str| line.trim_start().starts_with(['[', '{']);
    let before = lines.by_ref().find(|line| is_begun(line) || line.contains("(cost="))?;
    is_begun(&before).then(|| std::iter::once(before).chain(lines).collect::<Vec<_>>().join("\n"))
}

/// Reads it.
pub fn read(document: &str) -> Result<Plan, PlanProblem> {
    if nested(document) > MOST_NESTED {
        return Err(PlanProblem::TooDeep);
    }
    // What follows it, such as the number of rows that psql tells, does not belong to it.
    let mut reader = serde_json::Deserializer::from_str(document);
    reader.disable_recursion_limit();
    let value = Value::deserialize(serde_stacker::Deserializer::new(&mut reader))
        .map_err(|problem| PlanProblem::NotJson(problem.to_string()))?;
    let whole = value.get(0).unwrap_or(&value);
    let root = whole.get("Plan").and_then(Value::as_object).ok_or(PlanProblem::NoPlan)?;
    let milliseconds = |name: &str| whole.get(name).and_then(Value::as_f64);
    let mut plan = Plan {
        nodes: Vec::new(),
        planning_ms: milliseconds("Planning Time"),
        execution_ms: milliseconds("Execution Time"),
    };
    let mut next = vec![(root, 0)];
    while let Some((told, depth)) = next.pop() {
        plan.nodes.push(node(told, depth));
        let below = told.get("Plans").and_then(Value::as_array).into_iter().flatten();
        next.extend(below.rev().filter_map(Value::as_object).map(|told| (told, depth + 1)));
    }
    Ok(plan)
}

/// How deep a document is nested at most.
fn nested(document: &str) -> usize {
    let (mut depth, mut most, mut in_text, mut is_escaped) = (0_usize, 0, false, false);
    for sign in document.bytes() {
        match sign {
            _ if is_escaped => is_escaped = false,
            b'\\' if in_text => is_escaped = true,
            b'"' => in_text = !in_text,
            b'[' | b'{' if !in_text => depth += 1,
            b']' | b'}' if !in_text => depth = depth.saturating_sub(1),
            _ => {}
        }
        most = most.max(depth);
    }
    most
}

fn node(told: &Map<String, Value>, depth: usize) -> Node {
    let text = |name: &str| told.get(name).and_then(Value::as_str).map(str::to_owned);
    let number = |name: &str| told.get(name).and_then(Value::as_f64);
    let names = ["Relation Name", "Function Name", "CTE Name", "Tuplestore Name", "Table Function Name"];
    let called = text("Alias");
    // Subqueries and lists of values have a name of the statement only.
    let relation = names.iter().find_map(|name| text(name)).or_else(|| called.clone());
    let estimate = number("Total Cost").map(|total_cost| Estimate {
        startup_cost: number("Startup Cost").unwrap_or_default(),
        total_cost,
        rows: number("Plan Rows").unwrap_or_default(),
        width: number("Plan Width").unwrap_or_default(),
    });
    let actual = number("Actual Loops").map(|loops| match loops {
        0.0 => Actual::default(),
        _ => Actual {
            startup_ms: number("Actual Startup Time"),
            total_ms: number("Actual Total Time"),
            rows: number("Actual Rows").unwrap_or_default(),
            loops,
        },
    });
    Node {
        depth,
        role: text("Subplan Name").map(|name| role(&name)),
        operator: operator(told),
        alias: called.filter(|alias| Some(alias) != relation.as_ref()),
        relation,
        index: text("Index Name"),
        estimate,
        actual,
        pages: pages(told),
        details: details(told),
        ..Node::default()
    }
}

/// What the text form calls a node.
fn operator(told: &Map<String, Value>) -> String {
    let text = |name: &str| told.get(name).and_then(Value::as_str).unwrap_or_default();
    let is = |name: &str| told.get(name).and_then(Value::as_bool).unwrap_or_default();
    let kind = text("Node Type");
    let name = match kind {
        "Aggregate" => {
            let way = match text("Strategy") {
                "Hashed" => "HashAggregate",
                "Sorted" => "GroupAggregate",
                "Mixed" => "MixedAggregate",
                _ => "Aggregate",
            };
            match text("Partial Mode") {
                "" | "Simple" => way.to_owned(),
                mode => format!("{mode} {way}"),
            }
        }
        "SetOp" => {
            let way = if text("Strategy") == "Hashed" { "HashSetOp" } else { "SetOp" };
            format!("{way} {}", text("Command"))
        }
        "ModifyTable" => text("Operation").to_owned(),
        "Foreign Scan" if !matches!(text("Operation"), "" | "Select") => format!("Foreign {}", text("Operation")),
        "Custom Scan" if !text("Custom Plan Provider").is_empty() => {
            format!("Custom Scan ({})", text("Custom Plan Provider"))
        }
        "Nested Loop" | "Hash Join" | "Merge Join" => {
            let way = kind.trim_end_matches(" Join");
            match text("Join Type") {
                "" | "Inner" => kind.to_owned(),
                join => format!("{way} {join} Join"),
            }
        }
        "Index Scan" | "Index Only Scan" if text("Scan Direction") == "Backward" => format!("{kind} Backward"),
        _ => kind.to_owned(),
    };
    let before = match (is("Parallel Aware"), is("Async Capable")) {
        (true, _) => "Parallel ",
        (_, true) => "Async ",
        _ => "",
    };
    format!("{before}{name}")
}

fn pages(told: &Map<String, Value>) -> Option<Pages> {
    let mut pages = Pages::default();
    let mut is_told = false;
    for (name, count) in told {
        let Some(words) = name.strip_suffix(" Blocks") else { continue };
        let Some((of, what)) = words.split_once(' ') else { continue };
        let Some(count) = count.as_u64() else { continue };
        is_told |= pages.count(&of.to_lowercase(), &what.to_lowercase(), count);
    }
    (is_told && pages != Pages::default()).then_some(pages)
}

fn details(told: &Map<String, Value>) -> Vec<Detail> {
    let is_of_pages = |name: &str| name.ends_with(" Blocks") && !name.contains("Heap");
    told.iter()
        .filter(|(name, _)| !PASSED_OVER.contains(&name.as_str()) && !is_of_pages(name))
        .filter_map(|(name, value)| {
            let text = match value {
                Value::String(text) => text.clone(),
                Value::Number(number) => number.to_string(),
                Value::Bool(is) => is.to_string(),
                Value::Array(all) => all.iter().filter_map(Value::as_str).collect::<Vec<_>>().join(", "),
                _ => return None,
            };
            (!text.is_empty()).then(|| Detail { name: name.clone(), text })
        })
        .collect()
}
