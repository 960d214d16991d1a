use hurnix_core::findings::effect::{Verdict, effect};
use hurnix_truth::{Scene, changed_server};
use strum::IntoEnumIterator;

/// Servers of each scene.
const EACH: u64 = 80;
/// The rule was made with other seeds.
const FIRST_SEED: u64 = 400_000;
/// Buckets after the change at which a verdict is asked for.
const AFTER: [usize; 3] = [6, 30, 144];

/// The verdicts on all servers of a scene, for each number of buckets after the change.
fn verdicts(scene: Scene) -> [Vec<Verdict>; 3] {
    let mut verdicts = [const { Vec::new() }; 3];
    for seed in FIRST_SEED..FIRST_SEED + EACH {
        let server = changed_server(scene, seed);
        for (after, verdicts) in AFTER.into_iter().zip(&mut verdicts) {
            let (touched, others) = server.sides(after);
            verdicts.push(effect(&touched, &others, seed).verdict);
        }
    }
    verdicts
}

fn share(verdicts: &[Verdict], of: &[Verdict]) -> f64 {
    verdicts.iter().filter(|verdict| of.contains(verdict)).count() as f64 / verdicts.len() as f64
}

#[test]
fn what_did_nothing_is_not_called_anything_else() {
    for scene in Scene::iter().filter(|scene| scene.is_placebo()) {
        let all = verdicts(scene).concat();
        let wrong = share(&all, &[Verdict::Confirmed, Verdict::Harmful]);
        assert!(wrong <= 0.05, "{scene:?}: {wrong:.3} wrong");
    }
}

#[test]
fn what_helped_and_what_hurt_is_told_within_a_day_and_never_taken_for_the_other() {
    for scene in Scene::iter().filter(|scene| !scene.is_placebo()) {
        let (right, wrong) =
            if scene.helps() { (Verdict::Confirmed, Verdict::Harmful) } else { (Verdict::Harmful, Verdict::Confirmed) };
        for (after, verdicts) in AFTER.into_iter().zip(verdicts(scene)) {
            assert_eq!(share(&verdicts, &[wrong]), 0.0, "{scene:?} after {after} buckets");
            let told = share(&verdicts, &[right]);
            let wanted = if after == 144 { 0.85 } else { 0.5 };
            assert!(told >= wanted, "{scene:?} after {after} buckets: {told:.3} right");
        }
    }
}
