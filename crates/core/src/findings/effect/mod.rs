//! Rule 11: the measured effect of a change that was carried out.
//!
//! What the touched families would have cost without the change is estimated from before, at the same hours
//! ([`BeforeAfter`]), moved by what happened meanwhile to families that the change cannot have touched (difference in
//! differences). The effect is the share of it that they cost less now, of what they cost before, in seconds per day: the
//! same unit in which it was predicted.
//!
//! All of it is judged on a log scale. A family's step has an error by the long-run variance of its noise (`step`). What
//! moved the whole server is one factor that all families share, seen by those that were not touched, with an error of
//! its own and with what any single family may differ by (`drift`). A verdict needs the change to stand out of all three.
//!
//! A change may speed up statements that it does not touch, by leaving them more of the machine. Whether it helped is
//! judged against all that they gained; how much it saved, only against the share of it that is theirs by load: where
//! the touched families made up nearly all of it, nothing else is likely to have sped up the rest.

mod drift;
mod sides;
mod step;

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::lasting_change::{Bucket, Interval};
use crate::findings::robust::{SeededRng, quantile, student_975};
use crate::time::{SECONDS_PER_DAY, Timestamp};
use drift::Drift;
use step::Step;

pub use sides::{BeforeAfter, Moved};

/// Buckets with calls that each side needs.
pub const LEAST_BUCKETS: usize = 5;
/// An effect is measured on no more than so many buckets after the change: a day of ten minutes.
pub const EFFECT_BUCKETS: f64 = 144.0;
/// Share of the time before that an effect must reach to be one.
pub const LEAST_SHARE: f64 = 0.1;
/// Families that are judged must have made up at least this share of the touched families' time.
const JUDGED_SHARE: f64 = 0.5;
/// An interval of the ratio that is wider than this, on the log scale, says nothing yet.
const WIDEST: f64 = 1.0;
/// So many buckets after the change tell what there is to tell.
const ENOUGH_BUCKETS: usize = 36;
const DRAWS: usize = 500;
const CONFIDENCE: f64 = 0.95;
/// A verdict is looked at again with each bucket: it needs 99 %, which is so many times as wide as 95 %.
const VERDICT_WIDER: f64 = 2.576 / 1.96;

/// What came of it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Verdict {
    /// It saves time, and that is no accident.
    Confirmed,
    /// It changed nothing that matters.
    NoEffect,
    /// It costs time, and that is no accident.
    Harmful,
    /// There is too little since the change to tell.
    TooEarly,
    /// What there is does not tell.
    CannotTell,
}

/// The measured effect.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Effect {
    /// What came of it.
    pub verdict: Verdict,
    /// Time saved on this instance, in seconds per day, with its interval; negative when it costs
    /// time. Nothing while there is too little to compute it.
    pub saved_seconds_per_day: Option<Interval>,
    /// Mean time per call of the touched families before, in milliseconds.
    pub before_ms: Option<f64>,
    /// The same after.
    pub after_ms: Option<f64>,
    /// The factor by which families that could not be touched changed meanwhile; 1 without any.
    pub drift: f64,
    /// How surely that is known; nothing where it was measured by an earlier version.
    #[serde(default)]
    pub drift_between: Option<(f64, f64)>,
    /// How many such families there were.
    pub controls: usize,
    /// Buckets with calls since the change, of the family with the fewest.
    pub after_buckets: usize,
    /// Touched families that it is measured on.
    #[serde(default)]
    pub families: usize,
    /// Touched families of which too little was seen to be measured on.
    #[serde(default)]
    pub waiting: usize,
    /// Advice that was carried out at the same time for the same families: the effect is that of all of it.
    #[serde(default)]
    pub together_with: Vec<i64>,
    /// When the first of the touched families was touched by something else: what came later is left out.
    #[serde(default)]
    pub after_until: Option<Timestamp>,
    /// What else happened on the server that may have moved the statements: told beside the effect, since it cannot be
    /// taken out of it.
    #[serde(default)]
    pub meanwhile: Vec<String>,
    /// Whether the server has not once read what was made, whatever became of the statements.
    #[serde(default)]
    pub never_read: bool,
}

