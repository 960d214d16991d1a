//! The review of indexes on a real schema with a real replica, against an answer made by hand.

use std::collections::HashMap;

use anyhow::Result;
use hurnix_cluster::Cluster;
use hurnix_core::findings::index_review::IndexFindingKind::{self, *};
use hurnix_core::findings::index_review::{Counted, IndexChange, IndexEvidence, IndexFinding, review};
use hurnix_core::findings::index_size::rebuilt_bytes;
use hurnix_core::findings::index_watch::{IndexUse, IndexWatch, follow};
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::counters::{IndexCounters, TableCounters};
use hurnix_core::readings::difference::{Difference, Snapshot, between};
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_source::postgres::{Address, PostgresSource};
use hurnix_source::{ReadCounters, Source};
use sqlx::{Executor, PgConnection, Row};

use crate::common::{address, watched};

/// For so long the server is taken to have been watched: its first reading is set back by that.
const WATCHED_DAYS: f64 = 40.0;

const SCHEMA: &str = "
CREATE TABLE harbour (harbour_id int PRIMARY KEY, code text UNIQUE, name text);
INSERT INTO harbour SELECT n, 'h' || n, 'harbour ' || n FROM generate_series(1, 300) n;

CREATE TABLE vessel (vessel_id int PRIMARY KEY, name text, built int, deck_metres int, tags jsonb, ports text[]);
INSERT INTO vessel SELECT n, 'vessel ' || n, 1950 + n % 70, n % 400, jsonb_build_object('n', n), ARRAY['p' || n % 9]
FROM generate_series(1, 5000) n;
CREATE INDEX vessel_name ON vessel (name);
CREATE INDEX vessel_name_again ON vessel (name);
CREATE INDEX vessel_name_pattern ON vessel (name text_pattern_ops);
CREATE INDEX vessel_name_c ON vessel (name COLLATE \"C\");
CREATE INDEX vessel_name_down ON vessel (name DESC);
CREATE INDEX vessel_name_nulls ON vessel (name NULLS FIRST);
CREATE INDEX vessel_tags ON vessel (tags);
CREATE INDEX vessel_tags_gin ON vessel USING gin (tags);
CREATE INDEX vessel_ports ON vessel (ports);
CREATE INDEX vessel_built ON vessel (built);
CREATE INDEX vessel_built_metres ON vessel (built, deck_metres);
CREATE INDEX vessel_metres_carry ON vessel (deck_metres) INCLUDE (name);
CREATE INDEX vessel_metres ON vessel (deck_metres);
CREATE INDEX vessel_metres_hash ON vessel USING hash (deck_metres);

CREATE TABLE crossing (crossing_id int PRIMARY KEY, vessel_id int REFERENCES vessel, harbour_id int REFERENCES harbour,
    departs timestamptz, state text, fare int);
INSERT INTO crossing SELECT n, n % 5000 + 1, n % 300 + 1, '2026-01-01'::timestamptz + n * interval '1 minute',
    CASE WHEN n % 50 = 0 THEN 'open' ELSE 'gone' END, (hashint4(n) & 1023) FROM generate_series(1, 40000) n;
CREATE INDEX crossing_vessel ON crossing (vessel_id);
CREATE INDEX crossing_departs ON crossing (departs);
CREATE INDEX crossing_departs_brin ON crossing USING brin (departs);
CREATE INDEX crossing_fare_brin ON crossing USING brin (fare);
CREATE INDEX crossing_departs_open ON crossing (departs) WHERE state = 'open';
CREATE UNIQUE INDEX crossing_vessel_departs ON crossing (vessel_id, departs);
CREATE INDEX crossing_id_state ON crossing (crossing_id, state);
CREATE INDEX crossing_harbour_fare ON crossing (harbour_id, fare);
CREATE INDEX crossing_fare_harbour ON crossing (fare, harbour_id);

CREATE TABLE passage (passage_id int PRIMARY KEY, crossing_id int REFERENCES crossing, traveller int, fare int, note text,
    booked_at timestamptz, reference int NOT NULL);
INSERT INTO passage SELECT n, n % 40000 + 1, n % 7000, n % 90, 'Note ' || n % 500, '2026-01-01'::timestamptz + n * interval '1 s', n
FROM generate_series(1, 60000) n;
CREATE INDEX passage_crossing ON passage (crossing_id);
CREATE INDEX passage_fare ON passage (fare);
CREATE INDEX passage_booked ON passage (booked_at);
CREATE INDEX passage_traveller ON passage (traveller);
CREATE UNIQUE INDEX passage_reference ON passage (reference);
ALTER TABLE passage REPLICA IDENTITY USING INDEX passage_reference;
CREATE UNIQUE INDEX passage_unique ON passage (passage_id, traveller, fare);
CREATE INDEX passage_note ON passage (lower(note));
CREATE INDEX passage_note_again ON passage (lower(note));
CREATE INDEX passage_upper ON passage (upper(note));

CREATE TABLE passage_leg (leg_id int PRIMARY KEY, passage_id int REFERENCES passage, vessel_id int REFERENCES vessel, state text);
INSERT INTO passage_leg SELECT n, n % 50000 + 1, n % 5000 + 1, 'waiting' FROM generate_series(1, 60000) n;
CREATE INDEX leg_state ON passage_leg (state);

CREATE TABLE gate_scan (scan_id int PRIMARY KEY, gate int, device int, lane int, shift int, result int);
CREATE INDEX scan_gate ON gate_scan (gate); CREATE INDEX scan_device ON gate_scan (device);
CREATE INDEX scan_lane ON gate_scan (lane); CREATE INDEX scan_shift ON gate_scan (shift);
CREATE INDEX scan_result ON gate_scan (result);

CREATE TABLE tide_reading (at timestamptz, station int, level int) PARTITION BY RANGE (at);
CREATE TABLE tide_1 PARTITION OF tide_reading FOR VALUES FROM ('2026-01-01') TO ('2026-01-02');
CREATE TABLE tide_2 PARTITION OF tide_reading FOR VALUES FROM ('2026-01-02') TO ('2026-01-03');
CREATE INDEX tide_at ON tide_reading (at); CREATE INDEX tide_level ON tide_reading (level);
CREATE INDEX tide_station ON tide_reading (station);
CREATE INDEX tide_2_at_again ON tide_2 (at); CREATE INDEX tide_1_own ON tide_1 (level, station);
CREATE INDEX tide_half ON ONLY tide_reading (station, at);
INSERT INTO tide_reading SELECT '2026-01-01'::timestamptz + n * interval '4 s', n % 60, n % 500 FROM generate_series(1, 40000) n;

CREATE TABLE pier_board (board_id int PRIMARY KEY, shows text);
INSERT INTO pier_board SELECT n, 'board ' || n FROM generate_series(1, 5000) n;

CREATE TABLE berth_call (call_id int PRIMARY KEY, slot int, place int, UNIQUE (slot) DEFERRABLE);
CREATE UNIQUE INDEX berth_slot_at_once ON berth_call (slot);
CREATE UNIQUE INDEX berth_place ON berth_call (place);
CREATE UNIQUE INDEX berth_place_strict ON berth_call (place) NULLS NOT DISTINCT;
INSERT INTO berth_call SELECT n, n, n FROM generate_series(1, 20000) n;
CREATE INDEX berth_half_full ON berth_call (place, slot, call_id) WITH (fillfactor = 50);

CREATE TABLE vehicle_slot (slot_id int PRIMARY KEY, crossing_id int, taken_at timestamptz);
CREATE INDEX slot_crossing ON vehicle_slot (crossing_id); CREATE INDEX slot_taken ON vehicle_slot (taken_at);
INSERT INTO vehicle_slot SELECT n, hashint4(n) % 9000, '2026-01-01'::timestamptz + (hashint4(n) % 900000) * interval '1 s'
FROM generate_series(1, 120000) n;
DELETE FROM vehicle_slot WHERE slot_id % 10 <> 0;

CREATE SCHEMA old;
CREATE TABLE old.crossing (crossing_id int PRIMARY KEY, departs timestamptz);
INSERT INTO old.crossing SELECT n, '2020-01-01'::timestamptz + n * interval '1 hour' FROM generate_series(1, 5000) n;
CREATE INDEX crossing_departs ON old.crossing (departs);
";

/// Only who may read a table is told how its columns look.
const MAY_READ: &str = "GRANT pg_read_all_data TO hurnix_watch";

/// What is to be found: kind, index (or table) and what it is held against.
const BY_HAND: &[(IndexFindingKind, &str, &str)] = &[
    (Duplicate, "vessel_name_again", "vessel_name"),
    (NearlyDuplicate, "vessel_name_down", "vessel_name"),
    (WrongKind, "vessel_tags", ""),
    (WrongKind, "vessel_ports", ""),
    (Contained, "vessel_built", "vessel_built_metres"),
    (NearlyDuplicate, "vessel_metres", "vessel_metres_carry"),
    (Contained, "crossing_vessel", "crossing_vessel_departs"),
    (WrongKind, "crossing_fare_brin", ""),
    (Overlapping, "crossing_departs_open", "crossing_departs"),
    (Overlapping, "crossing_id_state", "crossing_pkey"),
    (Overlapping, "crossing_fare_harbour", "crossing_harbour_fare"),
    (Unused, "passage_fare", ""),
    (Unused, "passage_upper", ""),
    (Duplicate, "passage_note_again", "passage_note"),
    (Invalid, "passage_half_made", ""),
    (UnindexedReference, "passage_leg", "passage_leg_passage_id_fkey"),
    (ManyForWrites, "gate_scan", ""),
    (Unused, "tide_level", ""),
    (Duplicate, "tide_2_at_again", "tide_2_at_idx"),
    (Invalid, "tide_half", ""),
    (NeverReadTable, "pier_board", ""),
    (Duplicate, "berth_place", "berth_place_strict"),
    (LowFill, "berth_half_full", ""),
    (Bloated, "vehicle_slot_pkey", ""),
    (Bloated, "slot_crossing", ""),
    (Bloated, "slot_taken", ""),
];

/// Indexes that must have been read, each by what reads it: on the server, and once on its replica.
const READS: &[(&str, &str)] = &[
    ("vessel_name_pattern", "SELECT count(*) FROM vessel WHERE name ~>=~ 'vessel 9'"),
    ("vessel_name_down", "SELECT vessel_id FROM vessel ORDER BY name DESC LIMIT 3"),
    ("vessel_built", "SELECT count(*) FROM vessel WHERE built = 1960"),
    ("vessel_metres", "SELECT count(*) FROM vessel WHERE deck_metres = 10"),
    ("vessel_metres_hash", "SELECT count(*) FROM vessel WHERE deck_metres = 10"),
    ("crossing_vessel", "SELECT count(*) FROM crossing WHERE vessel_id = 10"),
    ("crossing_departs", "SELECT count(*) FROM crossing WHERE departs < '2026-01-02'"),
    ("crossing_fare_harbour", "SELECT count(*) FROM crossing WHERE harbour_id = 7 AND fare > 50"),
    ("crossing_harbour_fare", "SELECT count(*) FROM crossing WHERE harbour_id = 8 AND fare > 50"),
    ("crossing_harbour_fare", "SELECT count(*) FROM crossing WHERE harbour_id = 9 AND fare > 50"),
    ("crossing_harbour_fare", "SELECT count(*) FROM crossing WHERE harbour_id = 10 AND fare > 50"),
    ("vessel_name_c", "SELECT count(*) FROM vessel WHERE name COLLATE \"C\" > 'vessel 9'"),
    ("vessel_name_nulls", "SELECT vessel_id FROM vessel ORDER BY name NULLS FIRST LIMIT 3"),
    ("vessel_tags", "SELECT count(*) FROM vessel WHERE tags = '{\"n\": 9}'"),
    ("vessel_tags_gin", "SELECT count(*) FROM vessel WHERE tags @> '{\"n\": 9}'"),
    ("vessel_ports", "SELECT count(*) FROM vessel WHERE ports = '{p1}'"),
    ("vessel_built_metres", "SELECT count(*) FROM vessel WHERE built = 1960 AND deck_metres = 10"),
    ("vessel_metres_carry", "SELECT name FROM vessel WHERE deck_metres = 10"),
    ("crossing_departs_brin", "SELECT count(*) FROM crossing WHERE departs > '2026-01-02' AND fare < 9000"),
    ("crossing_fare_brin", "SELECT count(*) FROM crossing WHERE fare > 20 AND state = 'gone'"),
    ("crossing_departs_open", "SELECT count(*) FROM crossing WHERE state = 'open' AND departs > '2026-01-20'"),
    ("crossing_id_state", "SELECT crossing_id, state FROM crossing WHERE crossing_id < 90"),
    ("crossing_harbour_fare", "SELECT count(*) FROM crossing WHERE harbour_id = 7 AND fare > 50"),
    ("passage_crossing", "SELECT count(*) FROM passage WHERE crossing_id = 7"),
    ("passage_booked", "SELECT count(*) FROM passage WHERE booked_at < '2026-01-01 00:10'"),
    ("leg_state", "SELECT count(*) FROM passage_leg WHERE state = 'gone'"),
    ("tide_1_station_idx", "SELECT count(*) FROM tide_1 WHERE station = 7"),
    ("tide_1_at_idx", "SELECT count(*) FROM tide_1 WHERE at < '2026-01-01 01:00'"),
    ("tide_1_own", "SELECT count(*) FROM tide_1 WHERE level = 7 AND station = 9"),
    ("slot_crossing", "SELECT count(*) FROM vehicle_slot WHERE crossing_id = 7"),
    ("slot_taken", "SELECT count(*) FROM vehicle_slot WHERE taken_at < '2026-01-01 01:00'"),
    ("berth_half_full", "SELECT count(*) FROM berth_call WHERE place = 7 AND slot = 7 AND call_id = 7"),
    ("scan_gate", "SELECT count(*) FROM gate_scan WHERE gate = 1"),
    ("scan_device", "SELECT count(*) FROM gate_scan WHERE device = 1"),
    ("scan_lane", "SELECT count(*) FROM gate_scan WHERE lane = 1"),
    ("scan_shift", "SELECT count(*) FROM gate_scan WHERE shift = 1"),
    ("scan_result", "SELECT count(*) FROM gate_scan WHERE result = 1"),
];
const READ_ON_THE_REPLICA: (&str, &str) = ("passage_traveller", "SELECT count(*) FROM passage WHERE traveller = 7");

/// Has a statement read an index, whatever the planner would rather read: for as long as that takes, statements may not
/// use the others of its table.
async fn read_by(client: &mut PgConnection, index: &str, statement: &str) -> Result<()> {
    let others = format!(
        "UPDATE pg_index SET indisvalid = false WHERE indexrelid <> '{index}'::regclass
         AND indrelid = (SELECT indrelid FROM pg_index WHERE indexrelid = '{index}'::regclass)"
    );
    for (others, way) in [
        ("SELECT 1", "SET LOCAL enable_seqscan = off; SET LOCAL enable_bitmapscan = off"),
        ("SELECT 1", "SET LOCAL enable_seqscan = off; SET LOCAL enable_indexscan = off"),
        (others.as_str(), "SET LOCAL enable_seqscan = off"),
    ] {
        sqlx::raw_sql(sqlx::AssertSqlSafe(format!("BEGIN; {way}; {others}"))).execute(&mut *client).await?;
        let plan = sqlx::query(sqlx::AssertSqlSafe(format!("EXPLAIN {statement}"))).fetch_all(&mut *client).await?;
        let is_chosen = plan.iter().any(|line| line.get::<String, _>(0).split(' ').any(|word| word == index));
        if is_chosen {
            client.execute(sqlx::AssertSqlSafe(statement.to_owned())).await?;
        }
        client.execute("ROLLBACK").await?;
        if is_chosen {
            return Ok(());
        }
    }
    anyhow::bail!("no plan of {statement} reads {index}")
}

/// What was counted between two readings, the first of them set back by the days that the server is taken to be watched.
struct Told {
    tables: Difference<u32, TableCounters>,
    indexes: Difference<u32, IndexCounters>,
    watch: HashMap<u32, IndexWatch>,
}

async fn readings(
    source: &mut impl ReadCounters,
) -> Result<(Snapshot<u32, TableCounters>, Snapshot<u32, IndexCounters>)> {
    Ok((source.read().await?.unwrap(), source.read().await?.unwrap()))
}

async fn told(
    source: &mut impl ReadCounters,
    (mut tables, mut indexes): (Snapshot<u32, TableCounters>, Snapshot<u32, IndexCounters>),
) -> Result<Told> {
    let (later_tables, later_indexes) = readings(source).await?;
    let back = -WATCHED_DAYS * SECONDS_PER_DAY;
    (tables.at, indexes.at) = (tables.at.plus_seconds(back), indexes.at.plus_seconds(back));
    let longest_gap = -2.0 * back;
    let begun = follow(&HashMap::new(), None, &indexes);
    Ok(Told {
        tables: between(&tables, &later_tables, longest_gap)?,
        watch: follow(&begun, Some(&indexes), &later_indexes),
        indexes: between(&indexes, &later_indexes, longest_gap)?,
    })
}

fn reviewed(catalog: &Catalog, primary: &Told, replica: Option<&Told>, unwatched: usize) -> Vec<IndexFinding> {
    let mut index_reads: HashMap<u32, i64> = HashMap::new();
    for told in [Some(primary), replica].into_iter().flatten() {
        told.indexes.rows.iter().for_each(|row| *index_reads.entry(row.key).or_default() += row.by.reads);
    }
    let watched = IndexUse {
        here: primary.watch.clone(),
        elsewhere: replica.iter().map(|told| told.watch.clone()).collect(),
        unwatched,
        ..IndexUse::default()
    };
    let counted = Counted {
        seconds: WATCHED_DAYS * SECONDS_PER_DAY,
        tables: &primary.tables.rows.iter().map(|row| (row.key, row.by)).collect(),
        index_reads: &index_reads,
        watched: &watched,
        is_replica: false,
    };
    review(&IndexEvidence::new(catalog, catalog.at, Some(counted)))
}

fn names(found: &[IndexFinding]) -> Vec<(&'static str, &str, &str)> {
    let mut names: Vec<_> = found
        .iter()
        .map(|finding| {
            let name = finding.index.as_deref().unwrap_or(&finding.table.name);
            (finding.kind.into(), name, finding.beside.as_deref().unwrap_or(""))
        })
        .collect();
    names.sort_unstable();
    names
}

#[tokio::test]
async fn a_seeded_schema_is_reviewed_as_by_hand_and_nothing_needed_is_dropped() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    sqlx::raw_sql(SCHEMA).execute(&mut admin).await?;
    admin.execute(MAY_READ).await?;
    // Two rows of one traveller: a unique index on them cannot be made, and stays behind.
    let half_made = "CREATE UNIQUE INDEX CONCURRENTLY passage_half_made ON passage (traveller)";
    assert!(admin.execute(half_made).await.is_err());
    sqlx::raw_sql("VACUUM ANALYZE").execute(&mut admin).await?;
    let replica = cluster.temporary_replica()?;
    let (mut source, mut copy) = (PostgresSource::connect(&address(&cluster)).await?, connected(&replica).await?);
    let (first, first_copy) = (readings(&mut source).await?, readings(&mut copy).await?);

    let mut client = cluster.connect("postgres").await?;
    for (index, statement) in READS {
        read_by(&mut client, index, statement).await?;
    }
    // Everything is looked at in whole but the boards; rows of passages go, and scans come.
    sqlx::raw_sql(
        "SELECT count(t) FROM harbour t; SELECT count(t) FROM vessel t; SELECT count(t) FROM crossing t; SELECT count(t) FROM passage t;
         SELECT count(t) FROM passage_leg t; SELECT count(t) FROM gate_scan t; SELECT count(t) FROM tide_reading t;
         SELECT count(t) FROM berth_call t; SELECT count(t) FROM vehicle_slot t; SELECT count(t) FROM old.crossing t;
         SELECT count(*) FROM old.crossing WHERE departs < '2020-01-02';
         DELETE FROM passage WHERE passage_id > 59990;
         INSERT INTO gate_scan SELECT n, n % 9, n % 99, n % 4, n % 3, n % 2 FROM generate_series(1, 60000) n;
         INSERT INTO pier_board SELECT n, 'board ' || n FROM generate_series(5001, 5100) n;
         SELECT pg_stat_force_next_flush()",
    )
    .execute(&mut client)
    .await?;
    client.execute("SELECT 1").await?;
    let mut reader = replica.connect("postgres").await?;
    read_by(&mut reader, READ_ON_THE_REPLICA.0, READ_ON_THE_REPLICA.1).await?;
    sqlx::raw_sql("SELECT pg_stat_force_next_flush()").execute(&mut reader).await?;
    reader.execute("SELECT 1").await?;

    let (primary, on_replica) = (told(&mut source, first).await?, told(&mut copy, first_copy).await?);
    let catalog = source.catalog().await?;
    assert!(catalog.indexes().count() >= 60, "{}", catalog.indexes().count());
    let found = reviewed(&catalog, &primary, Some(&on_replica), 0);
    let mut by_hand: Vec<(&str, &str, &str)> =
        BY_HAND.iter().map(|(kind, name, beside)| ((*kind).into(), *name, *beside)).collect();
    by_hand.sort_unstable();
    assert_eq!(names(&found), by_hand);

    // Without its figures the replica may read anything: nothing is called unused, nor a table unread.
    let unwatched = reviewed(&catalog, &primary, None, 1);
    let rests_on_reads = |finding: &&IndexFinding| matches!(finding.kind, Unused | NeverReadTable);
    assert_eq!(unwatched.iter().filter(rests_on_reads).count(), 0, "{:?}", names(&unwatched));
    // Without asking it, what it reads would have been called unused.
    let unasked = reviewed(&catalog, &primary, None, 0);
    assert!(names(&unasked).contains(&(Unused.into(), "passage_traveller", "")), "{:?}", names(&unasked));

    // Do it all: no statement that ran before is refused, and what was promised still is.
    for finding in &found {
        if let Some(IndexChange::Drop(index)) = &finding.change {
            let drop = format!("DROP INDEX \"{}\".\"{}\"", index.schema, index.name);
            admin.execute(sqlx::AssertSqlSafe(drop)).await?;
        }
    }
    for table in ["berth_call", "passage", "vessel", "crossing", "tide_reading"] {
        sqlx::raw_sql(sqlx::AssertSqlSafe(format!("ANALYZE {table}"))).execute(&mut admin).await?;
    }
    let twice = "INSERT INTO berth_call VALUES (90001, 90001, NULL), (90002, 90002, NULL)";
    assert!(admin.execute(twice).await.is_err(), "several rows without a place are forbidden as before");
    Ok(())
}

