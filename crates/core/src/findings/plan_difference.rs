//! Rule 10, second part: two plans held against each other, node by node, as one tree.
//!
//! Nodes that stand side by side below nodes held against each other are matched in this order: the same subtree; the same
//! operator on the same thing; where one of them has the other's subtree somewhere below, the steps in between are only
//! there; what is left is in place of what is left, from left to right. Each step treats both plans alike, so it is
//! symmetric; and as the same subtree comes first, a plan held against itself shows no difference.
//!
//! Takes n log n in the nodes of both, for plans whose nodes differ; at most n times their number side by side.

use std::collections::HashMap;
use std::collections::hash_map::DefaultHasher;
use std::hash::{Hash, Hasher};

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::readings::plan::Plan;

/// How a step of one plan stands to one of another.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Likeness {
    /// The same, with everything below.
    Same,
    /// The same step, and something below it differs.
    SameStep,
    /// One in place of the other.
    InPlace,
    /// The first plan only has it.
    FirstOnly,
    /// The second plan only has it.
    SecondOnly,
}

/// A step of two plans.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Step {
    /// Steps above it.
    pub depth: usize,
    /// Place of its node in the first plan; nothing where that has none.
    pub first: Option<usize>,
    /// Likewise, in the second.
    pub second: Option<usize>,
    /// How they stand to each other.
    pub likeness: Likeness,
}

/// Both plans as one tree, each step before those below it. Each node of both stands in it once.
pub fn difference(first: &Plan, second: &Plan) -> Vec<Step> {
    let mut merging = Merging { first: Side::of(first), second: Side::of(second), steps: Vec::new() };
    merging.side_by_side(0, vec![0], vec![0]);
    merging.steps
}

/// A plan, with what stands for each of its subtrees.
struct Side<'a> {
    plan: &'a Plan,
    subtree: Vec<u64>,
    /// Behind the last place below each.
    end: Vec<usize>,
    /// Places of each subtree, in order.
    places: HashMap<u64, Vec<usize>>,
}

impl<'a> Side<'a> {
    fn of(plan: &'a Plan) -> Side<'a> {
        let count = plan.nodes.len();
        let (mut subtree, mut end) = (vec![0; count], vec![0; count]);
        for place in (0..count).rev() {
            let mut hash = DefaultHasher::new();
            plan.nodes[place].outline().hash(&mut hash);
            end[place] = place + 1;
            while end[place] < count && plan.nodes[end[place]].depth > plan.nodes[place].depth {
                subtree[end[place]].hash(&mut hash);
                end[place] = end[end[place]];
            }
            // Two nodes below one another are not the same as two side by side.
            (end[place] - place).hash(&mut hash);
            subtree[place] = hash.finish();
        }
        let mut places: HashMap<u64, Vec<usize>> = HashMap::new();
        for (place, subtree) in subtree.iter().enumerate() {
            places.entry(*subtree).or_default().push(place);
        }
        Side { plan, subtree, end, places }
    }

    fn size(&self, place: usize) -> usize {
        self.end[place] - place
    }

    fn below(&self, place: usize) -> Vec<usize> {
        let mut found = Vec::new();
        let mut next = place + 1;
        while next < self.end[place] {
            found.push(next);
            next = self.end[next];
        }
        found
    }

    fn outline(&self, place: usize) -> String {
        self.plan.nodes[place].outline()
    }

    /// Which of these places, in order, has a subtree somewhere below it.
    fn above(&self, of: &[usize], subtree: u64) -> Option<usize> {
        self.places.get(&subtree)?.iter().find_map(|place| {
            let at = of.partition_point(|above| above < place).checked_sub(1)?;
            (*place < self.end[of[at]]).then_some(at)
        })
    }
}

/// What stands side by side with what, with the steps in between where one of them lies deeper.
enum Match {
    Same,
    Step,
    /// The first one has these of the second below it.
    FirstAbove(Vec<usize>),
    SecondAbove(Vec<usize>),
    InPlace,
    Alone,
}

struct Merging<'a> {
    first: Side<'a>,
    second: Side<'a>,
    steps: Vec<Step>,
}

