use anyhow::Result;
use hurnix_source::simulated::{Change, Cost, FamilyModel, Happening, How, Model, Shape};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{
    at_month_end, client, daily, event, office, reads, reads_all, server, table, travel, unchanged, waits, writes,
};

/// Deck metres for vehicles, and what they cost.
pub(super) fn model(plot: &Plot) -> Result<Model> {
    let mut model = server(104, plot.began_at(), "freight", 8);
    model.tables = vec![
        table(
            "vehicle_slot",
            480_000.0,
            88.0,
            &[
                ("vehicle_slot_id", "integer", -1.0),
                ("crossing_id", "integer", 42_000.0),
                ("deck_id", "integer", 54.0),
                ("free_metres", "numeric", 800.0),
            ],
            &[("vehicle_slot_pkey", &["vehicle_slot_id"]), ("vehicle_slot_crossing", &["crossing_id"])],
        ),
        table(
            "tariff",
            610_000.0,
            74.0,
            &[
                ("tariff_id", "integer", -1.0),
                ("from_harbour_id", "integer", 24.0),
                ("to_harbour_id", "integer", 24.0),
                ("valid_from", "date", 900.0),
            ],
            &[("tariff_pkey", &["tariff_id"]), ("tariff_route", &["from_harbour_id", "to_harbour_id", "valid_from"])],
        ),
        table(
            "reservation",
            5.1e6,
            110.0,
            &[
                ("reservation_id", "bigint", -1.0),
                ("customer_id", "integer", 21_000.0),
                ("vehicle_slot_id", "integer", -0.08),
                ("made_at", "timestamp with time zone", -0.99),
            ],
            &[
                ("reservation_pkey", &["reservation_id"]),
                ("reservation_customer", &["customer_id"]),
                ("reservation_slot", &["vehicle_slot_id"]),
            ],
        ),
        table(
            "passage",
            1.4e6,
            64.0,
            &[("passage_id", "bigint", -1.0), ("crossing_id", "integer", 42_000.0)],
            &[("passage_pkey", &["passage_id"])],
        ),
    ];
    let (slot, tariff, reservation, passage) = (0, 1, 2, 3);
    let plan_change = plot.story("plan-change")?;
    let desk = |program| FamilyModel { shape: office(), ..client("skerry_freight", program, "10.5.1.14") };
    model.families = vec![
        FamilyModel {
            text: "SELECT tariff_id, per_metre FROM tariff WHERE from_harbour_id = $1 AND to_harbour_id = $2 AND valid_from <= $3 ORDER BY valid_from DESC LIMIT $4".into(),
            per_second: 42.0,
            cost: Cost { ms: plan_change.before, rows: 1.0, hit_pages: 14.0, read_pages: 0.3, ..Cost::default() },
            waits: waits(0.1, 0.0, 0.0),
            touches: vec![reads(tariff, 1, 12.0)],
            plan: "Limit  (cost=0.42..8.90 rows=1 width=16)\n  ->  Index Scan Backward using tariff_route on tariff\n        Index Cond: ((from_harbour_id = $1) AND (to_harbour_id = $2) AND (valid_from <= $3))".into(),
            ..desk("freight desk")
        },
        FamilyModel {
            text: "UPDATE vehicle_slot SET free_metres = free_metres - $2 WHERE vehicle_slot_id = $1 AND free_metres >= $2".into(),
            per_second: 22.0,
            cost: Cost { ms: 2.4, rows: 1.0, hit_pages: 8.0, dirtied_pages: 0.7, log_bytes: 310.0, ..Cost::default() },
            waits: waits(0.02, 0.3, 0.25),
            touches: vec![reads(slot, 0, 1.0), writes(slot, How::Update, 1.0)],
            plan: "Update on vehicle_slot  (cost=0.42..8.44 rows=0 width=0)\n  ->  Index Scan using vehicle_slot_pkey on vehicle_slot".into(),
            ..desk("deck planner")
        },
        FamilyModel {
            text: "SELECT sum(free_metres) FROM vehicle_slot WHERE crossing_id = $1".into(),
            per_second: 31.0,
            cost: Cost { ms: 0.5, rows: 1.0, hit_pages: 13.0, ..Cost::default() },
            touches: vec![reads(slot, 1, 11.0)],
            plan: "Aggregate  (cost=42.10..42.11 rows=1 width=32)\n  ->  Index Scan using vehicle_slot_crossing on vehicle_slot".into(),
            ..desk("deck planner")
        },
        FamilyModel {
            text: "INSERT INTO reservation (customer_id, vehicle_slot_id, metres, made_at) VALUES ($1, $2, $3, now()) RETURNING reservation_id".into(),
            per_second: 12.0,
            cost: Cost { ms: 1.9, rows: 1.0, hit_pages: 12.0, dirtied_pages: 1.1, log_bytes: 620.0, ..Cost::default() },
            waits: waits(0.05, 0.55, 0.0),
            touches: vec![writes(reservation, How::Insert, 1.0)],
            plan: "Insert on reservation  (cost=0.00..0.01 rows=1 width=28)".into(),
            ..desk("freight desk")
        },
        FamilyModel {
            text: "SELECT reservation_id, made_at, metres FROM reservation WHERE customer_id = $1 ORDER BY made_at DESC LIMIT $2".into(),
            per_second: 26.0,
            cost: Cost { ms: 4.8, rows: 20.0, hit_pages: 61.0, read_pages: 3.2, ..Cost::default() },
            waits: waits(0.35, 0.0, 0.0),
            touches: vec![reads(reservation, 1, 240.0)],
            plan: "Limit  (cost=0.43..96.00 rows=20 width=24)\n  ->  Sort\n        ->  Index Scan using reservation_customer on reservation".into(),
            ..desk("customer page")
        },
        FamilyModel {
            text: "UPDATE passage SET crossing_id = $2 WHERE passage_id = $1".into(),
            per_second: 3.0,
            cost: Cost { ms: 1.4, rows: 1.0, hit_pages: 6.0, dirtied_pages: 0.6, log_bytes: 240.0, ..Cost::default() },
            waits: waits(0.02, 0.4, 0.1),
            touches: vec![reads(passage, 0, 1.0), writes(passage, How::Update, 1.0)],
            plan: "Update on passage  (cost=0.43..8.45 rows=0 width=0)\n  ->  Index Scan using passage_pkey on passage".into(),
            ..desk("freight desk")
        },
        FamilyModel {
            text: "SELECT customer_id, sum(metres * per_metre) FROM reservation JOIN tariff USING (tariff_id) WHERE made_at >= $1 GROUP BY customer_id".into(),
            shape: at_month_end(&[19 * 60], 180),
            per_second: 0.02,
            cost: Cost { ms: 41_000.0, rows: 9_800.0, hit_pages: 160_000.0, read_pages: 74_000.0, temp_pages: 31_000.0, ..Cost::default() },
            waits: waits(0.45, 0.0, 0.0),
            touches: vec![reads_all(reservation), reads_all(tariff)],
            plan: "HashAggregate  (cost=318200.00..319100.00 rows=9800 width=36)\n  ->  Hash Join\n        ->  Seq Scan on reservation\n        ->  Hash\n              ->  Seq Scan on tariff".into(),
            ..client("skerry_settle", "month end", "10.5.9.3")
        },
        FamilyModel {
            text: "ANALYZE tariff".into(),
            shape: daily(&[430], 1),
            per_second: 1.0 / 60.0,
            cost: Cost { ms: 2_100.0, hit_pages: 3_000.0, read_pages: 2_600.0, ..Cost::default() },
            ..client("skerry_ops", "nightly statistics", "10.5.9.2")
        },
    ];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &[
                "manifest",
                "axle",
                "trailer",
                "lane_plan",
                "quote",
                "invoice",
                "contract",
                "haulier",
                "driver",
                "permit",
                "hazard",
                "weighing",
                "lashing",
                "ramp_slot",
                "yard_place",
                "dispatch",
                "claim",
                "customs_sheet",
                "cold_box",
                "pallet",
                "livestock",
                "tank",
                "surcharge",
                "discount",
                "carrier_bill",
            ],
            owner: "customer_id",
            only_reads: false,
            tables: 170,
            families: 350,
            load: 4.5,
            programs: &[
                Program {
                    account: "skerry_freight",
                    name: "freight desk",
                    network: "10.5.1",
                    clients: 9,
                    shape: office,
                },
                Program {
                    account: "skerry_freight",
                    name: "yard board",
                    network: "10.5.2",
                    clients: 6,
                    shape: Shape::steady,
                },
                Program { account: "skerry_web", name: "haulier site", network: "10.5.4", clients: 8, shape: travel },
                Program {
                    account: "skerry_office",
                    name: "freight office",
                    network: "10.5.3",
                    clients: 4,
                    shape: office,
                },
                Program {
                    account: "skerry_customs",
                    name: "customs feed",
                    network: "10.5.7",
                    clients: 2,
                    shape: Shape::steady,
                },
            ],
        },
    );
    let reset = plot.story("reset")?;
    let bloat = plot.story("bloat")?;
    let deadlocks = plot.story("deadlocks")?;
    let first = deadlocks.began_at(plot.end)?;
    let full = "Limit  (cost=14820.00..14820.10 rows=1 width=16)\n  ->  Sort\n        Sort Key: valid_from DESC\n        ->  Seq Scan on tariff\n              Filter: ((valid_from <= $3) AND (from_harbour_id = $1) AND (to_harbour_id = $2))";
    model.events = vec![
        event(
            plan_change.began_at(plot.end)?,
            None,
            Happening::Change(Change {
                cost: Some(Cost {
                    ms: plan_change.after,
                    rows: 1.0,
                    hit_pages: 5_400.0,
                    read_pages: 40.0,
                    ..Cost::default()
                }),
                touches: Some(vec![reads_all(tariff)]),
                plan: Some(full.into()),
                ..unchanged(0)
            }),
        ),
        event(reset.began_at(plot.end)?, None, Happening::ResetStatements),
        // Nobody minds the old transaction, and planners move vehicles about all the while.
        event(bloat.began_at(plot.end)?, bloat.ended_at(plot.end)?, Happening::OldTransaction { prepared: false }),
        event(
            bloat.began_at(plot.end)?,
            bloat.ended_at(plot.end)?,
            Happening::Change(Change { calls: 9.0, ..unchanged(1) }),
        ),
    ];
    model
        .events
        .extend([0.0, 28.0, 53.0].map(|minutes| event(first.plus_seconds(minutes * 60.0), None, Happening::Deadlock)));
    Ok(model)
}