async fn connected(replica: &Cluster) -> Result<PostgresSource> {
    Ok(PostgresSource::connect(&Address { port: replica.port(), ..address(replica) }).await?)
}

/// Sizes of indexes just built against their estimate, over kinds of keys.
#[tokio::test]
async fn a_size_is_known_before_an_index_is_built() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    sqlx::raw_sql(
        "CREATE TABLE gate_scan AS SELECT n AS scan_id, hashint4(n) % 2000 AS crossing, (hashint4(n) % 50000)::bigint AS traveller,
            (n % 4)::smallint AS lane, 'device ' || n % 30001 AS device, 'st' || n % 3 AS state, (n % 977)::numeric AS fare,
            n / 7.0::float8 AS weight, now() + n * interval '1 s' AS scanned_at, md5(n::text)::uuid AS ticket, n % 2 = 0 AS is_open,
            CASE WHEN n % 10 = 0 THEN n END AS vehicle, repeat('x', abs(hashint4(n)) % 60) AS note, n / 30 AS bundle
         FROM generate_series(1, 100000) n;
         CREATE INDEX ON gate_scan (scan_id); CREATE INDEX ON gate_scan (crossing); CREATE INDEX ON gate_scan (traveller);
         CREATE INDEX ON gate_scan (lane); CREATE INDEX ON gate_scan (device); CREATE INDEX ON gate_scan (state);
         CREATE INDEX ON gate_scan (fare); CREATE INDEX ON gate_scan (weight); CREATE INDEX ON gate_scan (scanned_at);
         CREATE INDEX ON gate_scan (ticket); CREATE INDEX ON gate_scan (is_open); CREATE INDEX ON gate_scan (vehicle);
         CREATE INDEX ON gate_scan (note); CREATE INDEX ON gate_scan (bundle); CREATE INDEX ON gate_scan (crossing, lane);
         CREATE INDEX ON gate_scan (lane, crossing); CREATE INDEX ON gate_scan (traveller, device);
         CREATE INDEX ON gate_scan (vehicle, crossing); CREATE INDEX ON gate_scan (note, scan_id);
         CREATE INDEX ON gate_scan (lane) INCLUDE (scanned_at); CREATE UNIQUE INDEX ON gate_scan (scan_id, lane);
         CREATE INDEX ON gate_scan (traveller) WHERE lane = 1; CREATE INDEX ON gate_scan (scanned_at) WITH (fillfactor = 60);
         CREATE INDEX of_one_bundle ON gate_scan (bundle, (bundle % 5)); CREATE INDEX that_depends ON gate_scan (lane, is_open)",
    )
    .execute(&mut admin)
    .await?;
    sqlx::raw_sql("VACUUM ANALYZE").execute(&mut admin).await?;
    admin.execute(MAY_READ).await?;
    let catalog = PostgresSource::connect(&address(&cluster)).await?.catalog().await?;
    let (mut told, mut wrong) = (0, Vec::new());
    for (table, index) in catalog.indexes() {
        let Some(estimated) = rebuilt_bytes(table, index) else { continue };
        told += 1;
        let ratio = estimated / index.size_bytes as f64;
        if !(0.85..=1.15).contains(&ratio) {
            wrong.push((index.name.clone(), ratio));
        }
    }
    assert_eq!((told, wrong), (24, vec![]), "of expressions nothing is told");
    Ok(())
}
