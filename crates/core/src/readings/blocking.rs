//! Rule 5, first part: how many wait behind a session, directly and through others.
//!
//! A server may let only the first of a queue wait for the holder itself, and the others for the first: counting
//! direct waiters would name the wrong one. Laws, tested below: a session never waits behind itself alone; relabelling
//! sessions changes nothing.

use std::collections::{HashMap, HashSet};

/// How many sessions wait behind each, directly or through others; those behind whom nobody waits are left out.
/// `waits` are sessions with those that each waits for. Linear in waits for each session that others wait for.
pub fn blocked_behind<'a>(waits: impl Iterator<Item = (i32, &'a [i32])>) -> HashMap<i32, usize> {
    let mut waiters: HashMap<i32, Vec<i32>> = HashMap::new();
    for (session, holders) in waits {
        for holder in holders {
            waiters.entry(*holder).or_default().push(session);
        }
    }
    let count = |holder: i32| {
        let mut found: HashSet<i32> = HashSet::new();
        let mut next = vec![holder];
        while let Some(session) = next.pop() {
            next.extend(waiters.get(&session).into_iter().flatten().filter(|waiter| found.insert(**waiter)));
        }
        // In a circle everybody waits behind everybody else.
        found.remove(&holder);
        found.len()
    };
    waiters.keys().map(|holder| (*holder, count(*holder))).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn of(waits: &[(i32, Vec<i32>)]) -> HashMap<i32, usize> {
        blocked_behind(waits.iter().map(|(session, holders)| (*session, holders.as_slice())))
    }

    #[test]
    fn a_holder_answers_for_all_who_wait_behind_it() {
        let found = of(&[(2, vec![1]), (3, vec![2]), (4, vec![2, 1]), (6, vec![5])]);
        assert_eq!(found, HashMap::from([(1, 3), (2, 2), (5, 1)]));
        assert_eq!(of(&[(1, vec![2]), (2, vec![1])]), HashMap::from([(1, 1), (2, 1)]), "a circle");
    }

    proptest! {
        #[test]
        fn relabelling_changes_nothing(
            edges in prop::collection::vec((0i32..12, prop::collection::vec(0i32..12, 0..3)), 0..12), by in 1i32..1000,
        ) {
            let moved: Vec<(i32, Vec<i32>)> =
                edges.iter().map(|(session, holders)| (session + by, holders.iter().map(|holder| holder + by).collect())).collect();
            let back: HashMap<i32, usize> = of(&moved).into_iter().map(|(holder, count)| (holder - by, count)).collect();
            prop_assert_eq!(of(&edges), back);
        }
    }
}