impl Merging<'_> {
    /// Merges nodes that stand side by side.
    fn side_by_side(&mut self, depth: usize, mut first: Vec<usize>, mut second: Vec<usize>) {
        let mut found: Vec<(Option<usize>, Option<usize>, Match)> = Vec::new();
        let pairs =
            matched(&mut first, &mut second, |place| self.first.subtree[place], |place| self.second.subtree[place]);
        found.extend(pairs.into_iter().map(|(a, b)| (Some(a), Some(b), Match::Same)));
        let pairs =
            matched(&mut first, &mut second, |place| self.first.outline(place), |place| self.second.outline(place));
        found.extend(pairs.into_iter().map(|(a, b)| (Some(a), Some(b), Match::Step)));
        let (above_second, above_first) = self.deeper(&mut first, &mut second);
        found.extend(above_second.into_iter().map(|(a, below)| (Some(a), None, Match::FirstAbove(below))));
        found.extend(above_first.into_iter().map(|(b, below)| (None, Some(b), Match::SecondAbove(below))));
        let both = first.len().min(second.len());
        let (lonely_first, lonely_second) = (first.split_off(both), second.split_off(both));
        found.extend(first.into_iter().zip(second).map(|(a, b)| (Some(a), Some(b), Match::InPlace)));
        found.extend(lonely_first.into_iter().map(|a| (Some(a), None, Match::Alone)));
        found.extend(lonely_second.into_iter().map(|b| (None, Some(b), Match::Alone)));
        // In the order of both plans, as far as they have one.
        found.sort_by_key(|(a, b, _)| (a.unwrap_or(0).max(b.unwrap_or(0)), a.unwrap_or(0) + b.unwrap_or(0)));
        for (a, b, how) in found {
            self.pair(depth, a, b, how);
        }
    }

    fn pair(&mut self, depth: usize, first: Option<usize>, second: Option<usize>, how: Match) {
        let mut step = |likeness| self.steps.push(Step { depth, first, second, likeness });
        let below = |side: &Side, place: Option<usize>| place.map_or_else(Vec::new, |place| side.below(place));
        match how {
            Match::Same => {
                if let (Some(a), Some(b)) = (first, second) {
                    self.same(depth, a, b);
                }
                return;
            }
            Match::Step => step(Likeness::SameStep),
            Match::InPlace => step(Likeness::InPlace),
            Match::FirstAbove(second) => {
                step(Likeness::FirstOnly);
                return self.side_by_side(depth + 1, below(&self.first, first), second);
            }
            Match::SecondAbove(first) => {
                step(Likeness::SecondOnly);
                return self.side_by_side(depth + 1, first, below(&self.second, second));
            }
            Match::Alone => step(if first.is_some() { Likeness::FirstOnly } else { Likeness::SecondOnly }),
        }
        self.side_by_side(depth + 1, below(&self.first, first), below(&self.second, second));
    }

    fn same(&mut self, depth: usize, first: usize, second: usize) {
        let above = self.first.plan.nodes[first].depth;
        for further in 0..self.first.size(first) {
            let (first, second) = (first + further, second + further);
            let depth = depth + self.first.plan.nodes[first].depth - above;
            self.steps.push(Step { depth, first: Some(first), second: Some(second), likeness: Likeness::Same });
        }
    }

    /// Takes out what has the other's subtree somewhere below it, with those that it has, the largest first.
    #[expect(clippy::type_complexity, reason = "two lists of the same sort, one of each plan")]
    fn deeper(
        &self,
        first: &mut Vec<usize>,
        second: &mut Vec<usize>,
    ) -> (Vec<(usize, Vec<usize>)>, Vec<(usize, Vec<usize>)>) {
        // Size of what is shared, place in the list of both, and which plan has it deeper.
        let mut shared: Vec<(usize, usize, usize, bool)> = Vec::new();
        for (at, place) in second.iter().enumerate() {
            let above = self.first.above(first, self.second.subtree[*place]);
            shared.extend(above.map(|above| (self.second.size(*place), above, at, true)));
        }
        for (at, place) in first.iter().enumerate() {
            let above = self.second.above(second, self.first.subtree[*place]);
            shared.extend(above.map(|above| (self.first.size(*place), at, above, false)));
        }
        shared.sort_by_key(|(size, a, b, _)| (usize::MAX - size, a + b));
        let (mut above_second, mut above_first) = (HashMap::new(), HashMap::new());
        let (mut taken_first, mut taken_second) = (vec![false; first.len()], vec![false; second.len()]);
        for (_, a, b, is_first_above) in shared {
            let (is_new_first, is_new_second) = (!taken_first[a], !taken_second[b]);
            let below: &mut Vec<usize> = match is_first_above {
                true if is_new_second && (is_new_first || above_second.contains_key(&first[a])) => {
                    above_second.entry(first[a]).or_default()
                }
                false if is_new_first && (is_new_second || above_first.contains_key(&second[b])) => {
                    above_first.entry(second[b]).or_default()
                }
                _ => continue,
            };
            below.push(if is_first_above { second[b] } else { first[a] });
            (taken_first[a], taken_second[b]) = (true, true);
        }
        keep_untaken(first, &taken_first);
        keep_untaken(second, &taken_second);
        (in_order(above_second), in_order(above_first))
    }
}

