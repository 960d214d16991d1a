use hurnix_core::Timestamp;
use hurnix_core::findings::lasting_change::Bucket;
use hurnix_core::findings::robust::SeededRng;
use strum::{EnumIter, IntoStaticStr};

use crate::noise::{Noise, NoiseFamily};

/// Length of a bucket.
pub const BUCKET_SECONDS: f64 = 600.0;
/// Buckets of a day.
pub const BUCKETS_A_DAY: usize = 144;
const WEEK: usize = 7 * BUCKETS_A_DAY;
/// Buckets of a series: three weeks.
const COUNT: usize = 3 * WEEK;
/// Time per call where nothing changed, in milliseconds.
const USUAL_MS: f64 = 4.0;
/// Calls of a bucket that are drawn one by one; more of them are drawn as their mean.
const DRAWN_CALLS: i64 = 60;

/// What happens in a series.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, EnumIter, IntoStaticStr)]
#[strum(serialize_all = "snake_case")]
pub enum Kind {
    /// One to three steps of 30 % and more, at least three days apart.
    Level,
    /// One way to another level, over six hours to two days.
    Ramp,
    /// Another level for an hour to a day and a half, and back.
    Recovered,
    /// One to four times a few slow buckets.
    Spike,
    /// More or fewer calls, as long as before.
    VolumeOnly,
    /// Nothing.
    Quiet,
    /// Nothing but the hour and the weekend.
    SeasonOnly,
}

/// A lasting change that was put in.
#[derive(Debug, Clone, PartialEq)]
pub struct TrueChange {
    /// Number of its first bucket.
    pub onset: usize,
    /// Number of the bucket from which all of it is there; that of the onset, but for a ramp.
    pub complete: usize,
    /// New time per call ÷ old.
    pub ratio: f64,
}

/// A series with what is true of it.
#[derive(Debug, Clone)]
pub struct Series {
    /// The buckets; those of a gap are not there.
    pub buckets: Vec<Bucket>,
    /// Its lasting changes, in order of time.
    pub changes: Vec<TrueChange>,
    /// Whether buckets have so many calls that an onset can be told to the bucket.
    pub has_many_calls: bool,
    /// Whether the onset is sudden.
    pub is_sudden: bool,
}

impl Series {
    /// Weeks that it lasts.
    pub const WEEKS: f64 = 3.0;
}

/// A number between two others.
pub fn between(rng: &mut SeededRng, low: f64, high: f64) -> f64 {
    low + (high - low) * rng.unit()
}

/// A series of three weeks in buckets of ten minutes.
pub fn series(family: NoiseFamily, kind: Kind, seed: u64) -> Series {
    let mut rng = SeededRng::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15));
    let first_of_week = rng.below(WEEK);
    let mut level = vec![0.0; COUNT];
    let mut volume = vec![0.0; COUNT];
    let changes = play(kind, &mut level, &mut volume, &mut rng);
    let mut noise = Noise::new(family, kind == Kind::SeasonOnly, &mut rng);
    let is_gap = if family == NoiseFamily::Gaps { gaps(&mut level, &mut rng) } else { vec![false; COUNT] };
    let bucket = |at: usize, noise: &mut Noise, rng: &mut SeededRng| {
        let of_week = first_of_week + at;
        let usual_ms = USUAL_MS * (level[at] + noise.next(of_week, rng)).exp();
        let calls = poisson(noise.calls * noise.volume(of_week) * f64::exp(volume[at]), rng);
        Bucket {
            at: Timestamp(0).plus_seconds(at as f64 * BUCKET_SECONDS),
            seconds: BUCKET_SECONDS,
            calls,
            exec_us: (mean_ms(usual_ms, calls, noise.of_calls, rng) * 1e3 * calls as f64) as i64,
            rows: 20 * calls,
            pages: 4 * calls,
        }
    };
    let buckets = (0..COUNT).map(|at| bucket(at, &mut noise, &mut rng)).zip(is_gap);
    Series {
        buckets: buckets.filter(|(_, is_gap)| !is_gap).map(|(bucket, _)| bucket).collect(),
        changes,
        has_many_calls: family != NoiseFamily::FewCalls,
        is_sudden: kind == Kind::Level,
    }
}

