use super::Tells;
use crate::findings::effect::{BeforeAfter, Effect, LEAST_BUCKETS, Moved};
use crate::findings::lasting_change::{Bucket, LastingChange};
use crate::time::{Timestamp, Window};

/// Advice that was carried out.
#[derive(Clone, Copy)]
pub struct CarriedOut<'a> {
    /// Its number in the book.
    pub advice_id: i64,
    /// What it was.
    pub told: &'a dyn Tells,
    /// Between when and when it was carried out.
    pub made: Window,
}

/// A family as it was seen before and after.
#[derive(Debug, Clone, Copy)]
pub struct SeenFamily<'a> {
    /// Its number.
    pub family: i64,
    /// Its text; empty where that is not known.
    pub text: &'a str,
    /// Its buckets of time, all as long.
    pub buckets: &'a [Bucket],
    /// Its changes.
    pub changes: &'a [LastingChange],
}

/// What other advice did to a family that a piece of advice is measured on.
#[derive(Debug, Clone, Default, PartialEq)]
struct OtherAdvice {
    /// What was carried out at the same time: the effects cannot be told apart.
    together: Vec<i64>,
    /// When the last one before it was complete.
    earlier: Option<Timestamp>,
    /// When the first one after it began.
    later: Option<Timestamp>,
}

