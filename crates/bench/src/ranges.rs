use std::time::Instant;

use hurnix_core::Timestamp;
use hurnix_core::findings::lasting_change::{self, Observed, ServerSeries};
use hurnix_core::findings::normal_range::{NormalRange, Unusual};
use hurnix_truth::{MetricScene, MetricSeries, NoiseFamily, Ranged, metric_series};
use strum::IntoEnumIterator;

use crate::Measured;

/// Metrics of each noise and scene.
const EACH: u64 = 30;
/// Metrics at three sizes, to see how the time grows.
const SIZES: [usize; 3] = [100, 320, 1_000];
/// Values of four weeks.
const FOUR_WEEKS: usize = 28 * 144;
/// Seconds that the largest may take on two cores.
const MOST_SECONDS: f64 = 1.0;

/// Servers whose figures are judged each minute, figures of each, and the share of a core that it may take.
const SERVERS: usize = 500;
const FIGURES: usize = 150;
const MOST_OF_CORE: f64 = 0.05;

/// Rule 3 on labelled metrics of all kinds of noise, and its speed.
pub fn run() {
    let mut all = Ranged::default();
    for scene in MetricScene::iter() {
        let judged = NoiseFamily::iter().fold(Ranged::default(), |sum, family| sum.and(judged(family, scene)));
        print(&format!("of {}", <&str>::from(scene)), &judged);
        all = all.and(judged);
    }
    for family in NoiseFamily::iter() {
        let judged = MetricScene::iter().fold(Ranged::default(), |sum, scene| sum.and(judged(family, scene)));
        print(&format!("with noise {}", <&str>::from(family)), &judged);
    }
    print(&format!("all {} metrics", all.invented.len()), &all);
    speed();
    judging();
}

fn judged(family: NoiseFamily, scene: MetricScene) -> Ranged {
    let mut judged = Ranged::default();
    for seed in 0..EACH {
        judged.add(&metric_series(family, scene, seed));
    }
    judged
}

/// One line for each figure, against what it must reach.
fn print(of: &str, judged: &Ranged) {
    let found = judged.found_in_time();
    let figures = [
        ("false alarms of a metric in a fortnight", judged.invented_of_each(), 1.0),
        ("share of metrics with more than one", judged.more_than_one(), 0.02),
        ("changes of five spreads told within three values", found, 0.95),
    ];
    for (what, value, limit) in figures {
        Measured {
            bench: format!("ranges, {of}: {what}"),
            value,
            unit: "",
            against: "what it must reach",
            ratio: value / limit,
        }
        .print();
    }
}

/// What is usual of many metrics over four weeks, on two threads.
fn speed() {
    let made: Vec<MetricSeries> =
        NoiseFamily::iter().map(|family| metric_series(family, MetricScene::SeasonOnly, 1)).collect();
    let made = &made;
    let mut first = None;
    for size in SIZES {
        let begun = Instant::now();
        std::thread::scope(|scope| {
            for half in 0..2 {
                scope.spawn(move || {
                    for n in (half..size).step_by(2) {
                        let series = &made[n % made.len()];
                        std::hint::black_box(NormalRange::learn(&series.values[..FOUR_WEEKS], series.start, 600.0));
                    }
                });
            }
        });
        let seconds = begun.elapsed().as_secs_f64();
        let each = seconds / size as f64;
        Measured {
            bench: format!("ranges: what is usual of {size} metrics over four weeks, two cores"),
            value: seconds,
            unit: "s",
            against: if size == SIZES[2] { "what it may take" } else { "the same for each of 100 metrics" },
            ratio: if size == SIZES[2] { seconds / MOST_SECONDS } else { each / *first.get_or_insert(each) },
        }
        .print();
    }
}

/// Judging the newest value of every figure of many servers, once.
fn judging() {
    let at = |bucket: usize| Timestamp(0).plus_seconds(bucket as f64 * 600.0);
    let metrics = (0..FIGURES).map(|n| format!("storage_busy device {n}"));
    let observed = |buckets: std::ops::Range<usize>| Observed {
        bucket_seconds: 600.0,
        server: metrics
            .clone()
            .map(|object| ServerSeries {
                measured: lasting_change::Measured::Metric,
                object,
                counts: false,
                values: buckets.clone().map(|bucket| (at(bucket), 0.3 + 0.1 * (bucket as f64).sin(), 1.0)).collect(),
            })
            .collect(),
        ..Observed::default()
    };
    let mut learnt = Unusual::default();
    learnt.learn(&observed(0..2_016), |at| at);
    let mut servers = vec![learnt; SERVERS];
    let newest = observed(2_016..2_017);
    let begun = Instant::now();
    for unusual in &mut servers {
        std::hint::black_box(unusual.judge(&newest, |at| at));
    }
    let share = begun.elapsed().as_secs_f64() / 60.0;
    Measured {
        bench: format!("ranges: judging {FIGURES} figures of each of {SERVERS} servers each minute, of one core"),
        value: 100.0 * share,
        unit: "%",
        against: "what it may take",
        ratio: share / MOST_OF_CORE,
    }
    .print();
}
