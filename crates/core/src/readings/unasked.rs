//! Rule 5: who holds up a session that the server was not asked about.
//!
//! A server stops all work on locks for a moment whenever it is asked who holds up a session. So it is asked of a bounded
//! number of those who wait, of each lock that is waited for at least one. Whoever else waits for the same lock waits for
//! those who hold it: the others in the line are left out.
//!
//! Laws, tested below: who was asked keeps its answer; nobody waits for itself, or for another in the same line.

use std::collections::{HashMap, HashSet};

/// Waiting sessions of which a server is asked, in one look, who holds them up.
pub const MOST_ASKED: usize = 100;

/// Of so many that waited at once, those of which a server was not asked.
pub fn unasked(waiting: usize) -> usize {
    waiting.saturating_sub(MOST_ASKED)
}

/// A session that waits for a lock.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Waiting<'a> {
    /// Its process.
    pub process: i32,
    /// The lock, as whatever is the same for all who wait for it.
    pub lock: &'a str,
    /// Who holds it up; nothing where the server was not asked.
    pub blocked_by: Option<&'a [i32]>,
}

/// Who holds up those of which the server was not asked, by their process. Those whose lock nobody was asked about are
/// left out. Linear.
pub fn held_up_alike(waiting: &[Waiting]) -> HashMap<i32, Vec<i32>> {
    let mut lines: HashMap<&str, HashSet<i32>> = HashMap::new();
    for one in waiting {
        lines.entry(one.lock).or_default().insert(one.process);
    }
    let mut holders: HashMap<&str, Vec<i32>> = HashMap::new();
    for one in waiting {
        let known = holders.entry(one.lock).or_default();
        if let (true, Some(blocked_by)) = (known.is_empty(), one.blocked_by) {
            known.extend(blocked_by.iter().filter(|process| !lines[one.lock].contains(process)));
        }
    }
    let unasked = waiting.iter().filter(|one| one.blocked_by.is_none());
    let alike = unasked.filter_map(|one| {
        let holders = holders.get(one.lock).filter(|holders| !holders.is_empty())?;
        Some((one.process, holders.clone()))
    });
    alike.collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn one<'a>(process: i32, lock: &'a str, blocked_by: Option<&'a [i32]>) -> Waiting<'a> {
        Waiting { process, lock, blocked_by }
    }

    #[test]
    fn whoever_waits_for_the_same_lock_waits_for_those_who_hold_it() {
        let waiting = [
            one(2, "row", Some(&[1])),
            one(3, "row", Some(&[1, 2])),
            one(4, "row", None),
            one(6, "table", None),
            one(7, "page", Some(&[8])),
        ];
        assert_eq!(held_up_alike(&waiting), HashMap::from([(4, vec![1])]));
    }

    #[test]
    fn an_answer_of_others_in_the_line_alone_says_nothing_and_the_next_one_does() {
        let waiting = [one(3, "row", Some(&[2])), one(2, "row", Some(&[1])), one(4, "row", None)];
        assert_eq!(held_up_alike(&waiting), HashMap::from([(4, vec![1])]));
    }

    proptest! {
        #[test]
        fn nobody_waits_for_the_line(
            drawn in prop::collection::vec((0usize..3, prop::option::of(prop::collection::vec(0i32..30, 0..4))), 0..30),
        ) {
            let locks = ["row", "table", "page"];
            let waiting: Vec<Waiting> =
                drawn.iter().enumerate().map(|(process, (lock, by))| one(process as i32, locks[*lock], by.as_deref())).collect();
            for (process, holders) in held_up_alike(&waiting) {
                let own = &waiting[process as usize];
                prop_assert!(own.blocked_by.is_none() && !holders.is_empty());
                let in_line = |holder: &i32| waiting.get(*holder as usize).is_some_and(|other| other.lock == own.lock);
                prop_assert!(!holders.iter().any(in_line));
            }
        }
    }
}
