use std::fmt::Write;
use std::hint::black_box;
use std::time::Instant;

use hurnix_core::findings::plan_difference::difference;
use hurnix_core::readings::plan::Plan;

use crate::{Measured, median};

/// Nodes of the largest plans.
const NODES: usize = 5_000;
const MOST_MS: f64 = 50.0;

/// Rule 10: two plans held against each other, at three sizes, however much of them is alike.
pub fn run() {
    for nodes in [NODES / 4, NODES / 2, NODES] {
        let known = plan(nodes, |_| false);
        for (what, other) in [
            ("the same", plan(nodes, |_| false)),
            ("every third join another", plan(nodes, |place: usize| place.is_multiple_of(3))),
            ("every join another", plan(nodes, |_| true)),
        ] {
            let times = (0..15).map(|_| {
                let start = Instant::now();
                black_box(difference(black_box(&known), black_box(&other)));
                start.elapsed().as_secs_f64() * 1e3
            });
            let value = median(times.collect());
            let bench = format!("plans of {nodes} nodes held against each other, {what}");
            Measured { bench, value, unit: "ms", against: "the limit", ratio: value / MOST_MS }.print();
        }
    }
    let told = text(NODES, |_| false);
    let times = (0..15).map(|_| {
        let start = Instant::now();
        black_box(Plan::read(black_box(&told)).map_or(0, |plan| plan.identity()));
        start.elapsed().as_secs_f64() * 1e3
    });
    let value = median(times.collect());
    let bench = format!("a plan of {NODES} nodes read and told from others");
    Measured { bench, value, unit: "ms", against: "the limit", ratio: value / MOST_MS }.print();
}

fn plan(nodes: usize, is_other: impl Fn(usize) -> bool) -> Plan {
    Plan::read(&text(nodes, is_other)).unwrap_or_default()
}

/// Joins of two tables each, appended.
fn text(nodes: usize, is_other: impl Fn(usize) -> bool) -> String {
    let mut text = "Append  (cost=0.00..9000.00 rows=9000 width=8)\n".to_owned();
    for place in 0..nodes / 4 {
        let (join, scan) = if is_other(place) { ("Merge Join", "Sort") } else { ("Hash Join", "Hash") };
        let figures = "(cost=0.00..9.00 rows=9 width=8)";
        // Writing to a text does not fail.
        let _ = write!(
            text,
            "  ->  {join}  {figures}\n        Join Filter: (a.n = b.n)\n        ->  Seq Scan on gate_scan_{place} a  {figures}\n        ->  {scan}  {figures}\n              ->  Index Scan using booking_{place}_pkey on booking_{place} b  {figures}\n"
        );
    }
    text
}
