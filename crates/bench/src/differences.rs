use std::hint::black_box;
use std::time::Instant;

use hurnix_core::Timestamp;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::difference::{Evictions, Snapshot, Trace, between};
use hurnix_core::readings::statement::StatementKey;

use crate::{Measured, median};

type Statements = Snapshot<StatementKey, StatementCounters>;

/// Rule 1 on snapshots of three sizes: milliseconds for one difference, and how it grows against 5,000.
pub fn run() {
    let sizes = [500, 5_000, 50_000];
    let times = sizes.map(|size| {
        let (earlier, later) = (snapshot(size, 1), snapshot(size, 2));
        let runs = 2_000_000 / size;
        median(
            (0..runs.max(20))
                .map(|_| {
                    let start = Instant::now();
                    black_box(between(black_box(&earlier), black_box(&later), 1e9)).expect("there is a difference");
                    start.elapsed().as_secs_f64() * 1e3
                })
                .collect(),
        )
    });
    for (size, ms) in sizes.into_iter().zip(times) {
        Measured {
            bench: format!("differences of {size} statements"),
            value: ms,
            unit: "ms",
            against: "differences of 5000 statements",
            ratio: ms / times[1],
        }
        .print();
    }
}

/// One in four statements ran between two rounds.
fn snapshot(size: usize, round: i64) -> Statements {
    let rows = (0..size as i64).map(|n| {
        let query_id = n.wrapping_mul(0x5851_f42d_4c95_7f2d);
        let key = StatementKey { database_oid: 16_384, account_oid: 10 + (n % 7) as u32, query_id, top_level: true };
        let ran = if n % 4 == 0 { round } else { 1 };
        let counters = StatementCounters {
            calls: ran * 10,
            exec_us: ran * 12_345,
            rows: ran * 70,
            hit_pages: ran * 400,
            log_bytes: ran * 900,
            ..Default::default()
        };
        (key, counters)
    });
    Snapshot {
        reset_at: Some(Timestamp(0)),
        evictions: Evictions::Times(0),
        traces: (0..size).map(|n| Trace::Largest((n as i64) * 7_919 % 40_000_000)).collect(),
        ..Snapshot::new(Timestamp(round * 60_000_000), Timestamp(0), rows.collect())
    }
}
