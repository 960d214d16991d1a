use hurnix_core::findings::lasting_change::lasting_changes;
use hurnix_truth::{Judged, Kind, NoiseFamily, series};
use strum::IntoEnumIterator;

/// Series of each noise and kind.
const EACH: u64 = 12;
/// The rule was made with other seeds.
const FIRST_SEED: u64 = 700_000;

fn judged(families: impl Iterator<Item = NoiseFamily>, kinds: &[Kind]) -> Judged {
    let mut judged = Judged::default();
    for family in families {
        for kind in kinds {
            for seed in FIRST_SEED..FIRST_SEED + EACH {
                let series = series(family, *kind, seed);
                judged.add(&series, &lasting_changes(&series.buckets, 600.0, 1e-9));
            }
        }
    }
    judged
}

#[test]
fn what_lasts_is_found_with_its_onset_and_its_size() {
    let kinds: Vec<Kind> = Kind::iter().collect();
    let all = judged(NoiseFamily::iter(), &kinds);
    assert!(all.f1() >= 0.95, "F1 {:.3}: {all:?}", all.f1());
    let coverage = all.ratio_coverage();
    assert!((0.90..=0.99).contains(&coverage), "intervals of the ratio cover {coverage:.3}: {all:?}");
    assert!(all.onset_coverage() >= 0.9, "intervals of the onset cover {:.3}: {all:?}", all.onset_coverage());
    assert!(all.onset_within_a_bucket() >= 0.85, "within a bucket {:.3}: {all:?}", all.onset_within_a_bucket());
    assert!(all.invented_per_100_weeks() <= 2.0, "{:.2} invented: {all:?}", all.invented_per_100_weeks());
}

#[test]
fn no_kind_of_noise_is_given_up() {
    for family in NoiseFamily::iter() {
        let changed = judged([family].into_iter(), &[Kind::Level, Kind::Ramp]);
        assert!(changed.f1() >= 0.85, "{family:?}: F1 {:.3}: {changed:?}", changed.f1());
        let quiet = judged(
            [family].into_iter(),
            &[Kind::Quiet, Kind::SeasonOnly, Kind::Spike, Kind::Recovered, Kind::VolumeOnly],
        );
        assert!(quiet.invented_per_100_weeks() <= 4.0, "{family:?}: {quiet:?}");
    }
}
