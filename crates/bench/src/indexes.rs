use std::collections::HashMap;
use std::hint::black_box;
use std::time::Instant;

use hurnix_core::Timestamp;
use hurnix_core::findings::index_review::{Counted, IndexEvidence, review};
use hurnix_core::findings::index_watch::{IndexUse, IndexWatch};
use hurnix_core::readings::catalog::{Catalog, Column, ColumnStatistics, Index, IndexKey, PlannerCosts, Table};
use hurnix_core::readings::counters::TableCounters;

use crate::{Measured, median};

/// Indexes of the largest catalog.
const INDEXES: usize = 5_000;
const PER_TABLE: usize = 20;
const COLUMNS: usize = 8;
const MOST_MS: f64 = 50.0;
const DAY_SECONDS: f64 = 86_400.0;
const WATCHED_DAYS: f64 = 40.0;

/// Rule 7: the review of a catalog, at three sizes.
pub fn run() {
    for indexes in [INDEXES / 4, INDEXES / 2, INDEXES] {
        let catalog = catalog(indexes / PER_TABLE);
        let watch = IndexWatch { seen_since: Timestamp(0), unread_since: Timestamp(0) };
        let here =
            catalog.indexes().filter(|(_, index)| index.oid.is_multiple_of(3)).map(|(_, index)| (index.oid, watch));
        let watched = IndexUse { here: here.collect(), ..IndexUse::default() };
        let written = TableCounters { inserted_rows: 90_000, index_reads: 9_000, full_reads: 1, ..Default::default() };
        let tables: HashMap<u32, TableCounters> = catalog.tables.iter().map(|table| (table.oid, written)).collect();
        let mut found = 0;
        let times = (0..15).map(|_| {
            let counted = Counted {
                seconds: WATCHED_DAYS * DAY_SECONDS,
                tables: &tables,
                index_reads: &HashMap::new(),
                watched: &watched,
                is_replica: false,
            };
            let start = Instant::now();
            let at = Timestamp(0).plus_seconds(WATCHED_DAYS * DAY_SECONDS);
            found = black_box(review(&IndexEvidence::new(black_box(&catalog), at, Some(counted)))).len();
            start.elapsed().as_secs_f64() * 1e3
        });
        let value = median(times.collect());
        let bench = format!("review of {indexes} indexes, {found} findings");
        Measured { bench, value, unit: "ms", against: "the limit", ratio: value / MOST_MS }.print();
    }
}

/// Tables of twenty indexes on one to three of eight columns: some say the same, some are the beginning of others.
fn catalog(tables: usize) -> Catalog {
    let statistics =
        ColumnStatistics { distinct: -0.5, width_bytes: 8.0, correlation: 0.1, ..ColumnStatistics::default() };
    let column = |place: usize| Column {
        name: format!("c{place}"),
        type_name: "bigint".into(),
        statistics: Some(statistics.clone()),
    };
    let index = |table: usize, place: usize| {
        let keys = (0..=place % 3).map(|key| IndexKey::Column(format!("c{}", (place * 5 + key * 3) % COLUMNS)));
        Index {
            oid: (table * 100 + place + 1) as u32,
            name: format!("by_{place}"),
            method: "btree".into(),
            unique: place == 0,
            valid: true,
            constraint: place == 0,
            deferrable: false,
            nulls_equal: false,
            replica_identity: false,
            part_of: None,
            keys: keys.collect(),
            order: ["3124", "0", "0"].map(|one| vec![one; place % 3 + 1].join(" ")).join("/"),
            plain: true,
            carried: Vec::new(),
            condition: None,
            size_bytes: 90_000_000,
            rows: Some(1e6),
            fill_factor: None,
        }
    };
    let table = |number: usize| Table {
        oid: (number * 100) as u32,
        schema: "public".into(),
        name: format!("booking_{number}"),
        rows: Some(1e6),
        pages: 20_000,
        size_bytes: 160_000_000,
        columns: (0..COLUMNS).map(column).collect(),
        indexes: (0..PER_TABLE).map(|place| index(number, place)).collect(),
        foreign_keys: Vec::new(),
        part_of: None,
        is_partitioned: false,
        partition_keys: Vec::new(),
    };
    Catalog {
        at: Timestamp(0),
        database: "freight".into(),
        tables: (0..tables).map(table).collect(),
        costs: PlannerCosts::default(),
        extensions: Vec::new(),
        search_paths: Vec::new(),
    }
}
