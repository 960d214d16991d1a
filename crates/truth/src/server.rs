use hurnix_core::findings::effect::{BeforeAfter, Moved};
use hurnix_core::findings::lasting_change::Bucket;
use hurnix_core::findings::robust::SeededRng;
use hurnix_core::{Timestamp, Window};
use strum::{EnumIter, IntoEnumIterator, IntoStaticStr};

use crate::noise::{Noise, NoiseFamily};
use crate::series::{BUCKET_SECONDS, BUCKETS_A_DAY, between, mean_ms, poisson};

/// Families of a server that a change does not touch.
const MOST_OTHERS: usize = 40;
/// What becomes of one that another index helps.
const HELPED: f64 = 0.1;

/// What happens on a server when a change is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, EnumIter, IntoStaticStr)]
#[strum(serialize_all = "snake_case")]
pub enum Scene {
    /// Nothing: the change does nothing, and nothing else happens.
    Nothing,
    /// The change does nothing, and the whole server becomes slower.
    WholeServerSlower,
    /// The change does nothing, and the whole server becomes faster.
    WholeServerFaster,
    /// The change does nothing, and everything is called twice as often, which slows it down somewhat.
    LoadDoubled,
    /// The change does nothing, and another index helps some of the others at the same time.
    AnotherIndex,
    /// The change helps.
    Helps,
    /// The change hurts.
    Hurts,
    /// The change helps while the whole server becomes slower.
    HelpsOnSlowerServer,
}

impl Scene {
    /// What a change does to the time per call of what it touches.
    fn factor(self, rng: &mut SeededRng) -> f64 {
        match self {
            Scene::Helps | Scene::HelpsOnSlowerServer => between(rng, 0.02, 0.5),
            Scene::Hurts => between(rng, 2.0, 6.0),
            _ => 1.0,
        }
    }

    /// What becomes of the whole server's time per call.
    fn drift(self, rng: &mut SeededRng) -> f64 {
        match self {
            Scene::WholeServerSlower | Scene::HelpsOnSlowerServer => between(rng, 1.2, 3.0),
            Scene::WholeServerFaster => 1.0 / between(rng, 1.2, 3.0),
            Scene::LoadDoubled => between(rng, 1.0, 1.5),
            _ => 1.0,
        }
    }

    /// Whether the change does nothing: then any verdict that it did is wrong.
    pub fn is_placebo(self) -> bool {
        !matches!(self, Scene::Helps | Scene::Hurts | Scene::HelpsOnSlowerServer)
    }

    /// Whether the change saves time.
    pub fn helps(self) -> bool {
        matches!(self, Scene::Helps | Scene::HelpsOnSlowerServer)
    }
}

/// A server on which a change was made: what was touched, what was not, and what is true of it.
#[derive(Debug, Clone)]
pub struct ChangedServer {
    /// Families that the change touches.
    pub touched: Vec<Vec<Bucket>>,
    /// Those that it cannot touch.
    pub others: Vec<Vec<Bucket>>,
    /// When the change was made.
    pub change: Window,
}

impl ChangedServer {
    /// Both sides of what was touched, and of what was not, with so many buckets since the change.
    pub fn sides(&self, after: usize) -> (Vec<BeforeAfter>, Vec<BeforeAfter>) {
        let later = Some(self.change.to.plus_seconds(after as f64 * BUCKET_SECONDS));
        let moved = Moved { later, ..Moved::default() };
        let sides = |families: &[Vec<Bucket>]| {
            families.iter().map(|buckets| BeforeAfter::around(buckets, self.change, &moved, BUCKET_SECONDS)).collect()
        };
        (sides(&self.touched), sides(&self.others))
    }
}

/// A server with one to three touched families and three to forty others, from half a day to eight days before a change
/// to a day behind it. How a drift of the whole server reaches a single family differs by a fifth.
pub fn changed_server(scene: Scene, seed: u64) -> ChangedServer {
    let mut rng = SeededRng::new(seed.wrapping_mul(0x9e37_79b9_7f4a_7c15) ^ 0x5eed);
    let before = 10f64.powf(between(&mut rng, 1.86, 3.06)) as usize;
    let count = before + 1 + BUCKETS_A_DAY;
    let (factor, drift) = (scene.factor(&mut rng), scene.drift(&mut rng));
    let calls = if scene == Scene::LoadDoubled { 2.0 } else { 1.0 };
    let of_week = rng.below(7 * BUCKETS_A_DAY);
    let noises: Vec<NoiseFamily> = NoiseFamily::iter().collect();
    let mut family = |own: f64| {
        let mut noise = Noise::new(noises[rng.below(noises.len())], false, &mut rng);
        let usual_ms = 10f64.powf(between(&mut rng, -1.0, 2.0));
        let reached = if drift == 1.0 { 1.0 } else { drift * (0.2 * rng.normal()).exp() };
        let buckets = (0..count).map(|at| {
            let (level, calls) = if at < before { (1.0, 1.0) } else { (own * reached, calls) };
            let ms = usual_ms * level * noise.next(of_week + at, &mut rng).exp();
            let calls = poisson(noise.calls * noise.volume(of_week + at) * calls, &mut rng);
            Bucket {
                at: Timestamp(0).plus_seconds(at as f64 * BUCKET_SECONDS),
                seconds: BUCKET_SECONDS,
                calls,
                exec_us: (mean_ms(ms, calls, noise.of_calls, &mut rng) * 1e3 * calls as f64) as i64,
                rows: 0,
                pages: 0,
            }
        });
        buckets.collect::<Vec<Bucket>>()
    };
    let touched = (0..1 + seed as usize % 3).map(|_| family(factor)).collect();
    let others = 3 + (seed as usize * 7) % (MOST_OTHERS - 2);
    let is_helped = |n: usize| scene == Scene::AnotherIndex && n.is_multiple_of(4);
    let others = (0..others).map(|n| family(if is_helped(n) { HELPED } else { 1.0 })).collect();
    let at = |bucket: usize| Timestamp(0).plus_seconds(bucket as f64 * BUCKET_SECONDS);
    ChangedServer { touched, others, change: Window { from: at(before), to: at(before + 1) } }
}
