use std::collections::HashMap;

use super::Party;

/// Who stands behind whom in one look; parties are told by their position.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Tree {
    /// Where each party waits; nothing for those that do not.
    pub places: Vec<Option<Place>>,
    /// Circles of parties that wait for each other: deadlocks that the server has not ended yet.
    pub circles: Vec<Vec<usize>>,
}

/// Where a party waits.
#[derive(Debug, Clone, PartialEq)]
pub struct Place {
    /// The holder in whose lane it stands.
    pub lane: usize,
    /// The one directly before it that waits for the same; nothing where it is the first.
    pub behind: Option<usize>,
    /// Whether it waits for its turn only: the holder keeps nothing from it, but somebody before it wants what would.
    pub is_queued: bool,
    /// How many holders deep: one that waits for a root directly is at 1.
    pub depth: usize,
    /// Those who wait for nobody and keep it waiting, directly or through others: its time is charged to them in equal
    /// parts. Of a circle, the first of it.
    pub roots: Vec<usize>,
}

impl Tree {
    /// Who stands behind whom. Linear in what the server names.
    ///
    /// Where parties wait for each other in a circle, one of them answers for it.
    pub fn of(parties: &[Party]) -> Tree {
        let position: HashMap<i32, usize> =
            parties.iter().enumerate().map(|(at, party)| (party.session.process, at)).collect();
        let holders = |at: usize| -> Vec<usize> {
            let known = parties[at].blocked_by.iter().filter_map(|process| position.get(process).copied());
            known.filter(|holder| *holder != at).collect()
        };
        let holders: Vec<Vec<usize>> = (0..parties.len()).map(holders).collect();
        let mut growing = Growing::new(parties, holders);
        growing.place_all();
        Tree { places: growing.places, circles: growing.circles }
    }

    /// Those who wait for nobody and for whom others wait; of a circle, the one that answers for it.
    pub fn roots(&self) -> Vec<usize> {
        let mut roots: Vec<usize> = self.places.iter().flatten().flat_map(|place| place.roots.clone()).collect();
        roots.sort_unstable();
        roots.dedup();
        roots
    }

    /// All concerned, each followed by those who stand in its lane, and these by theirs; the roots with the most behind
    /// them first. n log n in the parties.
    pub fn in_order(&self) -> Vec<usize> {
        let mut lanes: HashMap<usize, Vec<usize>> = HashMap::new();
        for (at, place) in self.places.iter().enumerate() {
            if let Some(place) = place {
                lanes.entry(place.lane).or_default().push(at);
            }
        }
        let mut roots = self.roots();
        roots.sort_by_key(|root| std::cmp::Reverse(self.behind(*root).0));
        let mut next: Vec<usize> = roots.into_iter().rev().collect();
        let (mut order, mut is_told) = (Vec::new(), vec![false; self.places.len()]);
        while let Some(at) = next.pop() {
            if !std::mem::replace(&mut is_told[at], true) {
                order.push(at);
                next.extend(lanes.remove(&at).into_iter().flatten().rev());
            }
        }
        order
    }

    /// How many wait, directly or not, and how many holders deep, behind a root.
    pub fn behind(&self, root: usize) -> (usize, usize) {
        let mine = self.places.iter().flatten().filter(|place| place.roots.contains(&root));
        mine.fold((0, 0), |(count, depth), place| (count + 1, depth.max(place.depth)))
    }
}

/// A tree that is being made: whoever waits is placed once all that keep it waiting are.
struct Growing<'a> {
    parties: &'a [Party],
    holders: Vec<Vec<usize>>,
    waiters: Vec<Vec<usize>>,
    /// How many of those that keep it waiting are not placed yet.
    open: Vec<usize>,
    is_placed: Vec<bool>,
    places: Vec<Option<Place>>,
    circles: Vec<Vec<usize>>,
}

