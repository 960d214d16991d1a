//! Rule 10, first part: what makes two plans the same.
//!
//! The identity of a plan is made of its operators, relations, indexes, and how they are joined and nested: of the
//! names of its nodes and their depth. Estimates, literals and conditions do not count, so the same plan for
//! other values is the same plan. Read from the server's text form; a node stands on the first line or behind
//! an arrow, and its name ends where its estimates begin.

use crate::readings::family::fingerprint;

/// One node: how deep it lies, and what it is and on what.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Node {
    /// Nodes above it.
    pub depth: usize,
    /// Operator with relation and index, such as `Index Scan using passage_leg_pkey on passage_leg`.
    pub name: String,
}

/// The nodes of a plan, in the order of its text.
pub fn nodes(plan: &str) -> Vec<Node> {
    let mut above: Vec<usize> = Vec::new();
    let mut nodes = Vec::new();
    for (number, line) in plan.lines().enumerate() {
        let text = line.trim_start();
        let indent = line.len() - text.len();
        let Some(text) = text.strip_prefix("->").or((number == 0).then_some(text)) else { continue };
        let name = text.split("  (").next().unwrap_or_default().trim();
        while above.last().is_some_and(|of_parent| *of_parent >= indent) && number > 0 {
            above.pop();
        }
        nodes.push(Node { depth: above.len(), name: name.to_owned() });
        above.push(indent);
    }
    nodes
}

/// What tells a plan from others; never 0, which stands for no plan.
pub fn identity(plan: &str) -> i64 {
    let outline: Vec<String> = nodes(plan).into_iter().map(|node| format!("{} {}", node.depth, node.name)).collect();
    match fingerprint(&outline.join("\n")) {
        0 => 1,
        identity => identity,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const JOIN: &str = "Hash Join  (cost=1.09..2.19 rows=4 width=8)
  Hash Cond: (a.n = b.n)
  ->  Seq Scan on deck a  (cost=0.00..1.04 rows=4 width=4)
        Filter: (n > 3)
  ->  Hash  (cost=1.04..1.04 rows=4 width=4)
        ->  Index Scan using deck_pkey on deck b  (cost=0.00..1.04 rows=4 width=4)";

    #[test]
    fn nodes_have_names_and_depths() {
        let found: Vec<(usize, String)> = nodes(JOIN).into_iter().map(|node| (node.depth, node.name)).collect();
        let expected =
            [(0, "Hash Join"), (1, "Seq Scan on deck a"), (1, "Hash"), (2, "Index Scan using deck_pkey on deck b")];
        assert_eq!(found, expected.map(|(depth, name)| (depth, name.to_owned())));
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
    }

    #[test]
    fn nothing_at_all_has_an_identity_too() {
        assert_ne!(identity(""), 0);
    }
}
