use anyhow::Result;
use hurnix_source::simulated::{Cost, FamilyModel, Happening, How, Model, Shape};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{client, daily, event, office, reads, reads_all, server, table, waits, writes};

/// Harbour dues, settled at night.
pub(super) fn model(plot: &Plot) -> Result<Model> {
    let mut model = server(107, plot.began_at(), "settle", 4);
    model.tables = vec![
        table(
            "berth_call",
            3.3e6,
            92.0,
            &[
                ("berth_call_id", "integer", -1.0),
                ("harbour_id", "integer", 2_400.0),
                ("berthed_at", "timestamp with time zone", -0.9),
            ],
            &[("berth_call_pkey", &["berth_call_id"]), ("berth_call_harbour", &["harbour_id", "berthed_at"])],
        ),
        table(
            "harbour_due",
            2.6e6,
            70.0,
            &[("harbour_due_id", "bigint", -1.0), ("harbour_id", "integer", 2_400.0), ("settled_on", "date", 700.0)],
            &[("harbour_due_pkey", &["harbour_due_id"]), ("harbour_due_harbour", &["harbour_id"])],
        ),
    ];
    let (call, due) = (0, 1);
    let flood = plot.story("literal-flood")?;
    let forgotten = plot.story("transaction-ids")?;
    let night = daily(&[60], 210);
    model.families = vec![
        FamilyModel {
            // The server keeps the literals of a call as they are: each harbour is a statement of its own.
            text: "CALL settle_dues('SK{n}')".into(),
            variants: flood.after as u32,
            shape: night.clone(),
            per_second: 3.0,
            cost: Cost {
                ms: 210.0,
                rows: 0.0,
                hit_pages: 1_900.0,
                read_pages: 120.0,
                dirtied_pages: 11.0,
                log_bytes: 9_000.0,
                ..Cost::default()
            },
            waits: waits(0.25, 0.1, 0.0),
            ..client("skerry_settle", "night batch", "10.8.1.2")
        },
        FamilyModel {
            text: "SELECT berth_call_id, dues FROM berth_call WHERE harbour_id = $1 AND berthed_at >= $2".into(),
            shape: night.clone(),
            per_second: 3.0,
            cost: Cost { ms: 120.0, rows: 90.0, hit_pages: 1_500.0, read_pages: 110.0, ..Cost::default() },
            waits: waits(0.4, 0.0, 0.0),
            touches: vec![reads(call, 1, 90.0)],
            plan: "Index Scan using berth_call_harbour on berth_call  (cost=0.43..340.00 rows=90 width=16)".into(),
            ..client("skerry_settle", "night batch", "10.8.1.2")
        },
        FamilyModel {
            text: "INSERT INTO harbour_due (harbour_id, settled_on, amount) VALUES ($1, $2, $3)".into(),
            shape: night,
            per_second: 3.0,
            cost: Cost { ms: 1.2, rows: 1.0, hit_pages: 9.0, dirtied_pages: 0.6, log_bytes: 380.0, ..Cost::default() },
            waits: waits(0.0, 0.5, 0.0),
            touches: vec![writes(due, How::Insert, 1.0)],
            plan: "Insert on harbour_due  (cost=0.00..0.01 rows=0 width=0)".into(),
            ..client("skerry_settle", "night batch", "10.8.1.2")
        },
        FamilyModel {
            text: "SELECT harbour_id, sum(amount) FROM harbour_due WHERE settled_on >= $1 GROUP BY harbour_id".into(),
            shape: office(),
            per_second: 0.03,
            cost: Cost { ms: 1_900.0, rows: 2_400.0, hit_pages: 19_000.0, read_pages: 3_100.0, ..Cost::default() },
            waits: waits(0.3, 0.0, 0.0),
            touches: vec![reads_all(due)],
            plan: "HashAggregate  (cost=61000.00..61030.00 rows=2400 width=36)\n  ->  Seq Scan on harbour_due".into(),
            ..client("skerry_office", "dues sheet", "10.4.3.5")
        },
    ];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &[
                "harbour_bill",
                "pilotage",
                "mooring_fee",
                "waste_fee",
                "ledger",
                "posting",
                "reminder",
                "payment_run",
                "currency",
                "tax_rule",
            ],
            owner: "harbour_id",
            only_reads: false,
            tables: 40,
            families: 80,
            load: 2.2,
            programs: &[
                Program { account: "skerry_office", name: "dues desk", network: "10.8.3", clients: 5, shape: office },
                Program { account: "skerry_web", name: "harbour site", network: "10.8.2", clients: 5, shape: office },
                Program {
                    account: "skerry_bank",
                    name: "payment feed",
                    network: "10.8.7",
                    clients: 2,
                    shape: Shape::steady,
                },
            ],
        },
    );
    model.transactions_per_second = forgotten.after;
    model.events = vec![event(forgotten.began_at(plot.end)?, None, Happening::OldTransaction { prepared: true })];
    Ok(model)
}
