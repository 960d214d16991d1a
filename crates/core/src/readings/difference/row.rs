use std::cell::OnceCell;
use std::collections::HashMap;
use std::hash::Hash;

use super::{Evictions, Grown, Snapshot, Trace};
use crate::readings::counters::Counters;

/// So many amounts that have gone of one row are remembered, the newest of them.
const MOST_GONE: usize = 4;

/// What is known of the objects before the later reading.
pub(super) struct Before<'a, K, C> {
    earlier: &'a Snapshot<K, C>,
    later: &'a Snapshot<K, C>,
    /// Rows of the earlier reading by key: where the order of rows does not tell.
    rows: OnceCell<HashMap<&'a K, usize>>,
    gone: HashMap<&'a K, Vec<C>>,
    /// Rows of the earlier reading by name, where names tell.
    named: HashMap<i64, usize>,
    /// Whether an entry may have been thrown out in between.
    evicted: bool,
}

impl<'a, K: Eq + Hash + Clone, C: Counters> Before<'a, K, C> {
    pub(super) fn new(earlier: &'a Snapshot<K, C>, later: &'a Snapshot<K, C>) -> Self {
        let named = |(row, trace): (usize, &Trace)| match trace {
            Trace::Name(name) => Some((*name, row)),
            _ => None,
        };
        let mut gone: HashMap<&K, Vec<C>> = HashMap::new();
        for (key, amount) in &earlier.gone {
            gone.entry(key).or_default().push(*amount);
        }
        Before {
            earlier,
            later,
            rows: OnceCell::new(),
            gone,
            named: match earlier.traces.first() {
                Some(Trace::Name(_)) => earlier.traces.iter().enumerate().filter_map(named).collect(),
                _ => HashMap::new(),
            },
            evicted: match (earlier.evictions, later.evictions) {
                (Evictions::Never, Evictions::Never) => false,
                (Evictions::Times(then), Evictions::Times(now)) => then != now,
                _ => true,
            },
        }
    }

    /// The row of an object in the earlier reading. Most rows stand in the same order again: behind the one that was
    /// found last.
    pub(super) fn find(&self, key: &K, last: Option<usize>) -> Option<usize> {
        let next = last.map_or(0, |last| last + 1);
        if self.earlier.rows.get(next).is_some_and(|(found, _)| found == key) {
            return Some(next);
        }
        let rows = || self.earlier.rows.iter().enumerate().map(|(row, (key, _))| (key, row)).collect::<HashMap<_, _>>();
        self.rows.get_or_init(rows).get(key).copied()
    }

    fn is_bounded(&self) -> bool {
        self.later.evictions != Evictions::Never
    }

    /// What a row that had this row's name under another key had counted, and what had gone of that: the row may
    /// show any of it as its own, now or later.
    fn inheritance(&self, trace: Option<Trace>, key: &K) -> Vec<C> {
        let Some(Trace::Name(name)) = trace else { return Vec::new() };
        let Some((other, then)) = self.named.get(&name).map(|row| &self.earlier.rows[*row]) else { return Vec::new() };
        if other == key {
            return Vec::new();
        }
        let gone = self.gone.get(other).into_iter().flatten().chain([then]);
        gone.filter(|amount| !amount.is_zero()).copied().collect()
    }

    /// What has gone of the row's figures before the later reading and may be back in it.
    fn gone_before(&self, trace: Option<Trace>, key: &K) -> Vec<C> {
        let mut gone = self.gone.get(key).cloned().unwrap_or_default();
        gone.extend(self.inheritance(trace, key));
        gone
    }

    /// What has gone of the row's figures and may still come back. After a reset only what the row may take over.
    pub(super) fn gone_after(
        &self,
        row: Option<usize>,
        trace: Option<Trace>,
        (key, now): (&K, &C),
        is_reset: bool,
    ) -> Vec<C> {
        if is_reset {
            return self.inheritance(trace, key);
        }
        let mut gone = self.gone_before(trace, key);
        let then = row.map_or_else(C::default, |row| self.earlier.rows[row].1);
        match now.grown_since(&then) {
            Some(by) if gone.is_empty() || by.is_zero() => {}
            Some(by) => {
                let (_, back) = without_what_came_back(&by, &gone);
                gone = gone.into_iter().enumerate().filter(|(n, _)| back & (1 << n) == 0).map(|(_, c)| c).collect();
            }
            None => {
                let fallen = now.values().into_iter().zip(then.values()).map(|(now, then)| (then - now).max(0));
                gone.push(C::from_values(&fallen.collect::<Vec<_>>()));
            }
        }
        gone.split_off(gone.len().saturating_sub(MOST_GONE))
    }
}