fn keep_untaken(places: &mut Vec<usize>, taken: &[bool]) {
    let mut taken = taken.iter();
    places.retain(|_| !taken.next().copied().unwrap_or_default());
}

fn in_order(above: HashMap<usize, Vec<usize>>) -> Vec<(usize, Vec<usize>)> {
    let mut above: Vec<(usize, Vec<usize>)> = above.into_iter().collect();
    above.iter_mut().for_each(|(_, below)| below.sort_unstable());
    above.sort_unstable();
    above
}

/// Takes out of both lists what is alike: the first of its sort with the first, the second with the second.
fn matched<K: Hash + Eq>(
    first: &mut Vec<usize>,
    second: &mut Vec<usize>,
    key_of_first: impl Fn(usize) -> K,
    key_of_second: impl Fn(usize) -> K,
) -> Vec<(usize, usize)> {
    let mut waiting: HashMap<K, Vec<usize>> = HashMap::new();
    for place in second.iter().rev() {
        waiting.entry(key_of_second(*place)).or_default().push(*place);
    }
    let pairs: Vec<(usize, usize)> =
        first.iter().filter_map(|a| Some((*a, waiting.get_mut(&key_of_first(*a))?.pop()?))).collect();
    let (mut of_first, mut of_second): (Vec<usize>, Vec<usize>) = pairs.iter().copied().unzip();
    of_first.sort_unstable();
    of_second.sort_unstable();
    first.retain(|place| of_first.binary_search(place).is_err());
    second.retain(|place| of_second.binary_search(place).is_err());
    pairs
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::readings::plan::Node;

    /// A plan by one line for each node, further in than the one above.
    fn plan(outline: &str) -> Plan {
        let nodes = outline.lines().map(str::trim_end).filter(|line| !line.is_empty()).map(|line| {
            let name = line.trim_start();
            let (operator, relation) =
                name.split_once(" on ").map_or((name, None), |(name, of)| (name, Some(of.to_owned())));
            Node { depth: (line.len() - name.len()) / 2, operator: operator.into(), relation, ..Node::default() }
        });
        Plan { nodes: nodes.collect(), ..Plan::default() }
    }

    /// The merged tree, a line for each step.
    fn merged(first: &str, second: &str) -> String {
        let (first, second) = (plan(first), plan(second));
        let name = |plan: &Plan, place: Option<usize>| place.map(|place| plan.nodes[place].name());
        let lines = difference(&first, &second).into_iter().map(|step| {
            let (one, other) = (name(&first, step.first), name(&second, step.second));
            let told = match step.likeness {
                Likeness::Same => format!("= {}", one.unwrap()),
                Likeness::SameStep => format!("~ {}", one.unwrap()),
                Likeness::InPlace => format!("{} -> {}", one.unwrap(), other.unwrap()),
                Likeness::FirstOnly => format!("- {}", one.unwrap()),
                Likeness::SecondOnly => format!("+ {}", other.unwrap()),
            };
            format!("{}{told}", "  ".repeat(step.depth))
        });
        lines.collect::<Vec<_>>().join("\n")
    }

    const JOIN: &str = "Hash Join
  Seq Scan on passage
  Hash
    Seq Scan on vessel";

    #[test]
    fn what_is_the_same_is_folded_and_what_differs_stands_in_its_place() {
        let with_index = JOIN.replace("Seq Scan on vessel", "Index Scan on vessel");
        assert_eq!(
            merged(JOIN, &with_index),
            "~ Hash Join
  = Seq Scan on passage
  ~ Hash
    Seq Scan on vessel -> Index Scan on vessel"
        );
    }

    #[test]
    fn another_kind_of_join_keeps_what_it_joins() {
        let other = "Nested Loop
  Index Scan on vessel
  Seq Scan on passage";
        assert_eq!(
            merged(JOIN, other),
            "Hash Join -> Nested Loop
  = Seq Scan on passage
  Hash -> Index Scan on vessel
    - Seq Scan on vessel"
        );
    }

    #[test]
    fn a_step_put_in_between_is_the_only_difference() {
        let sorted = "Sort
  Hash Join
    Seq Scan on passage
    Hash
      Seq Scan on vessel";
        assert_eq!(
            merged(JOIN, sorted),
            "+ Sort
  = Hash Join
    = Seq Scan on passage
    = Hash
      = Seq Scan on vessel"
        );
        assert_eq!(merged(sorted, JOIN).lines().next(), Some("- Sort"));
    }

    /// Plans of few words, so that much of them is alike.
    fn plans() -> impl Strategy<Value = Plan> {
        let node = (0_usize..4, prop::sample::select(vec!["Sort", "Append", "Seq Scan on deck", "Hash Join"]));
        prop::collection::vec(node, 0..40).prop_map(|drawn| {
            let mut lines = vec!["Limit".to_owned()];
            let mut depth = 0_usize;
            for (up, name) in drawn {
                depth = (depth + 1).saturating_sub(up).max(1);
                lines.push(format!("{}{name}", "  ".repeat(depth)));
            }
            plan(&lines.join("\n"))
        })
    }

    proptest! {
        #[test]
        fn a_plan_held_against_itself_shows_no_difference(one in plans()) {
            let steps = difference(&one, &one);
            prop_assert!(steps.iter().all(|step| step.likeness == Likeness::Same && step.first == step.second));
        }

        #[test]
        fn each_node_of_both_stands_in_it_once_and_it_is_a_tree(one in plans(), other in plans()) {
            let steps = difference(&one, &other);
            let mut places: Vec<usize> = steps.iter().filter_map(|step| step.first).collect();
            places.sort_unstable();
            prop_assert_eq!(places, (0..one.nodes.len()).collect::<Vec<_>>());
            let mut places: Vec<usize> = steps.iter().filter_map(|step| step.second).collect();
            places.sort_unstable();
            prop_assert_eq!(places, (0..other.nodes.len()).collect::<Vec<_>>());
            prop_assert!(steps.windows(2).all(|two| two[1].depth <= two[0].depth + 1));
        }

        #[test]
        fn it_does_not_matter_which_is_the_first(one in plans(), other in plans()) {
            let turned = |step: Step| Step {
                first: step.second,
                second: step.first,
                likeness: match step.likeness {
                    Likeness::FirstOnly => Likeness::SecondOnly,
                    Likeness::SecondOnly => Likeness::FirstOnly,
                    likeness => likeness,
                },
                ..step
            };
            let sorted = |steps: Vec<Step>| {
                let mut pairs: Vec<_> = steps.into_iter().map(|step| (step.depth, step.first, step.second)).collect();
                pairs.sort_unstable();
                pairs
            };
            let back = difference(&other, &one).into_iter().map(turned).collect();
            prop_assert_eq!(sorted(difference(&one, &other)), sorted(back));
        }

        #[test]
        fn plans_of_one_identity_show_no_difference(one in plans(), other in plans()) {
            let is_same = difference(&one, &other).iter().all(|step| step.likeness == Likeness::Same);
            prop_assert_eq!(is_same, one.identity() == other.identity());
        }
    }
}
