//! A plan in the server's text form.
//!
//! A node stands on the first line or behind an arrow; its name ends where its estimates begin. What else is told of it
//! stands below it, as `Name: text`, six columns further in than its arrow. What the server, its log or psql writes around
//! it is passed over.

use super::{Actual, Detail, Estimate, MOST_DEPTH, Node, Pages, Plan, PlanProblem};

/// How much further in than its arrow stands what is told of a node; two of them where it has none.
const DETAIL_INDENT: usize = 6;
const ROOT_DETAIL_INDENT: usize = 2;

/// Reads it.
pub fn read(told: &str) -> Result<Plan, PlanProblem> {
    let lines: Vec<&str> = told.lines().map(|line| line.trim_end().trim_end_matches('+').trim_end()).collect();
    // Behind what the log and psql write above it.
    let first = lines
        .iter()
        .position(|line| Figures::begin(line).is_some() && !line.trim_start().starts_with("->"))
        .or_else(|| bare_root(&lines));
    let (first, lines) = lines[first.ok_or(PlanProblem::NoPlan)?..].split_first().ok_or(PlanProblem::NoPlan)?;
    let margin = indent(first);
    let mut plan = Plan { nodes: vec![node(first.trim(), 0, None)], ..Plan::default() };
    // Where the arrows of those above stand; none for the first, which has none.
    let mut above: Vec<(usize, usize)> = vec![(0, ROOT_DETAIL_INDENT)];
    let mut role = None;
    for line in lines {
        let (at, text) = (indent(line).saturating_sub(margin), line.trim_start());
        if let Some(name) = text.strip_prefix("->") {
            above.retain(|(arrow, _)| *arrow < at || *arrow == 0);
            if above.len() > MOST_DEPTH {
                return Err(PlanProblem::TooDeep);
            }
            plan.nodes.push(node(name.trim(), above.len(), role.take()));
            above.push((at, at + DETAIL_INDENT));
        } else if at == 0 {
            of_whole(&mut plan, text);
        } else if let Some(told) = role_of(text) {
            role = Some(told);
            // What follows hangs on the node that this is told of, not on the last one below it.
            above.retain(|(_, details)| *details <= at);
        } else if let Some((_, expected)) = above.last()
            && let Some(last) = plan.nodes.last_mut()
        {
            match text.split_once(": ") {
                // What a worker did of it stands further in, and is counted already.
                Some((name, text)) if at == *expected && !name.starts_with("Worker ") => tell(last, name, text),
                _ => {}
            }
        }
    }
    Ok(plan)
}

/// Whether a line is that of a node.
pub(super) fn is_node(line: &str) -> bool {
    Figures::begin(line).is_some()
}

/// Where a plan without costs begins.
fn bare_root(lines: &[&str]) -> Option<usize> {
    let first = lines.iter().position(|line| !line.is_empty())?;
    let text = lines[first].trim_start();
    let is_name = text.starts_with(|sign: char| sign.is_ascii_uppercase()) && !text.contains(": ");
    // Behind it come arrows, or it is a name that ends no other text.
    let has_more = lines.iter().any(|line| line.trim_start().starts_with("->"));
    let is_scan = ["Scan", "Result", "Append", "Aggregate"].iter().any(|word| text.contains(word));
    (is_name && (has_more || is_scan)).then_some(first)
}

fn indent(line: &str) -> usize {
    line.len() - line.trim_start().len()
}

/// What a line says of the whole plan, below its nodes.
fn of_whole(plan: &mut Plan, text: &str) {
    let milliseconds = |rest: &str| rest.trim().trim_end_matches(" ms").parse().ok();
    if let Some(rest) = text.strip_prefix("Planning Time:") {
        plan.planning_ms = milliseconds(rest);
    } else if let Some(rest) = text.strip_prefix("Execution Time:") {
        plan.execution_ms = milliseconds(rest);
    }
}

/// What a node below is to the one above: `CTE waiting`, `InitPlan 1 (returns $0)`.
fn role_of(text: &str) -> Option<String> {
    let is_role = ["CTE ", "InitPlan ", "SubPlan "].iter().any(|word| text.starts_with(word));
    is_role.then(|| role(text))
}

/// Without what it returns, which the server writes in another way from version to version.
pub(super) fn role(text: &str) -> String {
    text.split(" (").next().unwrap_or_default().to_owned()
}

/// Where the figures of a node begin in its line.
struct Figures<'a> {
    name: &'a str,
    told: &'a str,
}

