use anyhow::Result;
use hurnix_source::simulated::{Connections, Cost, FamilyModel, Happening, HoldUp, How, Model, Shape, Stand};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{client, departures, event, office, reads, server, table, waits, writes};

/// Both gates run the same programs on the same tables.
fn gate(plot: &Plot, seed: u64, place: u8) -> Model {
    let mut model = server(seed, plot.began_at(), "gate", 4);
    model.tables = vec![
        table(
            "gate_scan",
            31e6,
            58.0,
            &[
                ("gate_scan_id", "bigint", -1.0),
                ("passage_leg_id", "bigint", -0.6),
                ("scanned_at", "timestamp with time zone", -0.99),
            ],
            &[("gate_scan_pkey", &["gate_scan_id"]), ("gate_scan_leg", &["passage_leg_id"])],
        ),
        table(
            "crossing",
            42_000.0,
            72.0,
            &[("crossing_id", "integer", -1.0), ("state", "text", 4.0), ("boarded", "integer", 600.0)],
            &[("crossing_pkey", &["crossing_id"])],
        ),
        table(
            "ticket",
            2.2e6,
            80.0,
            &[("ticket_id", "bigint", -1.0), ("card", "text", -0.98), ("state", "text", 3.0)],
            &[("ticket_pkey", &["ticket_id"]), ("ticket_card", &["card"])],
        ),
    ];
    let (scan, crossing, ticket) = (0, 1, 2);
    let gate =
        |program| FamilyModel { shape: departures(), ..client("skerry_gate", program, &format!("10.4.{place}.50")) };
    model.families = vec![
        FamilyModel {
            text: "SELECT ticket_id, state FROM ticket WHERE card = $1".into(),
            per_second: 38.0,
            cost: Cost { ms: 0.3, rows: 1.0, hit_pages: 5.0, read_pages: 0.1, ..Cost::default() },
            waits: waits(0.2, 0.0, 0.0),
            touches: vec![reads(ticket, 1, 1.0)],
            plan:
                "Index Scan using ticket_card on ticket  (cost=0.43..8.45 rows=1 width=12)\n  Index Cond: (card = $1)"
                    .into(),
            ..gate("gate scanner")
        },
        FamilyModel {
            text: "INSERT INTO gate_scan (passage_leg_id, gate, scanned_at) VALUES ($1, $2, now())".into(),
            per_second: 36.0,
            cost: Cost { ms: 1.1, rows: 1.0, hit_pages: 7.0, dirtied_pages: 0.4, log_bytes: 260.0, ..Cost::default() },
            waits: waits(0.02, 0.6, 0.0),
            touches: vec![writes(scan, How::Insert, 1.0)],
            plan: "Insert on gate_scan  (cost=0.00..0.01 rows=0 width=0)\n  ->  Result".into(),
            ..gate("gate scanner")
        },
        FamilyModel {
            text: "UPDATE crossing SET boarded = boarded + $2 WHERE crossing_id = $1".into(),
            per_second: 36.0,
            cost: Cost { ms: 1.6, rows: 1.0, hit_pages: 6.0, dirtied_pages: 0.2, log_bytes: 190.0, ..Cost::default() },
            waits: waits(0.0, 0.35, 0.3),
            touches: vec![reads(crossing, 0, 1.0), writes(crossing, How::Update, 1.0)],
            plan:
                "Update on crossing  (cost=0.29..8.31 rows=0 width=0)\n  ->  Index Scan using crossing_pkey on crossing"
                    .into(),
            ..gate("gate scanner")
        },
        FamilyModel {
            text: "SELECT crossing_id, state, boarded FROM crossing WHERE crossing_id = $1".into(),
            per_second: 14.0,
            cost: Cost { ms: 0.12, rows: 1.0, hit_pages: 3.0, ..Cost::default() },
            touches: vec![reads(crossing, 0, 1.0)],
            plan: "Index Scan using crossing_pkey on crossing  (cost=0.29..8.31 rows=1 width=14)".into(),
            ..gate("gate display")
        },
        FamilyModel {
            text: "SELECT gate, count(*) FROM gate_scan WHERE scanned_at >= $1 GROUP BY gate".into(),
            shape: super::parts::daily(&[23 * 60 + 30], 10),
            per_second: 0.01,
            cost: Cost { ms: 8_800.0, rows: 12.0, hit_pages: 90_000.0, read_pages: 118_000.0, ..Cost::default() },
            waits: waits(0.6, 0.0, 0.0),
            touches: vec![super::parts::reads_all(scan)],
            plan: "HashAggregate  (cost=612000.00..612000.12 rows=12 width=12)\n  ->  Seq Scan on gate_scan".into(),
            ..client("skerry_office", "scan count", "10.4.3.5")
        },
    ];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &["lane", "turnstile", "device", "boarding_call"],
            owner: "crossing_id",
            only_reads: false,
            tables: 20,
            families: 50,
            load: 0.9,
            programs: &[
                Program {
                    account: "skerry_gate",
                    name: "gate display",
                    network: "10.4.11",
                    clients: 8,
                    shape: departures,
                },
                Program {
                    account: "skerry_gate",
                    name: "device upkeep",
                    network: "10.4.12",
                    clients: 3,
                    shape: Shape::steady,
                },
                Program { account: "skerry_office", name: "gate report", network: "10.4.3", clients: 2, shape: office },
            ],
        },
    );
    model.connections = Connections { kept: 44, per_second: 2.0, seconds: 30.0, allowed: 300 };
    model
}

/// Since new software, its devices connect for every scan.
pub(super) fn north(plot: &Plot) -> Result<Model> {
    let mut model = gate(plot, 102, 1);
    let connecting = plot.story("connecting")?;
    model.connections.per_second = connecting.before;
    model.events = vec![event(
        connecting.began_at(plot.end)?,
        None,
        Happening::Connecting { per_second: connecting.after, seconds: 0.06 },
    )];
    Ok(model)
}

/// A supervisor held up its scanners for a while.
pub(super) fn south(plot: &Plot) -> Result<Model> {
    let mut model = gate(plot, 103, 2);
    let hold_up = plot.story("hold-up")?;
    model.events = vec![event(
        hold_up.began_at(plot.end)?,
        hold_up.ended_at(plot.end)?,
        Happening::HoldUp(HoldUp {
            table: 1,
            account: "skerry_supervisor".into(),
            program: "gate desk".into(),
            text: "UPDATE crossing SET state = $2 WHERE crossing_id = $1".into(),
            family: 2,
            waiters: hold_up.after as i32,
            arrival_seconds: 9.0,
            stand: Stand::InLine,
        }),
    )];
    Ok(model)
}