impl Effect {
    /// The same, of something that was never read since it was made: whatever became of the statements, it was something
    /// else.
    pub fn of_unread(self) -> Effect {
        let never_read = self.after_buckets >= LEAST_BUCKETS;
        let verdict = if never_read { Verdict::NoEffect } else { self.verdict };
        Effect { verdict, never_read, ..self }
    }

    /// The same, measured after an earlier time: what was told then is not taken back because more noise says nothing; it
    /// stands until something else is sure.
    pub fn following(self, earlier: Option<&Effect>) -> Effect {
        let stands = earlier.map(|earlier| earlier.verdict).filter(|told| told.is_sure() && !self.verdict.is_sure());
        Effect { verdict: stands.unwrap_or(self.verdict), ..self }
    }
}

impl Verdict {
    /// Whether it says what the change did.
    pub fn is_sure(self) -> bool {
        matches!(self, Verdict::Confirmed | Verdict::NoEffect | Verdict::Harmful)
    }
}

/// Measures a change on the families it touches, with the others as controls.
///
/// A family of which too little was seen on one side holds nothing up, as long as those that are judged took most of the
/// time. `seed` makes the draws of the intervals the same each time.
pub fn effect(touched: &[BeforeAfter], controls: &[BeforeAfter], seed: u64) -> Effect {
    let is_enough = |sides: &BeforeAfter| {
        let (before, after) = sides.with_calls();
        before >= LEAST_BUCKETS && after >= LEAST_BUCKETS
    };
    let steps_of = |families: &[BeforeAfter]| -> Vec<(f64, Step)> {
        let matched = families.iter().filter(|sides| is_enough(sides)).map(|sides| sides.clone().matched());
        matched.filter_map(|sides| Some((seconds_per_day(&sides.before), Step::of(&sides)?))).collect()
    };
    let unseen: Vec<Step> = steps_of(controls).into_iter().map(|(_, step)| step).collect();
    let drift = Drift::of(&unseen);
    let judged = steps_of(touched);
    let within = student_975(drift.freedom()) * drift.variance.sqrt();
    let mut effect = Effect {
        verdict: Verdict::TooEarly,
        saved_seconds_per_day: None,
        before_ms: mean_ms(touched.iter().flat_map(|family| &family.before)),
        after_ms: mean_ms(touched.iter().flat_map(|family| &family.after)),
        drift: drift.value.exp(),
        drift_between: Some(((drift.value - within).exp(), (drift.value + within).exp())),
        controls: drift.families,
        after_buckets: fewest_after(touched),
        families: judged.len(),
        waiting: touched.len() - judged.len(),
        together_with: Vec::new(),
        after_until: None,
        meanwhile: Vec::new(),
        never_read: false,
    };
    let spent = |of: &dyn Fn(&BeforeAfter) -> bool| -> f64 {
        touched.iter().filter(|sides| of(sides)).map(|sides| seconds_per_day(&sides.before)).sum()
    };
    let (all, known) = (spent(&|_| true), spent(&is_enough));
    if judged.is_empty() || known < JUDGED_SHARE * all {
        let unknown_before = spent(&|sides| sides.with_calls().0 < LEAST_BUCKETS);
        if touched.iter().all(|sides| sides.with_calls().0 < LEAST_BUCKETS)
            || unknown_before > (1.0 - JUDGED_SHARE) * all
        {
            effect.verdict = Verdict::CannotTell;
        }
        return effect;
    }

    let (ratio, saved) = drawn(&judged, &drift, 1.0, seed);
    effect.verdict = verdict(ratio, effect.after_buckets);
    let has_helped_others = effect.verdict == Verdict::Confirmed && drift.value < 0.0;
    let others_share = 1.0 - share(touched, controls);
    let saved = if has_helped_others { drawn(&judged, &drift, others_share, seed).1 } else { saved };
    effect.saved_seconds_per_day = Some(saved);
    effect
}

