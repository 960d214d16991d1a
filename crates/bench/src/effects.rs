use hurnix_core::findings::effect::{Verdict, effect};
use hurnix_truth::{Scene, changed_server};
use strum::IntoEnumIterator;

use crate::Measured;

/// Servers of each scene.
const EACH: u64 = 500;
/// Buckets after the change at which a verdict is asked for.
const AFTER: [usize; 3] = [6, 36, 144];
/// Share of wrong verdicts that is allowed, and of right ones that is wanted after a day.
const MOST_WRONG: f64 = 0.05;
const LEAST_RIGHT: f64 = 0.9;

/// Rule 11 on servers where a change did something, or nothing.
pub fn run() {
    for scene in Scene::iter() {
        let of_seeds: Vec<[Verdict; 3]> = (0..EACH).map(|seed| verdicts(scene, seed)).collect();
        for (place, after) in AFTER.into_iter().enumerate() {
            let share = |is: &dyn Fn(Verdict) -> bool| {
                of_seeds.iter().filter(|verdicts| is(verdicts[place])).count() as f64 / EACH as f64
            };
            let name = <&str>::from(scene);
            let print = |what: &str, value: f64, against: &'static str, limit: f64| {
                let bench = format!("effects, {name}: {what} {after} buckets after it");
                Measured { bench, value, unit: "", against, ratio: value / limit }.print();
            };
            let (helped, hurt) =
                (share(&|verdict| verdict == Verdict::Confirmed), share(&|verdict| verdict == Verdict::Harmful));
            let (right, wrong) = match (scene.is_placebo(), scene.helps()) {
                (true, _) => (share(&|verdict| verdict == Verdict::NoEffect), helped + hurt),
                (_, true) => (helped, hurt),
                _ => (hurt, helped),
            };
            print("share of wrong verdicts", wrong, "what is allowed", MOST_WRONG);
            print("share of right verdicts", right, "what is wanted after a day", LEAST_RIGHT);
        }
    }
}

fn verdicts(scene: Scene, seed: u64) -> [Verdict; 3] {
    let server = changed_server(scene, seed);
    AFTER.map(|after| {
        let (touched, others) = server.sides(after);
        effect(&touched, &others, seed).verdict
    })
}
