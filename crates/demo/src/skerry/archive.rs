use anyhow::Result;
use hurnix_core::WaitKind;
use hurnix_source::simulated::{Cost, FamilyModel, Happening, Model, Shape};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{GIB, at_times, client, event, office, reads, reads_all, server, table, waits};

/// Old seasons: large tables, rarely read.
pub(super) fn model(plot: &Plot) -> Result<Model> {
    let mut model = server(108, plot.began_at(), "archive", 4);
    model.tables = vec![
        table(
            "season_passage",
            310e6,
            110.0,
            &[("passage_id", "bigint", -1.0), ("season", "integer", 19.0), ("remark", "text", -0.4)],
            &[("season_passage_pkey", &["passage_id"]), ("season_passage_season", &["season"])],
        ),
        table(
            "season_scan",
            540e6,
            58.0,
            &[("gate_scan_id", "bigint", -1.0), ("season", "integer", 19.0)],
            &[("season_scan_pkey", &["gate_scan_id"])],
        ),
    ];
    let (passage, scan) = (0, 1);
    model.host.volume_bytes = 800.0 * GIB;
    model.families = vec![
        FamilyModel {
            text: "SELECT passage_id, season, remark FROM season_passage WHERE remark ILIKE $1 ORDER BY season, passage_id".into(),
            shape: at_times(&[2], &[13 * 60], 30),
            per_second: 0.001,
            cost: Cost { ms: 190_000.0, rows: 200.0, hit_pages: 20_000.0, read_pages: 900_000.0, ..Cost::default() },
            waits: vec![(WaitKind::StorageRead, "IO:DataFileRead".into(), 0.8)],
            touches: vec![reads_all(passage)],
            plan: "Sort  (cost=7810000.00..7811000.00 rows=400000 width=60)\n  ->  Seq Scan on season_passage\n        Filter: (remark ~~* $1)".into(),
            ..client("skerry_crew", "free-text hunt", "10.6.1.77")
        },
        FamilyModel {
            text: "SELECT passage_id, remark FROM season_passage WHERE passage_id = $1".into(),
            shape: office(),
            per_second: 0.6,
            cost: Cost { ms: 7.0, rows: 1.0, hit_pages: 4.0, read_pages: 2.5, ..Cost::default() },
            waits: waits(0.8, 0.0, 0.0),
            touches: vec![reads(passage, 0, 1.0)],
            plan: "Index Scan using season_passage_pkey on season_passage  (cost=0.57..8.59 rows=1 width=48)".into(),
            ..client("skerry_office", "old passages", "10.4.3.5")
        },
        FamilyModel {
            text: "SELECT season, count(*) FROM season_scan GROUP BY season".into(),
            shape: at_times(&[4], &[9 * 60], 20),
            per_second: 0.001,
            cost: Cost { ms: 240_000.0, rows: 19.0, hit_pages: 9_000.0, read_pages: 1_600_000.0, ..Cost::default() },
            waits: waits(0.85, 0.0, 0.0),
            touches: vec![reads_all(scan)],
            plan: "HashAggregate  (cost=9900000.00..9900000.19 rows=19 width=12)\n  ->  Seq Scan on season_scan".into(),
            ..client("skerry_office", "season sheet", "10.4.3.5")
        },
    ];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &["old_booking", "old_rota", "old_bill", "old_manifest"],
            owner: "season_id",
            only_reads: false,
            tables: 28,
            families: 57,
            load: 0.25,
            programs: &[
                Program { account: "skerry_office", name: "season desk", network: "10.9.3", clients: 3, shape: office },
                Program {
                    account: "skerry_audit",
                    name: "season check",
                    network: "10.9.4",
                    clients: 2,
                    shape: Shape::steady,
                },
                Program {
                    account: "skerry_crew",
                    name: "old rota search",
                    network: "10.9.1",
                    clients: 2,
                    shape: office,
                },
            ],
        },
    );
    let giant = plot.story("giant-search")?;
    model.events = vec![event(
        giant.began_at(plot.end)?,
        giant.ended_at(plot.end)?,
        Happening::Giant { family: 0, temp_bytes: giant.after * GIB },
    )];
    // The machine is switched off for an hour one night, so that its history has a gap.
    let off = plot.began_at().plus_seconds(6.0 * 86_400.0 + 2.0 * 3600.0);
    model.events.push(event(off, Some(off.plus_seconds(3600.0)), Happening::Away));
    // A vacuum of the largest table, that goes on while somebody looks: half of it is done in three hours.
    let largest = (0..model.tables.len()).max_by(|a, b| {
        let bytes = |table: &usize| model.tables[*table].rows * model.tables[*table].row_bytes;
        bytes(a).total_cmp(&bytes(b))
    });
    let [from, to] = [-1.0, 2.0].map(|hours| plot.end.plus_seconds(hours * 3600.0));
    model.events.extend(largest.map(|table| event(from, Some(to), Happening::Vacuum { table })));
    Ok(model)
}