impl Figures<'_> {
    fn begin(line: &str) -> Option<Figures<'_>> {
        let marks = ["  (cost=", " (actual time=", " (actual rows=", " (never executed)"];
        let at = marks.iter().filter_map(|mark| line.find(mark)).min()?;
        Some(Figures { name: line[..at].trim(), told: &line[at..] })
    }

    fn estimate(&self) -> Option<Estimate> {
        let part = self.within("(cost=")?;
        let (costs, rest) = part.split_once(' ')?;
        let (startup, total) = costs.split_once("..")?;
        let value = |name: &str| value_of(rest, name);
        Some(Estimate {
            startup_cost: startup.parse().ok()?,
            total_cost: total.parse().ok()?,
            rows: value("rows=")?,
            width: value("width=")?,
        })
    }

    fn actual(&self) -> Option<Actual> {
        if self.told.contains("(never executed)") {
            return Some(Actual::default());
        }
        let part = self.within("(actual ")?;
        let times = part.split_whitespace().find_map(|word| word.strip_prefix("time=")?.split_once(".."));
        let (startup_ms, total_ms) =
            times.map_or((None, None), |(startup, total)| (startup.parse().ok(), total.parse().ok()));
        Some(Actual { startup_ms, total_ms, rows: value_of(part, "rows=")?, loops: value_of(part, "loops=")? })
    }

    fn within(&self, mark: &str) -> Option<&str> {
        let begun = &self.told[self.told.find(mark)? + mark.len()..];
        begun.split(')').next()
    }
}

fn value_of(text: &str, name: &str) -> Option<f64> {
    text.split_whitespace().find_map(|word| word.strip_prefix(name)?.parse().ok())
}

/// A node by its line, without arrow.
fn node(line: &str, depth: usize, role: Option<String>) -> Node {
    let figures = Figures::begin(line);
    let name = figures.as_ref().map_or(line.trim(), |figures| figures.name);
    let mut node = named(name);
    (node.depth, node.role) = (depth, role);
    if let Some(figures) = figures {
        (node.estimate, node.actual) = (figures.estimate(), figures.actual());
    }
    node
}

/// `Operator using index on schema.relation alias`.
fn named(name: &str) -> Node {
    let (before, target) = cut(name, " on ");
    let (operator, index) = cut(before, " using ");
    let (mut relation, mut alias) = (None, None);
    if let Some(target) = target {
        let (of, called) = cut(target, " ");
        relation = Some(unquoted(last_part(of)));
        alias = called.map(unquoted);
    }
    let mut node = Node { operator: operator.to_owned(), index: index.map(unquoted), ..Node::default() };
    if operator.ends_with("Bitmap Index Scan") {
        node.index = relation;
    } else {
        node.alias = alias.filter(|alias| Some(alias) != relation.as_ref());
        node.relation = relation;
    }
    node
}

/// Cuts a text at the first place outside quotes.
fn cut<'a>(text: &'a str, at: &str) -> (&'a str, Option<&'a str>) {
    match places(text, at).next() {
        Some(place) => (&text[..place], Some(&text[place + at.len()..])),
        None => (text, None),
    }
}

/// The name behind the schema.
fn last_part(name: &str) -> &str {
    places(name, ".").last().map_or(name, |place| &name[place + 1..])
}

/// Where something stands outside quotes.
fn places<'a>(text: &'a str, sought: &'a str) -> impl Iterator<Item = usize> + 'a {
    text.match_indices(sought)
        .map(|(place, _)| place)
        .filter(|place| text[..*place].matches('"').count().is_multiple_of(2))
}

fn unquoted(name: &str) -> String {
    match name.strip_prefix('"').and_then(|name| name.strip_suffix('"')) {
        Some(inner) => inner.replace("\"\"", "\""),
        None => name.to_owned(),
    }
}

/// Notes what a line below a node says.
fn tell(node: &mut Node, name: &str, text: &str) {
    if name == "Buffers" {
        node.pages = Some(pages(text));
    } else {
        node.details.push(Detail { name: name.to_owned(), text: text.to_owned() });
    }
}

/// `shared hit=3 read=1, local hit=2, temp read=5 written=5`.
fn pages(text: &str) -> Pages {
    let mut pages = Pages::default();
    for part in text.split(", ") {
        let mut words = part.split_whitespace();
        let of = words.next().unwrap_or_default();
        for (name, count) in words.filter_map(|word| word.split_once('=')) {
            pages.count(of, name, count.parse().unwrap_or_default());
        }
    }
    pages
}
