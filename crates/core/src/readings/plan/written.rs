//! A plan in the server's text form, written from what was read of it: whatever form that had, it reads alike.
//!
//! Law, tested below: what is written reads as what it was written from.

use std::fmt::Write;

use super::{Node, Pages, Plan};

/// Columns that a node stands further in than what hangs on it is told.
const STEP: usize = 6;

/// Writes it.
pub fn write(plan: &Plan) -> String {
    let mut text = String::new();
    // Where what is told of each node above stands.
    let mut insets: Vec<usize> = Vec::new();
    for node in &plan.nodes {
        insets.truncate(node.depth);
        let inset = match insets.last() {
            None => {
                line(&mut text, 0, &head(node));
                2
            }
            Some(above) => {
                let arrow = node.role.as_ref().map_or(*above, |role| {
                    line(&mut text, *above, role);
                    above + 2
                });
                line(&mut text, arrow, &format!("->  {}", head(node)));
                arrow + STEP
            }
        };
        for detail in &node.details {
            line(&mut text, inset, &format!("{}: {}", detail.name, detail.text));
        }
        if let Some(pages) = node.pages.map(written_pages).filter(|pages| !pages.is_empty()) {
            line(&mut text, inset, &format!("Buffers: {pages}"));
        }
        insets.push(inset);
    }
    for (name, ms) in [("Planning Time", plan.planning_ms), ("Execution Time", plan.execution_ms)] {
        if let Some(ms) = ms {
            line(&mut text, 0, &format!("{name}: {ms} ms"));
        }
    }
    text.trim_end().to_owned()
}

fn line(text: &mut String, inset: usize, told: &str) {
    // A formatter never fails on a string.
    let _ = writeln!(text, "{:inset$}{told}", "");
}

/// Its name with its figures.
fn head(node: &Node) -> String {
    let mut head = node.quoted_name();
    if let Some(expected) = node.estimate {
        let (startup, total) = (expected.startup_cost, expected.total_cost);
        let _ = write!(head, "  (cost={startup}..{total} rows={} width={})", expected.rows, expected.width);
    }
    match node.actual {
        Some(came) if came.loops == 0.0 => head.push_str(" (never executed)"),
        Some(came) => {
            let times = came.startup_ms.zip(came.total_ms);
            let times = times.map_or_else(String::new, |(startup, total)| format!("time={startup}..{total} "));
            let _ = write!(head, " (actual {times}rows={} loops={})", came.rows, came.loops);
        }
        None => {}
    }
    head
}

fn written_pages(pages: Pages) -> String {
    let words = |of: &str, counts: &[(&str, u64)]| {
        let told: Vec<String> =
            counts.iter().filter(|(_, count)| *count > 0).map(|(word, count)| format!("{word}={count}")).collect();
        (!told.is_empty()).then(|| format!("{of} {}", told.join(" ")))
    };
    let shared = [("hit", pages.hit), ("read", pages.read), ("dirtied", pages.dirtied), ("written", pages.written)];
    let temp = [("read", pages.temp_read), ("written", pages.temp_written)];
    [words("shared", &shared), words("local", &[("hit", pages.local)]), words("temp", &temp)]
        .into_iter()
        .flatten()
        .collect::<Vec<_>>()
        .join(", ")
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{Actual, Detail, Estimate};
    use super::*;

    /// Nodes with all that can be told of them; depths follow, each at most one more than the one before it.
    fn plans() -> impl Strategy<Value = Plan> {
        let figure = || (0_u32..100_000).prop_map(|value| f64::from(value) / 8.0);
        let estimate = (figure(), figure(), figure(), 0_u8..200).prop_map(|(startup_cost, total_cost, rows, width)| {
            Estimate { startup_cost, total_cost, rows, width: f64::from(width) }
        });
        let times = proptest::option::of((figure(), figure()));
        let actual = (times, figure(), 0_u8..9).prop_map(|(times, rows, loops)| match loops {
            0 => Actual::default(),
            _ => Actual {
                startup_ms: times.map(|(startup, _)| startup),
                total_ms: times.map(|(_, total)| total),
                rows,
                loops: f64::from(loops),
            },
        });
        let pages =
            (1_u64..99, 0_u64..9, 0_u64..9, 0_u64..9, 0_u64..9).prop_map(|(hit, read, dirtied, local, temp_read)| {
                Pages { hit, read, dirtied, local, temp_read, ..Pages::default() }
            });
        let details = proptest::collection::vec("[A-Z][a-z]{2,9} Cond", 0..3).prop_map(|names| {
            names.into_iter().map(|name| Detail { name, text: "(a.n = 'b: c'::text)".into() }).collect::<Vec<_>>()
        });
        let of_what = proptest::option::of(("[a-z_]{1,9}|[A-Z ]{1,3}\"[a-z]", proptest::option::of("[a-z][0-9]{1,4}")));
        let node = (
            0_usize..4,
            estimate,
            proptest::option::of(actual),
            proptest::option::of(pages),
            details,
            of_what,
            0_u8..6,
        );
        proptest::collection::vec(node, 1..14).prop_map(|told| {
            let mut depth = 0_usize;
            let nodes =
                told.into_iter().enumerate().map(|(place, (down, estimate, actual, pages, details, of_what, role))| {
                    depth = if place == 0 { 0 } else { (depth + 1).saturating_sub(down).max(1) };
                    let (relation, alias) = of_what.unzip();
                    Node {
                        depth,
                        role: (place > 0 && role == 0).then(|| "SubPlan 2".to_owned()),
                        operator: if relation.is_some() {
                            "Seq Scan".into()
                        } else {
                            "Nested Loop Left Join".to_owned()
                        },
                        alias: alias.flatten().filter(|alias| Some(alias) != relation.as_ref()),
                        relation,
                        estimate: Some(estimate),
                        actual,
                        pages,
                        details,
                        ..Node::default()
                    }
                });
            Plan { nodes: nodes.collect(), planning_ms: Some(0.125), execution_ms: None }
        })
    }

    proptest! {
        #[test]
        fn what_is_written_reads_as_what_it_was_written_from(plan in plans()) {
            prop_assert_eq!(Plan::read(&write(&plan)).unwrap(), plan);
        }
    }
}
