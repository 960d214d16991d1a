use hurnix_core::Timestamp;
use hurnix_core::findings::robust::{SeededRng, scaled_mad};
use strum::{EnumIter, IntoStaticStr};

use crate::noise::{Noise, NoiseFamily};
use crate::series::{BUCKETS_A_DAY, between, poisson};

/// Buckets that are judged: a fortnight.
pub const JUDGED: usize = 14 * BUCKETS_A_DAY;
/// Buckets of history before: four weeks.
const HISTORY: usize = 28 * BUCKETS_A_DAY;
/// Spreads by which a level changes.
const STEP: f64 = 5.0;
/// A Monday at midnight.
const MONDAY: Timestamp = Timestamp(1_795_996_800_000_000);
/// Usual value of a metric that is not counted one by one.
const USUAL: f64 = 100.0;

/// What happens to a metric while it is judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, EnumIter, IntoStaticStr)]
#[strum(serialize_all = "snake_case")]
pub enum Scene {
    /// Nothing.
    Quiet,
    /// Nothing but the hour and the weekend.
    SeasonOnly,
    /// It grows or shrinks by 20 to 60 % over the weeks.
    Trend,
    /// Single wild values, one to eight.
    Spikes,
    /// Its level changes by five spreads.
    Stepped,
    /// Its level changes by five spreads, with the hour and the weekend.
    SteppedInSeason,
    /// Nothing, and it was first seen one to seven days ago.
    FirstDays,
    /// Its level changes by five spreads after the first days.
    SteppedAfterFirstDays,
    /// Nothing but the hour and the weekend, and it was first seen one to seven days ago.
    FirstDaysInSeason,
}

/// A metric with what is true of it.
#[derive(Debug, Clone)]
pub struct MetricSeries {
    /// When its first bucket begins.
    pub start: Timestamp,
    /// Its values, bucket by bucket; those that were not seen are not a number.
    pub values: Vec<f64>,
    /// Number of the first bucket that is judged.
    pub judged_from: usize,
    /// Number of the bucket from which its level is another.
    pub changed_at: Option<usize>,
}

/// A metric of four weeks, or of its first days, and the fortnight after them.
pub fn metric_series(family: NoiseFamily, scene: Scene, seed: u64) -> MetricSeries {
    let mut rng = SeededRng::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ scene as u64);
    let is_young = matches!(scene, Scene::FirstDays | Scene::SteppedAfterFirstDays | Scene::FirstDaysInSeason);
    let history = if is_young { (between(&mut rng, 1.0, 7.0) * BUCKETS_A_DAY as f64) as usize } else { HISTORY };
    let count = history + JUDGED;
    let first = rng.below(7 * BUCKETS_A_DAY);
    let has_season = matches!(scene, Scene::SeasonOnly | Scene::SteppedInSeason | Scene::FirstDaysInSeason);
    let mut noise = Noise::new(family, has_season, &mut rng);
    let scatter: Vec<f64> = (0..count).map(|_| noise.scatter(&mut rng)).collect();
    let of_season = |at: usize| noise.of_season(first + at);
    let is_counted = family == NoiseFamily::FewCalls;
    let is_log = rng.unit() < 0.5;
    let spread = scaled_mad(&scatter).unwrap_or_default();
    let is_stepped = matches!(scene, Scene::Stepped | Scene::SteppedInSeason | Scene::SteppedAfterFirstDays);
    let changed_at = is_stepped.then(|| history + rng.below(JUDGED - BUCKETS_A_DAY));
    // What is counted and few can only become more.
    let sign = if is_counted || rng.unit() < 0.65 { 1.0 } else { -1.0 };
    let slope = if scene == Scene::Trend { between(&mut rng, 0.2, 0.6) * sign / count as f64 } else { 0.0 };
    let mut level: Vec<f64> = (0..count).map(|at| slope * at as f64).collect();
    if scene == Scene::Spikes {
        for _ in 0..1 + rng.below(8) {
            level[history + rng.below(JUDGED)] += between(&mut rng, 1.0, 3.5);
        }
    }
    let stepped = |at: usize| changed_at.is_some_and(|changed_at| at >= changed_at);
    let mut values: Vec<f64> = (0..count)
        .map(|at| {
            let step = if stepped(at) { STEP * sign } else { 0.0 };
            let moved = level[at] + of_season(at);
            if is_counted {
                let mean = noise.calls * moved.exp();
                poisson(mean + step * noise.calls.sqrt(), &mut rng) as f64
            } else if is_log {
                USUAL * (moved + scatter[at] + step * spread).exp()
            } else {
                USUAL * (1.0 + moved + scatter[at] + step * spread)
            }
        })
        .collect();
    if family == NoiseFamily::Gaps {
        for _ in 0..2 + rng.below(4) {
            let from = rng.below(count - 1);
            let length = 10f64.powf(between(&mut rng, 0.3, 2.4)) as usize;
            // A gap does not begin where the change does: nobody could tell it within three values.
            let hides = |changed_at: usize| (from..from + length + 3).contains(&changed_at);
            if !changed_at.is_some_and(hides) {
                values[from..(from + length).min(count)].fill(f64::NAN);
            }
        }
    }
    let start = MONDAY.plus_seconds(first as f64 * crate::series::BUCKET_SECONDS);
    MetricSeries { start, values, judged_from: history, changed_at }
}