impl CarriedOut<'_> {
    /// What came of it, on its own where that can be told, and else of all that was carried out with it.
    ///
    /// What any advice may have touched that was carried out, among `all`, cannot serve as a control.
    pub fn effect(&self, all: &[CarriedOut], families: &[SeenFamily], bucket_seconds: f64) -> Effect {
        let apart = LEAST_BUCKETS as f64 * bucket_seconds;
        let sides = |seen: &SeenFamily, others: &OtherAdvice| {
            let moved = Moved { changes: seen.changes, earlier: others.earlier, later: others.later };
            BeforeAfter::around(seen.buckets, self.made, &moved, bucket_seconds)
        };
        let is_measured = |seen: &&SeenFamily| self.told.is_measured_on(seen.family, seen.text);
        let touched = families.iter().filter(is_measured).map(|seen| {
            let others = self.others(seen.family, all, apart);
            let sides = sides(seen, &others);
            (others, sides)
        });
        // What it was meant for and has not run at all lately is touched, too.
        let is_gone = |family: &i64| families.iter().all(|seen| seen.family != *family);
        let gone = self.told.families().into_iter().filter(is_gone);
        let touched = touched.chain(gone.map(|_| Default::default()));
        let (own, shared): (Vec<_>, Vec<_>) = touched.partition(|(others, _)| others.together.is_empty());
        let runs_alone = own.iter().any(|(_, sides)| sides.with_calls().0 >= LEAST_BUCKETS);
        let measured_on = if runs_alone || shared.is_empty() { own } else { shared };
        let mut together_with: Vec<i64> =
            measured_on.iter().flat_map(|(others, _)| others.together.iter().copied()).collect();
        together_with.sort_unstable();
        together_with.dedup();
        let after_until = measured_on.iter().filter_map(|(others, _)| others.later).min();

        let is_control =
            |seen: &&SeenFamily| !seen.text.is_empty() && !all.iter().any(|other| other.told.may_touch(seen.text));
        let controls: Vec<BeforeAfter> =
            families.iter().filter(is_control).map(|seen| sides(seen, &OtherAdvice::default())).collect();
        let sides: Vec<BeforeAfter> = measured_on.into_iter().map(|(_, sides)| sides).collect();
        let effect = self.told.measured(sides, &controls, self.advice_id as u64);
        Effect { together_with, after_until, ..effect }
    }

    /// What other advice did to a family. Only what was meant for the family counts; two pieces with less than
    /// `apart_seconds` between them were carried out at the same time.
    fn others(&self, family: i64, all: &[CarriedOut], apart_seconds: f64) -> OtherAdvice {
        let mut others = OtherAdvice::default();
        let is_other = |other: &&CarriedOut| {
            other.advice_id != self.advice_id
                && other.told.database() == self.told.database()
                && other.told.families().contains(&family)
        };
        for other in all.iter().filter(is_other) {
            if other.made.from.seconds_since(self.made.to) >= apart_seconds {
                others.later = Some(others.later.map_or(other.made.from, |first| first.min(other.made.from)));
            } else if self.made.from.seconds_since(other.made.to) >= apart_seconds {
                others.earlier = Some(others.earlier.map_or(other.made.to, |last| last.max(other.made.to)));
            } else {
                others.together.push(other.advice_id);
            }
        }
        others
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::changes::advice::missing_index::tests::test_index;
    use crate::findings::effect::Verdict;
    use crate::findings::robust::SeededRng;

    #[test]
    fn only_what_was_meant_for_the_family_counts_and_what_is_close_is_together() {
        let of = |family: i64| (family, 100.0, 10.0);
        let indexes = [vec![of(1), of(2)], vec![of(1)], vec![of(3)]].map(|families| test_index("leg", &families));
        let at = |seconds: f64| Timestamp(0).plus_seconds(seconds);
        let carried_out = |(advice_id, index, from): (i64, usize, f64)| CarriedOut {
            advice_id,
            told: &indexes[index],
            made: Window { from: at(from), to: at(from + 10.0) },
        };
        let me = carried_out((1, 0, 100.0));
        let all: Vec<CarriedOut> =
            [(1, 0, 100.0), (2, 1, 120.0), (3, 1, 20.0), (4, 1, 500.0), (5, 1, 300.0), (6, 2, 105.0)]
                .map(carried_out)
                .into();
        let others = me.others(1, &all, 50.0);
        assert_eq!(others, OtherAdvice { together: vec![2], earlier: Some(at(30.0)), later: Some(at(300.0)) });
        assert_eq!(me.others(2, &all, 50.0), OtherAdvice::default());
    }

    /// Twenty buckets of ten seconds on either side of second 200, at these milliseconds per call.
    fn buckets(before_ms: f64, after_ms: f64) -> Vec<Bucket> {
        let mut rng = SeededRng::new(before_ms.to_bits() ^ after_ms.to_bits());
        let ms = |i: i64| if i < 20 { before_ms } else { after_ms };
        (0..40)
            .map(|i| {
                let exec_us = (ms(i) * (0.05 * rng.normal()).exp() * 1e4) as i64;
                Bucket { at: Timestamp(i * 10_000_000), seconds: 10.0, calls: 10, exec_us, rows: 0, pages: 0 }
            })
            .collect()
    }

    #[test]
    fn each_is_judged_by_what_only_it_is_meant_for_and_else_all_as_one() {
        let of = |family: i64| (family, 100.0, 10.0);
        let indexes = [vec![of(1), of(2)], vec![of(2)]].map(|families| test_index("leg", &families));
        let made = Window { from: Timestamp(200_000_000), to: Timestamp(200_000_000) };
        let all = [0, 1].map(|n| CarriedOut { advice_id: n as i64, told: &indexes[n], made });
        // The first is useless for its own family; both together help the second.
        let series = [(1, buckets(100.0, 100.0)), (2, buckets(100.0, 5.0)), (3, buckets(7.0, 7.0))];
        let text = |family: i64| if family < 3 { "select ? from leg" } else { "select ? from slot" };
        let families: Vec<SeenFamily> = series
            .iter()
            .map(|(family, buckets)| SeenFamily { family: *family, text: text(*family), buckets, changes: &[] })
            .collect();
        let [first, second] = all.map(|one| one.effect(&all, &families, 10.0));
        assert_eq!((first.verdict, first.together_with, first.controls), (Verdict::NoEffect, vec![], 1));
        assert_eq!((second.verdict, second.together_with), (Verdict::Confirmed, vec![0]));
        // What it is meant for and does not run any more is waited for.
        let gone = all[1].effect(&all[1..], &families[2..], 10.0);
        assert_eq!((gone.families, gone.waiting), (0, 1));
    }
}
