use std::fs::File;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::time::Instant;

use anyhow::{Context, Result, ensure};
use hurnix_core::Timestamp;
use hurnix_core::WaitKind;
use hurnix_core::findings::lasting_change::{
    Bucket, FamilySeries, LastingChange, Observed, Patterns, RECENT_BUCKETS, Thresholds, WaitSeries,
    changes_of_instance, lasting_changes,
};
use hurnix_truth::{Judged, Kind, NoiseFamily, Series, series};
use serde::Deserialize;
use serde_json::json;
use strum::IntoEnumIterator;

use crate::Measured;

/// Series of each noise and kind.
const EACH: u64 = 20;
/// Families at three sizes, to see how the time grows.
const SIZES: [usize; 3] = [500, 1_600, 5_000];
/// Seconds that the largest may take on two cores.
const MOST_SECONDS: f64 = 5.0;
/// Seconds that everything of them may take once.
const MOST_SECONDS_OF_ALL: f64 = 60.0;
/// Families that can take a thousandth of an instance's time.
const MOST_LOOKED_AT: usize = 1_000;
/// Time of the instance so small that every change matters to it.
const NO_TIME: f64 = 1e-9;

/// Rule 4 on labelled series of all kinds of noise, and its speed.
pub fn run() {
    let mut all = Judged::default();
    for kind in Kind::iter() {
        let judged = NoiseFamily::iter().fold(Judged::default(), |sum, family| sum.and(&judged(family, kind)));
        print(&format!("of kind {}", <&str>::from(kind)), &judged);
        all = all.and(&judged);
    }
    for family in NoiseFamily::iter() {
        let judged = Kind::iter().fold(Judged::default(), |sum, kind| sum.and(&judged(family, kind)));
        print(&format!("with noise {}", <&str>::from(family)), &judged);
    }
    print("all", &all);
    let made = families();
    speed(&made);
    speed_of_everything(&made);
}

fn judged(family: NoiseFamily, kind: Kind) -> Judged {
    let mut judged = Judged::default();
    for seed in 0..EACH {
        let series = series(family, kind, seed);
        judged.add(&series, &lasting_changes(&series.buckets, 600.0, NO_TIME));
    }
    judged
}

/// One line for each figure, against what it must reach; a ratio of 1 and more is good where more is.
fn print(of: &str, judged: &Judged) {
    let figures = [
        ("F1", judged.f1(), 0.95),
        ("precision", judged.precision(), 0.95),
        ("recall", judged.recall(), 0.95),
        ("intervals of the ratio that hold it", judged.ratio_coverage(), 0.95),
        ("intervals of the onset that hold it", judged.onset_coverage(), 0.9),
        ("sudden onsets told within one bucket, where calls are many", judged.onset_within_a_bucket(), 0.85),
        ("false changes per 100 quiet weeks", judged.invented_per_100_weeks(), 2.0),
    ];
    for (what, value, limit) in figures {
        Measured {
            bench: format!("changes, {of}: {what}"),
            value,
            unit: "",
            against: "what it must reach",
            ratio: value / limit,
        }
        .print();
    }
}

/// Families of a server: most of them are quiet.
fn families() -> Vec<Series> {
    let kinds: Vec<(NoiseFamily, Kind)> =
        NoiseFamily::iter().flat_map(|family| Kind::iter().map(move |kind| (family, kind))).collect();
    let of = |n: usize| {
        if n.is_multiple_of(10) { kinds[n / 10 % kinds.len()] } else { (kinds[n % kinds.len()].0, Kind::Quiet) }
    };
    (0..420).map(|n| series(of(n).0, of(n).1, n as u64)).collect()
}

