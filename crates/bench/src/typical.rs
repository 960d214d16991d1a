//! An instance like many: what benches fill a fleet with.

use hurnix_core::{Timestamp, WaitKind};
use hurnix_source::simulated::{
    Connections, Cost, FamilyModel, Host, How, IndexModel, Model, Shape, TableModel, Touch,
};

/// Statements, tables and indexes of it.
pub const FAMILIES: usize = 120;
const TABLES: usize = 40;
const INDEXES_OF_TABLE: usize = 3;

/// A server with two to three busy sessions on average, whose load is spread over its statements as loads are:
/// few cost much, most cost little, and the rare ones do not run every minute.
pub fn model(seed: u64, began_at: Timestamp) -> Model {
    let index = |table: usize, number: usize| IndexModel {
        name: format!("deck_{table}_{number}"),
        keys: vec![format!("key_{number}")],
        unique: number == 0,
        constraint: number == 0,
        entry_bytes: 24.0,
    };
    let column = |number: usize| (format!("key_{number}"), "bigint".to_owned(), -0.5);
    let tables: Vec<TableModel> = (0..TABLES)
        .map(|table| TableModel {
            name: format!("deck_{table}"),
            rows: 1e5 * (table + 1) as f64,
            row_bytes: 90.0,
            columns: (0..8).map(column).collect(),
            indexes: (0..INDEXES_OF_TABLE).map(|number| index(table, number)).collect(),
        })
        .collect();
    let family = |n: usize| {
        let table = (n * 7) % TABLES;
        let by = n % INDEXES_OF_TABLE;
        let writes = n % 4 == 3;
        let mut hours = vec![0.4; 24];
        hours[8..18].fill(1.2);
        FamilyModel {
            text: if writes {
                format!("UPDATE deck_{table} SET key_7 = $2 WHERE key_{by} = $1 AND key_6 <> {}", n % 9)
            } else {
                format!("SELECT key_1, key_2 FROM deck_{table} WHERE key_{by} = $1 AND key_{} > $2", n % 5 + 3)
            },
            variants: 1,
            account: format!("skerry_{}", n % 3),
            program: format!("program {}", n % 8),
            client: format!("10.3.0.{}", n % 20),
            database: 0,
            shape: Shape { hours, days: [1.0, 1.0, 1.0, 1.0, 1.0, 0.6, 0.5], bursts: Vec::new() },
            per_second: 60.0 / (n + 1) as f64,
            cost: Cost {
                ms: 1.0 + (n % 17) as f64,
                rows: 5.0,
                hit_pages: 20.0,
                read_pages: 1.0,
                dirtied_pages: if writes { 1.0 } else { 0.0 },
                log_bytes: if writes { 300.0 } else { 0.0 },
                ..Cost::default()
            },
            waits: vec![(WaitKind::StorageRead, "IO:DataFileRead".into(), 0.2)],
            touches: vec![Touch { table, how: if writes { How::Update } else { How::ReadBy(by) }, rows: 5.0 }],
            plan: "Index Scan".into(),
        }
    };
    Model {
        seed,
        began_at,
        version: "15.8".into(),
        databases: vec!["deck".into(), "postgres".into()],
        tables,
        families: (0..FAMILIES).map(family).collect(),
        settings: Vec::new(),
        connections: Connections { kept: 40, per_second: 1.0, seconds: 5.0, allowed: 200 },
        host: Host { cpus: 8, memory_bytes: 16e9, volume_bytes: 4e11, other_bytes: 3e10, watts: (80.0, 30.0) },
        lag: None,
        transactions_per_second: 10.0,
        events: Vec::new(),
    }
}

/// The same with many families.
pub fn wide(seed: u64, began_at: Timestamp, families: usize) -> Model {
    let mut model = model(seed, began_at);
    let like = model.families.clone();
    let family = |n: usize| {
        let of = &like[n % like.len()];
        FamilyModel {
            text: format!("SELECT key_1, key_{} AS leg_{n} FROM deck_{} WHERE key_{seed} = $1", n % 7, n % 40),
            per_second: 40.0 / (n + 1) as f64 + 0.02,
            cost: Cost { ms: 0.5 + (n % 23) as f64, ..of.cost },
            ..of.clone()
        }
    };
    model.families = (0..families).map(family).collect();
    model
}
