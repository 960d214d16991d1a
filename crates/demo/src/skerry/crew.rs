use anyhow::Result;
use hurnix_source::simulated::{Burst, Change, Cost, FamilyModel, Happening, How, Model};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{
    at_month_end, at_times, client, event, office, reads, reads_all, server, table, travel, unchanged, waits, writes,
};

/// Duty sheets and rest rules.
pub(super) fn model(plot: &Plot) -> Result<Model> {
    let mut model = server(105, plot.began_at(), "crew", 4);
    model.tables = vec![
        table(
            "duty_sheet",
            1.9e6,
            140.0,
            &[
                ("duty_sheet_id", "bigint", -1.0),
                ("sailor_id", "integer", 1_400.0),
                ("vessel_id", "integer", 18.0),
                ("starts_at", "timestamp with time zone", -0.4),
                ("settled", "boolean", 2.0),
            ],
            &[
                ("duty_sheet_pkey", &["duty_sheet_id"]),
                ("duty_sailor_start", &["sailor_id", "starts_at"]),
                // Nobody reads these two; the third says the same as the second.
                ("duty_vessel", &["vessel_id"]),
                ("duty_remark", &["remark"]),
                ("duty_sailor_start_old", &["sailor_id", "starts_at"]),
                // Read at the end of a month only.
                ("duty_settlement", &["settled", "starts_at"]),
            ],
        ),
        table(
            "sailor",
            1_400.0,
            160.0,
            &[("sailor_id", "integer", -1.0), ("rank", "text", 9.0)],
            &[("sailor_pkey", &["sailor_id"])],
        ),
        table(
            "rest_rule",
            300.0,
            90.0,
            &[("rest_rule_id", "integer", -1.0), ("rank", "text", 9.0)],
            &[("rest_rule_pkey", &["rest_rule_id"])],
        ),
    ];
    let (duty, sailor, rule) = (0, 1, 2);
    let mut watches = office();
    watches.bursts.push(Burst {
        days: vec![0, 1, 2, 3, 4, 5, 6],
        starts: vec![225, 705, 1185],
        minutes: 30,
        level: 3.0,
        month_end: false,
    });
    let crew = |program| FamilyModel { shape: watches.clone(), ..client("skerry_crew", program, "10.6.1.9") };
    let report = Cost { ms: 4_200.0, rows: 1_400.0, hit_pages: 41_000.0, read_pages: 2_000.0, ..Cost::default() };
    let setting = plot.story("setting-change")?;
    model.families = vec![
        FamilyModel {
            text: "SELECT duty_sheet_id, vessel_id, starts_at, ends_at FROM duty_sheet WHERE sailor_id = $1 AND starts_at >= $2 ORDER BY starts_at".into(),
            per_second: 18.0,
            cost: Cost { ms: 1.3, rows: 14.0, hit_pages: 19.0, read_pages: 0.2, ..Cost::default() },
            waits: waits(0.1, 0.0, 0.0),
            touches: vec![reads(duty, 1, 14.0)],
            plan: "Index Scan using duty_sailor_start on duty_sheet  (cost=0.43..31.70 rows=14 width=32)".into(),
            ..crew("watch plan")
        },
        FamilyModel {
            text: "SELECT r.hours FROM rest_rule r JOIN sailor s ON s.rank = r.rank WHERE s.sailor_id = $1".into(),
            per_second: 17.0,
            cost: Cost { ms: 0.6, rows: 4.0, hit_pages: 7.0, ..Cost::default() },
            touches: vec![reads(sailor, 0, 1.0), reads_all(rule)],
            plan: "Nested Loop  (cost=0.28..16.05 rows=4 width=4)\n  ->  Index Scan using sailor_pkey on sailor s\n  ->  Seq Scan on rest_rule r".into(),
            ..crew("watch plan")
        },
        FamilyModel {
            text: "INSERT INTO duty_sheet (sailor_id, vessel_id, starts_at, ends_at, settled) VALUES ($1, $2, $3, $4, $5)".into(),
            per_second: 1.6,
            cost: Cost { ms: 2.2, rows: 1.0, hit_pages: 24.0, dirtied_pages: 3.0, log_bytes: 900.0, ..Cost::default() },
            waits: waits(0.05, 0.5, 0.0),
            touches: vec![writes(duty, How::Insert, 1.0)],
            plan: "Insert on duty_sheet  (cost=0.00..0.01 rows=0 width=0)".into(),
            ..crew("duty desk")
        },
        FamilyModel {
            text: "UPDATE duty_sheet SET ends_at = $2 WHERE duty_sheet_id = $1".into(),
            per_second: 2.4,
            cost: Cost { ms: 1.7, rows: 1.0, hit_pages: 15.0, dirtied_pages: 2.0, log_bytes: 700.0, ..Cost::default() },
            waits: waits(0.02, 0.45, 0.1),
            touches: vec![reads(duty, 0, 1.0), writes(duty, How::Update, 1.0)],
            plan: "Update on duty_sheet  (cost=0.43..8.45 rows=0 width=0)\n  ->  Index Scan using duty_sheet_pkey on duty_sheet".into(),
            ..crew("duty desk")
        },
        FamilyModel {
            text: "SELECT s.sailor_id, s.rank, sum(d.ends_at - d.starts_at) FROM duty_sheet d JOIN sailor s USING (sailor_id) WHERE d.starts_at >= $1 GROUP BY 1, 2 ORDER BY 3 DESC".into(),
            shape: at_times(&[0], &[7 * 60], 90),
            per_second: 0.05,
            cost: Cost { temp_pages: setting.before, ..report },
            waits: waits(0.2, 0.0, 0.0),
            touches: vec![reads_all(duty), reads_all(sailor)],
            plan: "Sort  (cost=88120.00..88123.50 rows=1400 width=24)\n  ->  HashAggregate\n        ->  Hash Join\n              ->  Seq Scan on duty_sheet d\n              ->  Hash\n                    ->  Seq Scan on sailor s".into(),
            ..client("skerry_office", "Monday report", "10.6.3.5")
        },
        FamilyModel {
            text: "UPDATE duty_sheet SET settled = $1 WHERE NOT settled AND starts_at < $2".into(),
            shape: at_month_end(&[20 * 60], 30),
            per_second: 0.01,
            cost: Cost { ms: 15_000.0, rows: 9_000.0, hit_pages: 61_000.0, read_pages: 8_000.0, dirtied_pages: 7_000.0, log_bytes: 9.0e6, ..Cost::default() },
            waits: waits(0.3, 0.2, 0.0),
            touches: vec![reads(duty, 5, 9_000.0), writes(duty, How::Update, 9_000.0)],
            plan: "Update on duty_sheet  (cost=0.43..2210.00 rows=0 width=0)\n  ->  Index Scan using duty_settlement on duty_sheet".into(),
            ..client("skerry_settle", "month end", "10.5.9.3")
        },
    ];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &["rota", "leave", "certificate", "training", "muster", "cabin_place", "payslip", "shift_swap"],
            owner: "sailor_id",
            only_reads: false,
            tables: 36,
            families: 76,
            load: 1.4,
            programs: &[
                Program { account: "skerry_crew", name: "watch plan", network: "10.6.1", clients: 6, shape: office },
                Program { account: "skerry_crew", name: "crew app", network: "10.6.2", clients: 9, shape: travel },
                Program { account: "skerry_office", name: "crew office", network: "10.6.3", clients: 3, shape: office },
            ],
        },
    );
    set(&mut model, "work_mem", "65536");
    let from = setting.began_at(plot.end)?;
    let spilling = Cost { ms: 9_800.0, temp_pages: setting.after, ..report };
    model.events = vec![
        event(from, None, Happening::Setting { name: "work_mem".into(), value: "4096".into() }),
        event(
            from,
            None,
            Happening::Change(Change {
                cost: Some(spilling),
                waits: Some(vec![
                    (hurnix_core::WaitKind::TempSpace, "IO:BufFileWrite".into(), 0.35),
                    (hurnix_core::WaitKind::TempSpace, "IO:BufFileRead".into(), 0.2),
                ]),
                ..unchanged(4)
            }),
        ),
    ];
    Ok(model)
}

fn set(model: &mut Model, name: &str, value: &str) {
    for setting in model.settings.iter_mut().filter(|setting| setting.name == name) {
        setting.value = Some(value.into());
    }
}