/// Puts in what happens, on the log scale of level and of calls.
fn play(kind: Kind, level: &mut [f64], volume: &mut [f64], rng: &mut SeededRng) -> Vec<TrueChange> {
    let raise = |from: usize, to: usize, step: f64, level: &mut [f64]| {
        level[from..to].iter_mut().for_each(|level| *level += step);
    };
    let signed =
        |low: f64, high: f64, rng: &mut SeededRng| between(rng, low, high) * if rng.unit() < 0.65 { 1.0 } else { -1.0 };
    match kind {
        Kind::Level => {
            let wanted = 1 + rng.below(3);
            let mut onsets: Vec<usize> = Vec::new();
            while onsets.len() < wanted {
                let onset = 300 + rng.below(COUNT - 600);
                if onsets.iter().all(|other| onset.abs_diff(*other) > 3 * BUCKETS_A_DAY) {
                    onsets.push(onset);
                }
            }
            onsets.sort_unstable();
            let mut total: f64 = 0.0;
            let mut change = |onset: usize| {
                let step = signed(1.3f64.ln(), 1.4, rng);
                // None that brings the first level back: that would be a repair.
                let step = if total != 0.0 && (total + step).abs() < 0.25 { -step } else { step };
                total += step;
                raise(onset, COUNT, step, level);
                TrueChange { onset, complete: onset, ratio: step.exp() }
            };
            onsets.into_iter().map(&mut change).collect()
        }
        Kind::Ramp => {
            let (onset, length) = (300 + rng.below(COUNT - 900), 36 + rng.below(250));
            let step = signed(0.35, 1.4, rng);
            for (i, level) in level[onset..].iter_mut().enumerate() {
                *level += step * (i as f64 / length as f64).min(1.0);
            }
            vec![TrueChange { onset, complete: onset + length, ratio: step.exp() }]
        }
        Kind::Recovered => {
            let (from, length) = (200 + rng.below(COUNT - 600), 6 + rng.below(210));
            raise(from, from + length, between(rng, 0.35, 1.8), level);
            Vec::new()
        }
        Kind::Spike => {
            for _ in 0..1 + rng.below(4) {
                let from = rng.below(COUNT - 3);
                raise(from, from + 1 + rng.below(3), between(rng, 1.0, 3.5), level);
            }
            Vec::new()
        }
        Kind::VolumeOnly => {
            raise(300 + rng.below(COUNT - 600), COUNT, signed(0.4, 1.5, rng), volume);
            Vec::new()
        }
        Kind::Quiet | Kind::SeasonOnly => Vec::new(),
    }
}

/// Gaps, and behind each a cache that warms up.
fn gaps(level: &mut [f64], rng: &mut SeededRng) -> Vec<bool> {
    let mut is_gap = vec![false; COUNT];
    for _ in 0..2 + rng.below(4) {
        let from = rng.below(COUNT - 1);
        let to = (from + 10f64.powf(between(rng, 0.3, 2.4)) as usize).min(COUNT);
        is_gap[from..to].fill(true);
        let (cold, step) = (2 + rng.below(6), between(rng, 0.3, 1.5));
        for (i, level) in level[to..].iter_mut().take(cold).enumerate() {
            *level += step * (1.0 - i as f64 / cold as f64);
        }
    }
    is_gap
}

/// A number of calls around a mean: Knuth's way for few, a normal number for many.
pub(crate) fn poisson(mean: f64, rng: &mut SeededRng) -> i64 {
    if mean > 50.0 {
        return (mean + mean.sqrt() * rng.normal()).round().max(0.0) as i64;
    }
    let (least, mut product, mut count) = ((-mean).exp(), rng.unit(), 0);
    while product > least {
        product *= rng.unit();
        count += 1;
    }
    count
}

/// The mean length of so many calls, each of them lognormal around the usual.
pub(crate) fn mean_ms(usual_ms: f64, calls: i64, spread: f64, rng: &mut SeededRng) -> f64 {
    if calls == 0 {
        return 0.0;
    }
    if calls > DRAWN_CALLS {
        let of_one = ((spread * spread).exp() - 1.0).sqrt();
        return usual_ms * (1.0 + of_one / (calls as f64).sqrt() * rng.normal()).max(0.2);
    }
    let sum: f64 = (0..calls).map(|_| (spread * rng.normal() - spread * spread / 2.0).exp()).sum();
    usual_ms * sum / calls as f64
}