impl<'a> Growing<'a> {
    fn new(parties: &'a [Party], holders: Vec<Vec<usize>>) -> Growing<'a> {
        let mut waiters = vec![Vec::new(); parties.len()];
        for (at, of) in holders.iter().enumerate() {
            of.iter().for_each(|holder| waiters[*holder].push(at));
        }
        Growing {
            parties,
            open: holders.iter().map(Vec::len).collect(),
            is_placed: vec![false; parties.len()],
            places: vec![None; parties.len()],
            circles: Vec::new(),
            holders,
            waiters,
        }
    }

    fn place_all(&mut self) {
        let free: Vec<usize> = (0..self.parties.len()).filter(|at| self.holders[*at].is_empty()).collect();
        free.iter().for_each(|at| self.is_placed[*at] = true);
        self.go_on(free);
        for at in 0..self.parties.len() {
            if !self.is_placed[at] {
                let circle = self.circle_from(at);
                self.close(&circle);
                self.go_on(circle.clone());
                self.circles.push(circle);
            }
        }
    }

    /// Places all that waited for those just placed only, and so on.
    fn go_on(&mut self, mut placed: Vec<usize>) {
        while let Some(at) = placed.pop() {
            for waiter in std::mem::take(&mut self.waiters[at]) {
                self.open[waiter] -= 1;
                if self.open[waiter] == 0 && !self.is_placed[waiter] {
                    self.is_placed[waiter] = true;
                    self.places[waiter] = Some(self.place(waiter));
                    placed.push(waiter);
                }
            }
        }
    }

    /// A circle among those not placed, found by going from each to one that keeps it waiting.
    fn circle_from(&self, start: usize) -> Vec<usize> {
        let mut way = vec![start];
        let mut step: HashMap<usize, usize> = HashMap::from([(start, 0)]);
        let mut at = start;
        while let Some(next) = self.holders[at].iter().copied().find(|holder| !self.is_placed[*holder]) {
            if let Some(from) = step.get(&next) {
                return way.split_off(*from);
            }
            step.insert(next, way.len());
            way.push(next);
            at = next;
        }
        way
    }

    /// Each of a circle stands in the lane of the next; the first answers for all.
    fn close(&mut self, circle: &[usize]) {
        let root = circle.iter().copied().min().unwrap_or_default();
        for (step, at) in circle.iter().enumerate() {
            let lane = circle[(step + 1) % circle.len()];
            self.is_placed[*at] = true;
            self.places[*at] = Some(Place { lane, behind: None, is_queued: false, depth: 1, roots: vec![root] });
        }
    }

    fn place(&self, at: usize) -> Place {
        let (before, holding): (Vec<usize>, Vec<usize>) =
            self.holders[at].iter().copied().partition(|other| waits_before(&self.parties[*other], &self.parties[at]));
        let depth = |other: &usize| self.places[*other].as_ref().map_or(0, |place| place.depth);
        let since = |other: &usize| self.parties[*other].statement_started_at;
        let behind = before.iter().copied().max_by_key(since);
        let mut roots: Vec<usize> = Vec::new();
        for other in &self.holders[at] {
            match &self.places[*other] {
                Some(place) => roots.extend(&place.roots),
                None => roots.push(*other),
            }
            roots.sort_unstable();
            roots.dedup();
        }
        match holding.iter().copied().max_by_key(depth) {
            Some(lane) => Place { lane, behind, is_queued: false, depth: depth(&lane) + 1, roots },
            None => {
                let first = before.iter().copied().max_by_key(depth).unwrap_or(at);
                let (lane, depth) = self.places[first].as_ref().map_or((first, 1), |place| (place.lane, place.depth));
                Place { lane, behind, is_queued: !wants_row(&self.parties[at]), depth, roots }
            }
        }
    }
}

/// Whether one that keeps another waiting only waits for the same before it. The place of a row is held by the first
/// who waits for the row; of other things the first who waits holds nothing. Whoever waits for a transaction to end
/// waits for one that holds.
fn waits_before(other: &Party, waiter: &Party) -> bool {
    let (Some(others), Some(wanted)) = (&other.awaited, &waiter.awaited) else { return false };
    if other.blocked_by.is_empty() || others.object != wanted.object {
        return false;
    }
    match wanted.kind.as_str() {
        "transactionid" | "virtualxid" => false,
        "tuple" => matches!(others.kind.as_str(), "tuple" | "transactionid"),
        kind => others.kind == kind,
    }
}

/// Whether it stands in line for a row, which the holder keeps from all in that line.
fn wants_row(party: &Party) -> bool {
    party.awaited.as_ref().is_some_and(|lock| lock.kind == "tuple")
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use proptest::prelude::*;

    use super::super::{Look, SessionKey, Who};
    use super::*;
    use crate::readings::activity::AwaitedLock;
    use crate::time::Timestamp;

    fn party(process: i32, blocked_by: &[i32], lock: Lock) -> Party {
        let awaited = lock.map(|(kind, object)| AwaitedLock {
            mode: "ExclusiveLock".into(),
            kind: kind.into(),
            object: object.into(),
        });
        Party {
            session: SessionKey { process, started_at: Timestamp(0) },
            who: Who::default(),
            is_idle: lock.is_none(),
            transaction_started_at: None,
            statement_started_at: Some(Timestamp(i64::from(process))),
            family: None,
            blocked_by: blocked_by.to_vec(),
            awaited,
        }
    }

    fn tree(parties: Vec<Party>) -> Tree {
        Tree::of(Look::new(Timestamp(0), 1.0, parties).parties())
    }

    type Lock = Option<(&'static str, &'static str)>;

    const ROW: Lock = Some(("transactionid", "public.berth"));
    const PLACE: Lock = Some(("tuple", "public.berth"));
    const TABLE: Lock = Some(("relation", "public.berth"));

    #[test]
    fn a_chain_is_as_deep_as_its_holders_and_its_time_is_the_first_ones() {
        let tree = tree(vec![
            party(1, &[], None),
            party(2, &[1], ROW),
            party(3, &[2], ROW),
            party(4, &[3], ROW),
            party(5, &[4], ROW),
        ]);
        let depths: Vec<usize> = tree.places.iter().flatten().map(|place| place.depth).collect();
        assert_eq!((depths, tree.roots(), tree.in_order()), (vec![1, 2, 3, 4], vec![0], vec![0, 1, 2, 3, 4]));
        assert_eq!(tree.behind(0), (4, 4));
        assert!(tree.places.iter().flatten().all(|place| !place.is_queued && place.behind.is_none()));
    }

    #[test]
    fn those_who_want_one_row_stand_in_one_line() {
        let tree =
            tree(vec![party(1, &[], None), party(2, &[1], ROW), party(3, &[2], PLACE), party(4, &[3, 2], PLACE)]);
        for (at, behind) in [(1, None), (2, Some(1)), (3, Some(2))] {
            let place = tree.places[at].as_ref().unwrap();
            assert_eq!((place.lane, place.behind, place.depth), (0, behind, 1), "{at}");
        }
    }

    #[test]
    fn readers_behind_a_table_change_wait_for_their_turn_and_not_for_the_holder() {
        let tree = tree(vec![party(1, &[], None), party(2, &[1], TABLE), party(3, &[2], TABLE), party(4, &[2], TABLE)]);
        let queued: Vec<bool> = tree.places.iter().flatten().map(|place| place.is_queued).collect();
        assert_eq!(queued, [false, true, true]);
        assert!(tree.places.iter().flatten().all(|place| place.lane == 0 && place.depth == 1));
        assert_eq!(tree.roots(), [0]);
    }

    #[test]
    fn two_holders_share_and_whoever_nobody_saw_is_one_without_a_name() {
        let tree = tree(vec![party(1, &[], None), party(3, &[1, 77], ROW)]);
        assert_eq!(tree.places[1].as_ref().unwrap().roots, [0, 2]);
    }

    #[test]
    fn a_circle_is_found_once_and_others_stand_behind_it() {
        let tree = tree(vec![party(1, &[2], ROW), party(2, &[3], ROW), party(3, &[1], ROW), party(4, &[1], ROW)]);
        assert_eq!(tree.circles, [vec![0, 1, 2]]);
        assert_eq!(tree.places[3].as_ref().unwrap().roots, [0]);
        assert_eq!(tree.behind(0), (4, 2));
    }

    /// Any waits, holders that nobody saw and circles among them.
    fn any_parties() -> impl Strategy<Value = Vec<Party>> {
        let lock = prop::sample::select(vec![None, ROW, PLACE, TABLE]);
        let party = (prop::collection::vec(0i32..14, 0..4), lock);
        prop::collection::vec(party, 0..12).prop_map(|all| {
            let made = |(at, (blocked_by, lock)): (usize, (Vec<i32>, Lock))| self::party(at as i32, &blocked_by, lock);
            all.into_iter().enumerate().map(made).collect()
        })
    }

    proptest! {
        #[test]
        fn whoever_waits_has_a_place_and_somebody_to_charge(parties in any_parties()) {
            let look = Look::new(Timestamp(0), 1.0, parties);
            let tree = Tree::of(look.parties());
            for (party, place) in look.parties().iter().zip(&tree.places) {
                let waits = party.blocked_by.iter().any(|process| *process != party.session.process);
                prop_assert_eq!(waits, place.is_some());
                prop_assert!(place.as_ref().is_none_or(|place| !place.roots.is_empty() && place.depth > 0));
            }
            let order = tree.in_order();
            let concerned: HashSet<usize> = tree.roots().into_iter().chain((0..tree.places.len()).filter(|at| tree.places[*at].is_some())).collect();
            prop_assert_eq!(order.iter().copied().collect::<HashSet<_>>(), concerned);
            prop_assert_eq!(order.len(), order.iter().collect::<HashSet<_>>().len());
            for root in tree.roots() {
                let is_of_circle = tree.circles.iter().any(|circle| circle.contains(&root));
                prop_assert!(is_of_circle || tree.places[root].is_none(), "{} waits itself", root);
            }
        }

        #[test]
        fn relabelling_processes_changes_nothing(parties in any_parties(), by in 1i32..1000) {
            let moved = parties.iter().map(|party| Party {
                session: SessionKey { process: party.session.process + by, ..party.session },
                blocked_by: party.blocked_by.iter().map(|process| process + by).collect(),
                ..party.clone()
            });
            let moved = Look::new(Timestamp(0), 1.0, moved.collect());
            prop_assert_eq!(tree(parties), Tree::of(moved.parties()));
        }
    }
}
