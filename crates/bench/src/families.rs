use std::hint::black_box;
use std::time::Instant;

use hurnix_core::readings::family::fold;

use crate::{Measured, median};

/// Rule 6: megabytes of statements folded in a second, against looking for one letter in them.
pub fn run() {
    let texts: Vec<String> = (0..2_000)
        .map(|n| {
            format!(
                "SELECT l.crossing_id, l.state, v.metres - {n} FROM passage_leg l JOIN \"Vessel\" v USING (vessel_id)\n\
                 WHERE l.crossing_id IN ({n}, {}, {}) AND l.state = 'boarded' AND v.name LIKE 'tern-{n}%' ORDER BY 1 LIMIT 50",
                n + 1,
                n + 2
            )
        })
        .collect();
    let megabytes = texts.iter().map(String::len).sum::<usize>() as f64 / 1e6;
    let per_second = |work: &dyn Fn(&str) -> usize| {
        let runs = (0..30).map(|_| {
            let start = Instant::now();
            black_box(texts.iter().map(|text| work(black_box(text))).sum::<usize>());
            megabytes / start.elapsed().as_secs_f64()
        });
        median(runs.collect())
    };
    let (folded, passed) = (per_second(&|text| fold(text).text.len()), per_second(&|text| text.matches('Q').count()));
    Measured {
        bench: "families folded".into(),
        value: folded,
        unit: "MB/s",
        against: "one letter looked for in the same texts",
        ratio: folded / passed,
    }
    .print();
}
