use anyhow::Result;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_source::simulated::{Cost, FamilyModel, Happening, How, Model, Shape};

use super::Plot;
use super::everyday::{self, Everyday, Program};
use super::parts::{client, daily, event, office, reads, reads_all, server, table, travel, waits, writes};

/// Readings of all gauges and masts in a second.
const READINGS_PER_SECOND: f64 = 240.0;

/// Tide and weather readings, kept for ever.
pub(super) fn model(plot: &Plot) -> Result<Model> {
    let mut model = server(106, plot.began_at(), "tides", 4);
    model.tables = vec![
        table(
            "tide_reading",
            280e6,
            104.0,
            &[
                ("harbour_id", "integer", 24.0),
                ("read_at", "timestamp with time zone", -0.9),
                ("level_cm", "integer", 700.0),
            ],
            &[("tide_reading_pkey", &["harbour_id", "read_at"])],
        ),
        table(
            "tide_table",
            210_000.0,
            60.0,
            &[("harbour_id", "integer", 24.0), ("day", "date", 8_800.0)],
            &[("tide_table_pkey", &["harbour_id", "day"])],
        ),
    ];
    let (reading, tide_table) = (0, 1);
    model.families = vec![
        FamilyModel {
            text: "INSERT INTO tide_reading (harbour_id, read_at, level_cm) SELECT * FROM unnest($1::int[], $2::timestamptz[], $3::int[])".into(),
            per_second: READINGS_PER_SECOND / 24.0,
            cost: Cost { ms: 6.5, rows: 24.0, hit_pages: 96.0, read_pages: 0.4, dirtied_pages: 4.2, log_bytes: 4_100.0, ..Cost::default() },
            waits: waits(0.05, 0.45, 0.0),
            touches: vec![writes(reading, How::Insert, 24.0)],
            plan: "Insert on tide_reading  (cost=0.00..0.25 rows=0 width=0)\n  ->  Function Scan on unnest".into(),
            ..client("skerry_gauge", "gauge feed", "10.7.1.2")
        },
        FamilyModel {
            text: "SELECT read_at, level_cm FROM tide_reading WHERE harbour_id = $1 ORDER BY read_at DESC LIMIT $2".into(),
            shape: travel(),
            per_second: 55.0,
            cost: Cost { ms: 0.4, rows: 12.0, hit_pages: 8.0, ..Cost::default() },
            touches: vec![reads(reading, 0, 12.0)],
            plan: "Limit  (cost=0.57..9.10 rows=12 width=12)\n  ->  Index Scan Backward using tide_reading_pkey on tide_reading".into(),
            ..client("skerry_gate", "pier board", "10.4.1.31")
        },
        FamilyModel {
            text: "SELECT day, high_at, low_at FROM tide_table WHERE harbour_id = $1 AND day BETWEEN $2 AND $3".into(),
            shape: travel(),
            per_second: 12.0,
            cost: Cost { ms: 0.5, rows: 7.0, hit_pages: 6.0, ..Cost::default() },
            touches: vec![reads(tide_table, 0, 7.0)],
            plan: "Index Scan using tide_table_pkey on tide_table  (cost=0.42..9.80 rows=7 width=20)".into(),
            ..client("skerry_crew", "watch plan", "10.6.1.9")
        },
        FamilyModel {
            text: "INSERT INTO tide_summary SELECT harbour_id, date_trunc($1, read_at), min(level_cm), max(level_cm) FROM tide_reading WHERE read_at >= $2 GROUP BY 1, 2".into(),
            shape: daily(&[15], 25),
            per_second: 0.01,
            cost: Cost { ms: 52_000.0, rows: 24.0, hit_pages: 150_000.0, read_pages: 310_000.0, log_bytes: 5_000.0, ..Cost::default() },
            waits: waits(0.7, 0.0, 0.0),
            touches: vec![reads_all(reading)],
            plan: "Insert on tide_summary\n  ->  HashAggregate\n        ->  Seq Scan on tide_reading".into(),
            ..client("skerry_ops", "nightly summary", "10.7.9.2")
        },
    ];
    everyday::add(
        &mut model,
        &Everyday {
            topics: &["gauge", "mast", "buoy", "forecast", "warning"],
            owner: "harbour_id",
            only_reads: true,
            tables: 28,
            families: 58,
            load: 0.8,
            programs: &[
                Program {
                    account: "skerry_gauge",
                    name: "station keeper",
                    network: "10.7.1",
                    clients: 5,
                    shape: Shape::steady,
                },
                Program { account: "skerry_web", name: "tide site", network: "10.7.2", clients: 6, shape: travel },
                Program {
                    account: "skerry_office",
                    name: "weather desk",
                    network: "10.7.3",
                    clients: 3,
                    shape: office,
                },
            ],
        },
    );
    let restart = plot.story("restart")?;
    model.events = vec![event(restart.began_at(plot.end)?, restart.ended_at(plot.end)?, Happening::Restart)];

    // Room for as many more days as the story says, at the rate of today.
    let of_row = |table: &hurnix_source::simulated::TableModel| {
        table.row_bytes + table.indexes.iter().map(|index| index.entry_bytes).sum::<f64>()
    };
    let growth_per_day = READINGS_PER_SECOND * SECONDS_PER_DAY * of_row(&model.tables[reading]);
    let there: f64 = model.tables.iter().map(|table| table.rows * of_row(table)).sum();
    let days = plot.end.seconds_since(model.began_at) / SECONDS_PER_DAY + plot.story("slow-growth")?.after;
    model.host.volume_bytes = model.host.other_bytes + there + growth_per_day * days;
    Ok(model)
}