/// How far the counters of one object moved.
pub(super) fn growth<K, C>(
    before: &Before<K, C>,
    row: Option<usize>,
    trace: Option<Trace>,
    (key, now): (&K, &C),
) -> Grown<K, C>
where
    K: Eq + Hash + Clone,
    C: Counters,
{
    let grown = |by: C, lower_bound: bool| Grown { key: key.clone(), by, lower_bound };
    let was = row.and_then(|row| before.earlier.trace(row));
    let (by, lower_bound) = match row.map(|row| &before.earlier.rows[row].1) {
        // Whatever it had counted before it began anew is lost.
        Some(then) if has_begun_anew(was, trace, then == now) => return grown(*now, true),
        Some(then) if then == now => return grown(C::default(), false),
        Some(then) => {
            let is_the_same = is_surely_the_same(was, trace);
            match now.grown_since(then) {
                Some(by) => (by, before.evicted && !is_the_same),
                None => return grown(since_fall(now, then, before.is_bounded() && !is_the_same), true),
            }
        }
        // It was there, and was not seen: nobody knows what it had counted.
        None if matches!(trace, Some(Trace::Began(began)) if began <= before.earlier.at) => {
            return grown(C::default(), true);
        }
        None => (*now, before.evicted),
    };
    if before.gone.is_empty() && row.is_some() && was == trace {
        return grown(by, lower_bound);
    }
    let (by, back) = without_what_came_back(&by, &before.gone_before(trace, key));
    grown(by, lower_bound || back != 0)
}

/// The least of what was truly counted, whichever of the amounts that had gone are back in it, and the largest set
/// of these, as bits.
fn without_what_came_back<C: Counters>(by: &C, gone: &[C]) -> (C, usize) {
    let (mut least, mut back, mut largest) = (*by, 0, 0);
    let newest = &gone[gone.len().saturating_sub(MOST_GONE)..];
    let skipped = gone.len() - newest.len();
    for set in 1..1_usize << newest.len() {
        let amounts = newest.iter().enumerate().filter(|(n, _)| set & (1 << n) != 0);
        let amount = amounts.fold(C::default(), |sum, (_, amount)| sum.plus(amount));
        let Some(rest) = by.grown_since(&amount) else { continue };
        let both = least.values().into_iter().zip(rest.values()).map(|(one, other)| one.min(other));
        least = C::from_values(&both.collect::<Vec<_>>());
        let size: i64 = amount.values().iter().fold(0, |sum, value| sum.saturating_add(*value));
        if size > largest {
            (back, largest) = (set << skipped, size);
        }
    }
    (least, back)
}

fn has_begun_anew(was: Option<Trace>, is: Option<Trace>, counts_are_equal: bool) -> bool {
    match (was, is) {
        (Some(Trace::Began(then)), Some(Trace::Began(now))) => then != now,
        // A larger one was counted, too: the same counts as before are not those of before.
        (Some(Trace::Largest(then)), Some(Trace::Largest(now))) => now < then || now > then && counts_are_equal,
        _ => false,
    }
}

fn is_surely_the_same(was: Option<Trace>, is: Option<Trace>) -> bool {
    matches!(is, Some(Trace::Began(_) | Trace::Largest(_))) && was == is
}

/// What was counted where a figure fell. What began anew counts from zero; a figure that fell without the rest is not
/// known and adds nothing.
fn since_fall<C: Counters>(now: &C, then: &C, begins_as_a_whole: bool) -> C {
    let (now, then) = (now.values(), then.values());
    let figures = 0..now.len();
    let fell = |figure: usize| now[figure] < then[figure];
    let is_own = |figure: usize| !C::SUMMED.contains(&C::NAMES[figure]);
    let is_anew = if begins_as_a_whole {
        figures.clone().any(|figure| is_own(figure) && fell(figure))
    } else {
        figures.clone().filter(|figure| is_own(*figure) && then[*figure] > 0).all(fell)
    };
    let by = |figure: usize| match () {
        () if is_anew && (begins_as_a_whole || fell(figure) && is_own(figure)) => now[figure],
        () if fell(figure) => 0,
        () => now[figure] - then[figure],
    };
    C::from_values(&figures.map(by).collect::<Vec<_>>())
}
