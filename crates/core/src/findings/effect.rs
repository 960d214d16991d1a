//! Rule 11: the measured effect of a change that was carried out.
//!
//! What the touched families would have cost without the change is estimated from before, moved by
//! what happened meanwhile to families that the change cannot have touched (difference in
//! differences). The effect is that minus what they cost now, for the number of calls before, in
//! seconds per day: the same unit in which it was predicted.
//!
//! A change may speed up statements that it does not touch, by leaving them more of the machine. What the
//! others gained is therefore held against the change only in the share of the load that is theirs: where
//! the touched families made up nearly all of it, nothing else is likely to have sped up the rest.
//!
//! What this version does not do yet: match hours of the week, and leave out spans near other markers.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::lasting_change::{Bucket, Interval};
use crate::findings::robust::{SeededRng, block_resample, quantile, weighted_median};
use crate::time::SECONDS_PER_DAY;

/// Buckets with calls that each side needs.
pub const LEAST_BUCKETS: usize = 5;
/// Share of the time before that an effect must reach to be one.
pub const LEAST_SHARE: f64 = 0.1;
/// Calls on both sides that a family needs to serve as a control.
const LEAST_CONTROL_CALLS: i64 = 20;
/// An interval wider than this share of the time before says nothing.
const WIDEST: f64 = 1.0;
const RESAMPLES: usize = 300;
const CONFIDENCE: f64 = 0.95;

/// One family before and after the change.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct BeforeAfter {
    /// Its buckets before the change, on the level that the change was meant to better.
    pub before: Vec<Bucket>,
    /// Its buckets since the change was complete.
    pub after: Vec<Bucket>,
}

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
    /// The factor by which families that could not be touched changed meanwhile, as far as it is held
    /// against the change; 1 without any.
    pub drift: f64,
    /// How many such families there were.
    pub controls: usize,
    /// Buckets with calls since the change.
    pub after_buckets: usize,
}

/// Measures a change on the families it touches, with the others as controls.
pub fn effect(touched: &[BeforeAfter], controls: &[BeforeAfter], seed: u64) -> Effect {
    let with_calls = |buckets: &[Bucket]| buckets.iter().filter(|bucket| bucket.calls > 0).count();
    let fewest = |side: fn(&BeforeAfter) -> &Vec<Bucket>| {
        touched.iter().map(|family| with_calls(side(family))).min().unwrap_or_default()
    };
    let (before_buckets, after_buckets) = (fewest(|family| &family.before), fewest(|family| &family.after));
    let own_share = share(touched, controls);
    let (drift, controls) = drift(controls);
    let drift = 1.0 + (drift - 1.0) * (1.0 - own_share);
    let mut effect = Effect {
        verdict: Verdict::TooEarly,
        saved_seconds_per_day: None,
        before_ms: mean_ms(touched.iter().flat_map(|family| &family.before)),
        after_ms: mean_ms(touched.iter().flat_map(|family| &family.after)),
        drift,
        controls,
        after_buckets,
    };
    if before_buckets < LEAST_BUCKETS {
        effect.verdict = Verdict::CannotTell;
        return effect;
    }
    if after_buckets < LEAST_BUCKETS {
        return effect;
    }

    let mut rng = SeededRng::new(seed);
    let resampled: Vec<f64> = (0..RESAMPLES)
        .map(|_| {
            let mut resample = |buckets: &[Bucket]| -> Vec<Bucket> {
                block_resample(&mut rng, buckets.len(), 3).into_iter().map(|i| buckets[i]).collect()
            };
            touched.iter().map(|family| saved(&resample(&family.before), &resample(&family.after), drift)).sum()
        })
        .collect();
    let value: f64 = touched.iter().map(|family| saved(&family.before, &family.after, drift)).sum();
    let tail = (1.0 - CONFIDENCE) / 2.0;
    let interval = Interval {
        value,
        low: quantile(&resampled, tail).unwrap_or(value).min(value),
        high: quantile(&resampled, 1.0 - tail).unwrap_or(value).max(value),
    };
    let spent: f64 = touched.iter().map(|family| seconds_per_day(&family.before)).sum();
    effect.saved_seconds_per_day = Some(interval);
    effect.verdict = if interval.low > 0.0 && value >= LEAST_SHARE * spent {
        Verdict::Confirmed
    } else if interval.high < 0.0 && -value >= LEAST_SHARE * spent {
        Verdict::Harmful
    } else if interval.high - interval.low > WIDEST * spent {
        Verdict::CannotTell
    } else {
        Verdict::NoEffect
    };
    effect
}

/// Seconds per day saved on one family, for its number of calls before.
fn saved(before: &[Bucket], after: &[Bucket], drift: f64) -> f64 {
    match (mean_ms(before), mean_ms(after)) {
        (Some(before_ms), Some(after_ms)) => seconds_per_day(before) * (drift - after_ms / before_ms),
        _ => 0.0,
    }
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

/// The typical factor by which the controls' time per call changed, weighted by their time before,
/// and how many controls there were.
fn drift(controls: &[BeforeAfter]) -> (f64, usize) {
    let enough = |buckets: &[Bucket]| buckets.iter().map(|bucket| bucket.calls).sum::<i64>() >= LEAST_CONTROL_CALLS;
    let factors: Vec<(f64, f64)> = controls
        .iter()
        .filter(|family| enough(&family.before) && enough(&family.after))
        .filter_map(|family| {
            Some((mean_ms(&family.after)? / mean_ms(&family.before)?, seconds_per_day(&family.before)))
        })
        .collect();
    (weighted_median(&factors).unwrap_or(1.0), factors.len())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::time::Timestamp;

    /// Ten-second buckets of ten calls each, at these milliseconds per call with some noise.
    fn buckets(count: usize, ms: f64, seed: u64) -> Vec<Bucket> {
        let mut rng = SeededRng::new(seed);
        (0..count)
            .map(|i| {
                let noise = 0.9 + rng.below(1000) as f64 / 5000.0;
                let exec_us = (ms * noise * 10.0 * 1e3) as i64;
                Bucket { at: Timestamp(i as i64 * 10_000_000), seconds: 10.0, calls: 10, exec_us, rows: 0, pages: 0 }
            })
            .collect()
    }

    fn family(before_ms: f64, after_ms: f64, seed: u64) -> BeforeAfter {
        BeforeAfter { before: buckets(30, before_ms, seed), after: buckets(30, after_ms, seed + 1) }
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
        let early = BeforeAfter { before: buckets(30, 10.0, 1), after: buckets(LEAST_BUCKETS - 1, 1.0, 2) };
        assert_eq!(effect(&[early], &[], 1).verdict, Verdict::TooEarly);
        let unknown = BeforeAfter { before: buckets(2, 10.0, 1), after: buckets(30, 1.0, 2) };
        assert_eq!(effect(&[unknown], &[], 1).verdict, Verdict::CannotTell);
        assert_eq!(effect(&[], &[], 1).verdict, Verdict::CannotTell);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(50))]
        #[test]
        fn what_nothing_touched_saves_nothing(ms in 0.1f64..500.0, seed in 0u64..1000) {
            let effect = effect(&[family(ms, ms, seed)], &[family(ms, ms, seed + 50)], seed);
            prop_assert_ne!(effect.verdict, Verdict::Confirmed);
            prop_assert_ne!(effect.verdict, Verdict::Harmful);
        }
    }
}