/// Everything that is measured of as many families, with two kinds of waits each: over three weeks as when a past is
/// brought in, and over the three days that each new bucket is looked at with. Of these, a family is looked at where it
/// took a thousandth of the instance's time on one day; there cannot be more than a thousand of them.
fn speed_of_everything(made: &[Series]) {
    let observed = |count: usize, last: usize| {
        let family = |n: usize| {
            let buckets = &made[n % made.len()].buckets;
            let buckets: Vec<Bucket> = buckets[buckets.len().saturating_sub(last)..]
                .iter()
                .map(|bucket| Bucket { rows: 20 * bucket.calls, pages: 100 * bucket.calls, ..*bucket })
                .collect();
            let waits = [WaitKind::StorageRead, WaitKind::Lock].map(|kind| {
                let seen = |bucket: &Bucket| (bucket.exec_us / 10_000_000) as f64;
                WaitSeries { kind, each_seconds: 10.0, seen: buckets.iter().map(seen).collect() }
            });
            FamilySeries { family: n as i64, buckets, waits: waits.into() }
        };
        let families: Vec<FamilySeries> = (0..count).map(family).collect();
        let start = families[0].buckets[0].at;
        Observed { start, bucket_seconds: 600.0, families, ..Observed::default() }
    };
    let took = |observed: &Observed| {
        let begun = Instant::now();
        std::hint::black_box(changes_of_instance(observed, Thresholds::default(), &Patterns::new()));
        begun.elapsed().as_secs_f64()
    };
    let mut first = None;
    for size in SIZES {
        let value = took(&observed(size, usize::MAX));
        let each = value / size as f64;
        Measured {
            bench: format!("changes: everything of {size} families over three weeks, one core"),
            value,
            unit: "s",
            against: if size == SIZES[2] { "what it may take" } else { "the same for each of 500 families" },
            ratio: if size == SIZES[2] { value / MOST_SECONDS_OF_ALL } else { each / *first.get_or_insert(each) },
        }
        .print();
    }
    let value = took(&observed(MOST_LOOKED_AT, RECENT_BUCKETS as usize));
    Measured {
        bench: format!("changes: everything of {MOST_LOOKED_AT} families, with one new bucket, one core"),
        value,
        unit: "s",
        against: "what it may take",
        ratio: value,
    }
    .print();
}

/// Time per call of many families over three weeks, on two threads.
fn speed(made: &[Series]) {
    let mut first = None;
    for size in SIZES {
        let begun = Instant::now();
        std::thread::scope(|scope| {
            for half in 0..2 {
                scope.spawn(move || {
                    for n in (half..size).step_by(2) {
                        std::hint::black_box(lasting_changes(&made[n % made.len()].buckets, 600.0, NO_TIME));
                    }
                });
            }
        });
        let seconds = begun.elapsed().as_secs_f64();
        let each = seconds / size as f64;
        Measured {
            bench: format!("changes: time per call of {size} families over three weeks, two cores"),
            value: seconds,
            unit: "s",
            against: if size == SIZES[2] { "what it may take" } else { "the same for each of 500 families" },
            ratio: if size == SIZES[2] { seconds / MOST_SECONDS } else { each / *first.get_or_insert(each) },
        }
        .print();
    }
}

/// A series of somebody else's, as docs/formats/series.md has it.
#[derive(Deserialize)]
struct Given {
    calls: Vec<f64>,
    exec_ms: Vec<Option<f64>>,
    bucket_seconds: f64,
}

/// Judges each series of a file; one line of changes for each.
pub fn run_on(file: &Path) -> Result<()> {
    let lines = BufReader::new(File::open(file).with_context(|| format!("opening {}", file.display()))?).lines();
    for (number, line) in lines.enumerate() {
        let place = || format!("line {} of {}", number + 1, file.display());
        let given: Given = serde_json::from_str(&line?).with_context(place)?;
        let (calls, times) = (given.calls.len(), given.exec_ms.len());
        ensure!(calls == times, "{}: {calls} calls and {times} exec_ms; give one of each for a bucket", place());
        ensure!(given.bucket_seconds >= 1.0, "{}: bucket_seconds is {}; give 1 or more", place(), given.bucket_seconds);
        println!("{}", told(&given));
    }
    Ok(())
}

fn told(given: &Given) -> serde_json::Value {
    let at = |bucket: usize| Timestamp(0).plus_seconds(bucket as f64 * given.bucket_seconds);
    let number = |at: Timestamp| (at.seconds_since(Timestamp(0)) / given.bucket_seconds).round() as i64;
    let buckets: Vec<Bucket> = given
        .calls
        .iter()
        .zip(&given.exec_ms)
        .enumerate()
        .map(|(bucket, (calls, ms))| {
            let calls = if ms.is_some() { calls.round() as i64 } else { 0 };
            // In thousandths of a microsecond, so that the shortest calls are not cut off: only ratios are told.
            let exec_us = (ms.unwrap_or_default() * 1e6 * calls as f64) as i64;
            Bucket { at: at(bucket), seconds: given.bucket_seconds, calls, exec_us, rows: 0, pages: 0 }
        })
        .collect();
    let changes = lasting_changes(&buckets, given.bucket_seconds, NO_TIME);
    let one = |change: &LastingChange| {
        let (low, high) = change.onset_between.unwrap_or((change.onset, change.onset));
        json!({
            "onset_bucket": number(change.onset), "onset_low": number(low), "onset_high": number(high),
            "ratio": change.ratio.value, "ratio_low": change.ratio.low, "ratio_high": change.ratio.high,
            "holds": change.until.is_none(),
        })
    };
    json!({ "changes": changes.iter().filter(|change| !change.passed).map(one).collect::<Vec<_>>() })
}
