//! What models of Skerry Line's servers are put together from.

use hurnix_core::Timestamp;
use hurnix_core::WaitKind;
use hurnix_source::Setting;
use hurnix_source::simulated::{
    Burst, Change, Connections, Event, FamilyModel, Happening, Host, How, IndexModel, Model, Shape, TableModel, Touch,
};

/// Bytes of a GiB.
pub const GIB: f64 = 1_073_741_824.0;

/// A server without tables and statements yet, begun at a moment.
pub fn server(seed: u64, began_at: Timestamp, database: &str, cpus: i32) -> Model {
    let setting = |name: &str, value: &str, unit: Option<&str>| Setting {
        name: name.into(),
        value: Some(value.into()),
        unit: unit.map(str::to_owned),
        source: "configuration file".into(),
        pending_restart: false,
    };
    Model {
        seed,
        began_at,
        version: "15.8".into(),
        databases: vec![database.into()],
        tables: Vec::new(),
        families: Vec::new(),
        settings: vec![
            setting("autovacuum", "on", None),
            setting("checkpoint_timeout", "300", Some("s")),
            setting("effective_cache_size", "1572864", Some("8kB")),
            setting("maintenance_work_mem", "524288", Some("kB")),
            setting("max_connections", "300", None),
            setting("max_wal_size", "4096", Some("MB")),
            setting("random_page_cost", "1.1", None),
            setting("shared_buffers", "524288", Some("8kB")),
            setting("work_mem", "16384", Some("kB")),
        ],
        connections: Connections { kept: 24, per_second: 0.05, seconds: 600.0, allowed: 300 },
        host: Host {
            cpus,
            memory_bytes: 16.0 * GIB,
            volume_bytes: 400.0 * GIB,
            other_bytes: 30.0 * GIB,
            watts: (82.0, 31.0),
        },
        lag: None,
        transactions_per_second: 20.0,
        events: Vec::new(),
    }
}

/// A table; its first index is its primary key. Columns are (name, type, different values).
pub fn table(
    name: &str,
    rows: f64,
    row_bytes: f64,
    columns: &[(&str, &str, f64)],
    indexes: &[(&str, &[&str])],
) -> TableModel {
    TableModel {
        name: name.into(),
        rows,
        row_bytes,
        columns: columns.iter().map(|(name, kind, distinct)| ((*name).into(), (*kind).into(), *distinct)).collect(),
        indexes: indexes.iter().enumerate().map(|(position, (name, keys))| index(name, keys, position == 0)).collect(),
    }
}

/// An index.
pub fn index(name: &str, keys: &[&str], primary: bool) -> IndexModel {
    IndexModel {
        name: name.into(),
        keys: keys.iter().map(|key| (*key).into()).collect(),
        unique: primary,
        constraint: primary,
        entry_bytes: 18.0 + 10.0 * keys.len() as f64,
    }
}

/// A statement without text and cost yet, of a client that works steadily.
pub fn client(account: &str, program: &str, client: &str) -> FamilyModel {
    FamilyModel {
        text: String::new(),
        variants: 1,
        account: account.into(),
        program: program.into(),
        client: client.into(),
        database: 0,
        shape: Shape::steady(),
        per_second: 1.0,
        cost: Default::default(),
        waits: Vec::new(),
        touches: Vec::new(),
        plan: String::new(),
    }
}

/// Reads rows of a table by the index at a position.
pub fn reads(table: usize, index: usize, rows: f64) -> Touch {
    Touch { table, how: How::ReadBy(index), rows }
}

/// Reads all of a table.
pub fn reads_all(table: usize) -> Touch {
    Touch { table, how: How::ReadAll, rows: 0.0 }
}

/// Does something else to rows of a table.
pub fn writes(table: usize, how: How, rows: f64) -> Touch {
    Touch { table, how, rows }
}

/// Waits for storage, log and locks with these shares of the time.
pub fn waits(storage: f64, log: f64, lock: f64) -> Vec<(WaitKind, String, f64)> {
    let all = [
        (WaitKind::StorageRead, "IO:DataFileRead", storage),
        (WaitKind::LogWrite, "IO:WALSync", log),
        (WaitKind::Lock, "Lock:transactionid", lock),
    ];
    all.into_iter()
        .filter(|(_, _, share)| *share > 0.0)
        .map(|(kind, event, share)| (kind, event.into(), share))
        .collect()
}

/// A change of a family that leaves everything as it was, to be filled in.
pub fn unchanged(family: usize) -> Change {
    Change { family, calls: 1.0, cost: None, touches: None, waits: None, plan: None }
}

/// Something that happens from a moment on.
pub fn event(at: Timestamp, until: Option<Timestamp>, what: Happening) -> Event {
    Event { at, until, what }
}

const ALL_DAYS: [u8; 7] = [0, 1, 2, 3, 4, 5, 6];

/// Travellers: mornings and evenings, more at the end of the week, few at night.
pub fn travel() -> Shape {
    Shape {
        hours: vec![
            0.1, 0.05, 0.05, 0.05, 0.1, 0.4, 0.9, 1.2, 1.1, 0.9, 0.8, 0.8, 0.9, 0.9, 0.9, 1.0, 1.2, 1.4, 1.3, 1.0, 0.7,
            0.5, 0.3, 0.2,
        ],
        days: [0.9, 0.85, 0.85, 0.95, 1.25, 1.3, 1.1],
        bursts: Vec::new(),
    }
}

/// Offices: from eight to six on working days.
pub fn office() -> Shape {
    Shape {
        hours: vec![
            0.03, 0.03, 0.03, 0.03, 0.03, 0.05, 0.1, 0.4, 1.0, 1.2, 1.2, 1.1, 0.8, 1.0, 1.1, 1.1, 1.0, 0.6, 0.3, 0.15,
            0.1, 0.05, 0.03, 0.03,
        ],
        days: [1.0, 1.0, 1.0, 1.0, 0.95, 0.15, 0.1],
        bursts: Vec::new(),
    }
}

/// Gates: twenty minutes before each departure, every two hours from six in the morning to ten at night.
pub fn departures() -> Shape {
    let starts = (3..=11).map(|two_hours| two_hours * 120 - 20).collect();
    Shape {
        hours: vec![0.04; 24],
        days: [0.9, 0.85, 0.85, 0.95, 1.2, 1.25, 1.1],
        bursts: vec![Burst { days: ALL_DAYS.into(), starts, minutes: 20, level: 1.0, month_end: false }],
    }
}

/// Nothing, but for some minutes at these minutes of these days.
pub fn at_times(days: &[u8], starts: &[u16], minutes: u16) -> Shape {
    let bursts = vec![Burst { days: days.into(), starts: starts.into(), minutes, level: 1.0, month_end: false }];
    Shape { hours: vec![0.0; 24], days: [1.0; 7], bursts }
}

/// The same on every day.
pub fn daily(starts: &[u16], minutes: u16) -> Shape {
    at_times(&ALL_DAYS, starts, minutes)
}

/// The same on the last day of a month only.
pub fn at_month_end(starts: &[u16], minutes: u16) -> Shape {
    let mut shape = daily(starts, minutes);
    shape.bursts.iter_mut().for_each(|burst| burst.month_end = true);
    shape
}