/// The time of all judged families after ÷ that without the change, on the log scale, and the seconds per day that it
/// saves: estimates, and intervals from draws of every error. Of the drift, this share is held against what is saved.
fn drawn(judged: &[(f64, Step)], drift: &Drift, held: f64, seed: u64) -> (Interval, Interval) {
    let figures = |drifted: &dyn Fn(usize) -> f64, step: &dyn Fn(usize) -> f64| {
        let sum =
            |of: &dyn Fn(usize) -> f64| judged.iter().enumerate().map(|(i, (spent, _))| spent * of(i)).sum::<f64>();
        let (after, without) = (sum(&|i| step(i).exp()), sum(&|i| drifted(i).exp()));
        // By what was spent before, on the server as it was then: never more than there was to save.
        (after.ln() - without.ln(), sum(&|i| 1.0 - (step(i) - drifted(i) * held).exp()))
    };
    let (ratio, saved) = figures(&|_| drift.value, &|i| judged[i].1.value);
    let mut rng = SeededRng::new(seed);
    let heavier: Vec<f64> = judged.iter().map(|(_, step)| student_975(step.freedom) / student_975(1e9)).collect();
    let heavier_drift = student_975(drift.freedom()) / student_975(1e9);
    let draws: Vec<(f64, f64)> = (0..DRAWS)
        .map(|_| {
            let shared = drift.value + drift.variance.sqrt() * heavier_drift * rng.normal();
            let drawn: Vec<(f64, f64)> = judged
                .iter()
                .zip(&heavier)
                .map(|((_, step), heavier)| {
                    let single = shared + drift.spread.sqrt() * heavier_drift * rng.normal();
                    (single, step.value + step.variance.sqrt() * heavier * rng.normal())
                })
                .collect();
            figures(&|i| drawn[i].0, &|i| drawn[i].1)
        })
        .collect();
    let interval = |value: f64, of: fn(&(f64, f64)) -> f64| {
        let drawn: Vec<f64> = draws.iter().map(of).collect();
        let at = |share| quantile(&drawn, share).unwrap_or(value);
        let tail = (1.0 - CONFIDENCE) / 2.0;
        Interval { value, low: at(tail).min(value), high: at(1.0 - tail).max(value) }
    };
    (interval(ratio, |draw| draw.0), interval(saved, |draw| draw.1))
}

/// The verdict by the interval of the ratio, on the log scale: below nothing, it saves time.
fn verdict(ratio: Interval, after_buckets: usize) -> Verdict {
    let low = ratio.value - VERDICT_WIDER * (ratio.value - ratio.low);
    let high = ratio.value + VERDICT_WIDER * (ratio.high - ratio.value);
    if high < 0.0 && ratio.value <= (1.0 - LEAST_SHARE).ln() {
        Verdict::Confirmed
    } else if low > 0.0 && ratio.value >= (1.0 + LEAST_SHARE).ln() {
        Verdict::Harmful
    } else if ratio.high - ratio.low <= WIDEST {
        Verdict::NoEffect
    } else if after_buckets < ENOUGH_BUCKETS {
        Verdict::TooEarly
    } else {
        Verdict::CannotTell
    }
}

/// Buckets after the change of the family with the fewest, of those that can be judged; of all where none can.
fn fewest_after(touched: &[BeforeAfter]) -> usize {
    let after = |sides: &BeforeAfter| sides.with_calls().1;
    let judged = touched.iter().map(after).filter(|count| *count >= LEAST_BUCKETS).min();
    judged.or_else(|| touched.iter().map(after).max()).unwrap_or_default()
}

/// Share of the time before that the touched families took, from 0 to 1.
fn share(touched: &[BeforeAfter], controls: &[BeforeAfter]) -> f64 {
    let spent = |families: &[BeforeAfter]| families.iter().map(|family| seconds_per_day(&family.before)).sum::<f64>();
    let (own, others) = (spent(touched), spent(controls));
    if own + others > 0.0 { own / (own + others) } else { 0.0 }
}

fn seconds_per_day(buckets: &[Bucket]) -> f64 {
    let spent_us: i64 = buckets.iter().map(|bucket| bucket.exec_us).sum();
    let seconds: f64 = buckets.iter().map(|bucket| bucket.seconds).sum();
    if seconds > 0.0 { spent_us as f64 / 1e6 / seconds * SECONDS_PER_DAY } else { 0.0 }
}

