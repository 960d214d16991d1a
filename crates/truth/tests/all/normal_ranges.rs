use hurnix_truth::{MetricScene, NoiseFamily, Ranged, metric_series};
use strum::IntoEnumIterator;

/// Metrics of each noise and scene: 432 in all.
const EACH: u64 = 9;
/// The rule was made with other seeds.
const FIRST_SEED: u64 = 500_000;

fn judged(family: NoiseFamily, scenes: impl Iterator<Item = MetricScene>) -> Ranged {
    let mut judged = Ranged::default();
    for scene in scenes {
        for seed in FIRST_SEED..FIRST_SEED + EACH {
            judged.add(&metric_series(family, scene, seed));
        }
    }
    judged
}

#[test]
fn what_is_outside_is_told_soon_and_what_is_usual_seldom() {
    let mut all = Ranged::default();
    for family in NoiseFamily::iter() {
        let of_family = judged(family, MetricScene::iter());
        let (invented, found) = (of_family.invented_of_each(), of_family.found_in_time());
        assert!(invented <= 1.6, "{family:?}: {invented:.2} false alarms of a metric in a fortnight");
        assert!(found >= 0.8, "{family:?}: {found:.3} found in time");
        all = all.and(of_family);
    }
    assert!(all.invented.len() >= 400);
    let (invented, found) = (all.invented_of_each(), all.found_in_time());
    assert!(invented <= 1.0, "{invented:.2} false alarms of a metric in a fortnight");
    // It is 95 % over many seeds, as the bench tells; 162 changes tell it to within two in a hundred.
    assert!(found >= 0.93, "{found:.3} found in time");
}
