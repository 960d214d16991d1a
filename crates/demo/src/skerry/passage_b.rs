use anyhow::Result;
use hurnix_source::simulated::{Burst, Change, Cost, FamilyModel, Happening, How, Lag, Model, Shape};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{
    client, daily, departures, event, office, reads, reads_all, server, table, travel, unchanged, waits, writes,
};

/// The replica of the passage database: gate lists and boards are read from it.
pub(super) fn model(plot: &Plot) -> Result<Model> {
    let mut model = server(101, plot.began_at(), "passage", 16);
    model.tables = vec![
        table(
            "passage_leg",
            9.4e6,
            96.0,
            &[
                ("passage_leg_id", "bigint", -1.0),
                ("passage_id", "bigint", -0.4),
                ("crossing_id", "integer", 42_000.0),
                ("state", "text", 5.0),
                ("seat", "text", 900.0),
            ],
            &[
                ("passage_leg_pkey", &["passage_leg_id"]),
                ("passage_leg_passage", &["passage_id"]),
                ("passage_leg_crossing", &["crossing_id"]),
            ],
        ),
        table(
            "crossing",
            42_000.0,
            72.0,
            &[
                ("crossing_id", "integer", -1.0),
                ("departs_at", "timestamp with time zone", -0.9),
                ("to_harbour_id", "integer", 24.0),
            ],
            &[("crossing_pkey", &["crossing_id"]), ("crossing_departs_at", &["departs_at"])],
        ),
        table(
            "passage",
            3.9e6,
            64.0,
            &[
                ("passage_id", "bigint", -1.0),
                ("traveller_id", "integer", 310_000.0),
                ("booked_at", "timestamp with time zone", -0.99),
            ],
            &[("passage_pkey", &["passage_id"]), ("passage_traveller", &["traveller_id"])],
        ),
        table(
            "pier_board",
            24.0,
            120.0,
            &[("harbour_id", "integer", -1.0), ("message", "text", 9.0)],
            &[("pier_board_pkey", &["harbour_id"])],
        ),
    ];
    let (leg, crossing, passage, board) = (0, 1, 2, 3);
    let cheap = Cost {
        ms: plot.story("missing-index")?.before,
        rows: 38.0,
        hit_pages: 44.0,
        read_pages: 1.2,
        ..Cost::default()
    };
    model.families = vec![
        FamilyModel {
            text: "SELECT passage_leg_id, traveller_id, seat, boarded_at FROM passage_leg WHERE crossing_id = $1 AND state = $2".into(),
            shape: travel(),
            per_second: 9.0,
            cost: cheap,
            waits: waits(0.12, 0.0, 0.0),
            touches: vec![reads(leg, 2, 38.0)],
            plan: "Index Scan using passage_leg_crossing on passage_leg  (cost=0.43..118.20 rows=38 width=40)\n  Index Cond: (crossing_id = $1)\n  Filter: (state = $2)".into(),
            ..client("skerry_gate", "gate list", "10.4.1.20")
        },
        FamilyModel {
            text: "SELECT c.crossing_id, c.departs_at, h.name FROM crossing c JOIN harbour h ON h.harbour_id = c.to_harbour_id WHERE c.departs_at BETWEEN $1 AND $2 ORDER BY c.departs_at".into(),
            shape: travel(),
            per_second: 60.0,
            cost: Cost { ms: 1.1, rows: 22.0, hit_pages: 30.0, ..Cost::default() },
            touches: vec![reads(crossing, 1, 22.0)],
            plan: "Nested Loop  (cost=0.42..61.80 rows=22 width=32)\n  ->  Index Scan using crossing_departs_at on crossing c\n  ->  Index Scan using harbour_pkey on harbour h".into(),
            ..client("skerry_web", "timetable", "10.4.2.11")
        },
        FamilyModel {
            text: "SELECT message FROM pier_board WHERE harbour_id = $1".into(),
            per_second: 24.0,
            cost: Cost { ms: 0.05, rows: 1.0, hit_pages: 2.0, ..Cost::default() },
            touches: vec![reads_all(board)],
            plan: "Seq Scan on pier_board  (cost=0.00..1.30 rows=1 width=30)\n  Filter: (harbour_id = $1)".into(),
            ..client("skerry_gate", "pier board", "10.4.1.31")
        },
        FamilyModel {
            text: "SELECT passage_id, booked_at, fare FROM passage WHERE traveller_id = $1 ORDER BY booked_at DESC LIMIT $2".into(),
            shape: travel(),
            per_second: 140.0,
            cost: Cost { ms: 0.9, rows: 5.0, hit_pages: 9.0, read_pages: 0.6, ..Cost::default() },
            waits: waits(0.3, 0.0, 0.0),
            touches: vec![reads(passage, 1, 11.0)],
            plan: "Limit  (cost=0.43..17.10 rows=5 width=24)\n  ->  Sort\n        ->  Index Scan using passage_traveller on passage".into(),
            ..client("skerry_web", "my passages", "10.4.2.12")
        },
        FamilyModel {
            text: "SELECT channel, date_trunc($1, booked_at), sum(fare) FROM passage WHERE booked_at >= $2 GROUP BY 1, 2".into(),
            shape: daily(&[360, 720, 1080], 12),
            per_second: 0.02,
            cost: Cost { ms: 6_400.0, rows: 90.0, hit_pages: 21_000.0, read_pages: 9_800.0, ..Cost::default() },
            waits: waits(0.55, 0.0, 0.0),
            touches: vec![reads_all(passage)],
            plan: "HashAggregate  (cost=98421.00..98424.50 rows=90 width=44)\n  ->  Seq Scan on passage".into(),
            ..client("skerry_office", "day sheet", "10.4.3.5")
        },
        // What the primary sends, replayed here.
        FamilyModel {
            text: "SELECT pg_last_wal_replay_lsn()".into(),
            per_second: 0.2,
            cost: Cost { ms: 0.03, rows: 1.0, log_bytes: 6.0e6, ..Cost::default() },
            touches: vec![writes(passage, How::Insert, 40.0), writes(leg, How::Insert, 100.0)],
            ..client("skerry_ops", "replica probe", "10.4.9.2")
        },
    ];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &[
                "booking",
                "fare",
                "traveller_card",
                "voucher",
                "seat_plan",
                "cabin",
                "luggage",
                "pet_pass",
                "meal",
                "refund",
                "group_trip",
                "waiting_list",
            ],
            owner: "traveller_id",
            only_reads: true,
            tables: 50,
            families: 130,
            load: 11.0,
            programs: &[
                Program { account: "skerry_web", name: "booking site", network: "10.4.2", clients: 12, shape: travel },
                Program { account: "skerry_web", name: "passage app", network: "10.4.5", clients: 8, shape: travel },
                Program { account: "skerry_gate", name: "gate desk", network: "10.4.1", clients: 6, shape: departures },
                Program {
                    account: "skerry_office",
                    name: "travel office",
                    network: "10.4.3",
                    clients: 5,
                    shape: office,
                },
                Program {
                    account: "skerry_partner",
                    name: "partner feed",
                    network: "10.4.7",
                    clients: 3,
                    shape: Shape::steady,
                },
            ],
        },
    );
    let mut evening = Shape::steady();
    evening.hours = vec![0.1; 24];
    evening.bursts.push(Burst {
        days: vec![0, 1, 2, 3, 4, 5, 6],
        starts: vec![17 * 60],
        minutes: 180,
        level: 0.9,
        month_end: false,
    });
    let lagging = plot.story("replica-lag")?;
    model.lag = Some(Lag {
        shape: evening,
        seconds: lagging.before,
        follows: "passage.skerry.example".into(),
        log_bytes_per_second: 2.4e6,
    });
    let missing = plot.story("missing-index")?;
    model.events = vec![
        event(
            missing.began_at(plot.end)?,
            None,
            Happening::Change(Change {
                cost: Some(Cost { ms: missing.after, rows: 110.0, hit_pages: 9_400.0, read_pages: 61.0, ..Cost::default() }),
                touches: Some(vec![reads_all(leg)]),
                plan: Some("Seq Scan on passage_leg  (cost=0.00..245310.00 rows=110 width=40)\n  Filter: ((crossing_id = $1) AND (state = $2))".into()),
                ..unchanged(0)
            }),
        ),
        event(lagging.began_at(plot.end)?, None, Happening::Lag(lagging.after / lagging.before)),
    ];
    Ok(model)
}