fn mean_ms<'a>(buckets: impl IntoIterator<Item = &'a Bucket>) -> Option<f64> {
    let (us, calls) =
        buckets.into_iter().fold((0, 0), |(us, calls), bucket| (us + bucket.exec_us, calls + bucket.calls));
    (calls > 0 && us > 0).then(|| us as f64 / calls as f64 / 1e3)
}

#[cfg(test)]
pub(super) mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::time::Timestamp;

    /// Ten-second buckets of ten calls each, the first at a place in time, at these milliseconds per call with some
    /// noise.
    fn buckets(places: std::ops::Range<i64>, ms: f64, seed: u64) -> Vec<Bucket> {
        let mut rng = SeededRng::new(seed);
        places
            .map(|i| {
                let exec_us = (ms * (0.1 * rng.normal()).exp() * 10.0 * 1e3) as i64;
                Bucket { at: Timestamp(i * 10_000_000), seconds: 10.0, calls: 10, exec_us, rows: 0, pages: 0 }
            })
            .collect()
    }

    /// A family with so many buckets before the change and after it.
    fn counted(before: (i64, f64), after: (i64, f64), seed: u64) -> BeforeAfter {
        BeforeAfter {
            before: buckets(0..before.0, before.1, seed),
            after: buckets(before.0..before.0 + after.0, after.1, seed + 1_000),
        }
    }

    /// Thirty buckets on either side.
    pub fn family(before_ms: f64, after_ms: f64, seed: u64) -> BeforeAfter {
        counted((30, before_ms), (30, after_ms), seed)
    }

    #[test]
    fn an_index_that_helped_is_confirmed_in_seconds_per_day() {
        let effect = effect(&[family(240.0, 3.0, 1)], &[family(5.0, 5.0, 7)], 1);
        assert_eq!(effect.verdict, Verdict::Confirmed);
        // One call a second: 237 ms saved on each of 86,400.
        let saved = effect.saved_seconds_per_day.unwrap();
        assert!((saved.value / (0.237 * 86_400.0) - 1.0).abs() < 0.1, "{saved:?}");
        assert!(saved.low <= saved.value && saved.value <= saved.high);
    }

    #[test]
    fn a_server_that_got_faster_as_a_whole_is_not_credited_to_the_change() {
        let controls = [family(100.0, 50.0, 3), family(80.0, 40.0, 5), family(20.0, 10.0, 9)];
        let effect = effect(&[family(10.0, 5.0, 1)], &controls, 1);
        assert_eq!(effect.verdict, Verdict::NoEffect);
        assert!((effect.drift - 0.5).abs() < 0.05, "{effect:?}");
        assert_eq!(effect.controls, 3);
    }

    #[test]
    fn what_others_gained_from_a_dominant_statement_is_not_held_against_it() {
        let effect = effect(&[family(300.0, 3.0, 1)], &[family(4.0, 2.0, 3), family(6.0, 3.0, 5)], 1);
        assert_eq!(effect.verdict, Verdict::Confirmed);
        let saved = effect.saved_seconds_per_day.unwrap().value;
        assert!((saved / (0.297 * 86_400.0) - 1.0).abs() < 0.15, "{effect:?}");
    }

    #[test]
    fn worse_is_harmful_and_the_same_is_no_effect() {
        assert_eq!(effect(&[family(10.0, 20.0, 1)], &[], 1).verdict, Verdict::Harmful);
        assert_eq!(effect(&[family(10.0, 10.0, 1)], &[], 1).verdict, Verdict::NoEffect);
    }

    #[test]
    fn too_little_after_is_too_early_and_too_little_before_cannot_tell() {
        let early = counted((30, 10.0), (LEAST_BUCKETS as i64 - 1, 1.0), 1);
        assert_eq!(effect(&[early], &[], 1).verdict, Verdict::TooEarly);
        assert_eq!(effect(&[counted((2, 10.0), (30, 1.0), 1)], &[], 1).verdict, Verdict::CannotTell);
        assert_eq!(effect(&[], &[], 1).verdict, Verdict::CannotTell);
    }

    #[test]
    fn a_family_that_runs_rarely_holds_nothing_up_unless_the_time_was_its_own() {
        let rare = |ms: f64| counted((30, ms), (1, ms), 5);
        let measured = effect(&[family(240.0, 3.0, 1), rare(10.0)], &[], 1);
        assert_eq!((measured.verdict, measured.families, measured.waiting), (Verdict::Confirmed, 1, 1));
        assert_eq!(measured.after_buckets, 30);
        assert_eq!(effect(&[family(240.0, 3.0, 1), rare(2_000.0)], &[], 1).verdict, Verdict::TooEarly);
        // New, and so without a before: as little does it hold up.
        let new = counted((2, 10.0), (30, 10.0), 5);
        assert_eq!(effect(&[family(240.0, 3.0, 1), new], &[], 1).verdict, Verdict::Confirmed);
    }

    #[test]
    fn what_scatters_too_much_says_nothing_yet_and_in_the_end_nothing() {
        let wild = |after: i64| {
            let mut family = counted((30, 10.0), (after, 10.0), 1);
            let mut rng = SeededRng::new(9);
            for bucket in family.before.iter_mut().chain(&mut family.after) {
                bucket.exec_us = (bucket.exec_us as f64 * (3.0 * rng.normal()).exp()) as i64;
            }
            effect(&[family], &[], 1).verdict
        };
        assert_eq!(wild(8), Verdict::TooEarly);
        assert_eq!(wild(40), Verdict::CannotTell);
    }

    #[test]
    fn what_was_never_read_had_no_effect_whatever_became_of_the_statements() {
        let unread = effect(&[family(240.0, 3.0, 1)], &[], 1).of_unread();
        assert_eq!((unread.verdict, unread.never_read), (Verdict::NoEffect, true));
        let early = effect(&[counted((30, 10.0), (2, 10.0), 1)], &[], 1).of_unread();
        assert_eq!((early.verdict, early.never_read), (Verdict::TooEarly, false));
    }

    #[test]
    fn what_was_sure_stands_until_something_else_is() {
        let verdict = |earlier, now| {
            let measured = |verdict| Effect { verdict, ..effect(&[family(10.0, 10.0, 1)], &[], 1) };
            measured(now).following(Some(&measured(earlier))).verdict
        };
        assert_eq!(verdict(Verdict::NoEffect, Verdict::TooEarly), Verdict::NoEffect);
        assert_eq!(verdict(Verdict::Confirmed, Verdict::CannotTell), Verdict::Confirmed);
        assert_eq!(verdict(Verdict::Confirmed, Verdict::Harmful), Verdict::Harmful);
        assert_eq!(verdict(Verdict::TooEarly, Verdict::CannotTell), Verdict::CannotTell);
    }

    #[test]
    fn never_more_is_saved_than_there_was_to_save() {
        let slower: Vec<BeforeAfter> = (0..12).map(|seed| family(10.0, 20.0, seed)).collect();
        let measured = effect(&[family(100.0, 1.0, 77)], &slower, 1);
        // One call a second: 100 ms each of 86,400 times a day.
        let saved = measured.saved_seconds_per_day.unwrap();
        assert!(saved.value > 8_000.0 && saved.high < 1.1 * 8_640.0, "{saved:?}");
        assert_eq!(measured.verdict, Verdict::Confirmed);
    }

    #[test]
    fn a_drift_is_told_with_its_interval() {
        let controls: Vec<BeforeAfter> = (0..12).map(|seed| family(10.0, 15.0, seed)).collect();
        let measured = effect(&[family(10.0, 15.0, 77)], &controls, 1);
        let (low, high) = measured.drift_between.unwrap();
        assert!(low < 1.5 && 1.5 < high && high < 1.7, "{measured:?}");
        assert_eq!(measured.verdict, Verdict::NoEffect);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(50))]
        #[test]
        fn what_nothing_touched_saves_nothing(ms in 0.1f64..500.0, seed in 0u64..1000) {
            let verdict = effect(&[family(ms, ms, seed)], &[family(ms, ms, seed + 50)], seed).verdict;
            prop_assert!(!matches!(verdict, Verdict::Confirmed | Verdict::Harmful), "{verdict:?}");
        }
    }
}
