use std::collections::HashMap;
use std::time::Instant;

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::activity::Session;
use hurnix_core::counters::StatementCounters;
use hurnix_core::detail::Detail;
use hurnix_core::load::Load;
use hurnix_core::{At, WaitKind, Window};
use hurnix_store::*;
use sqlx::Executor;

use crate::{Measured, median};

/// An hour of what the demo collects: a look a second with four busy sessions, counters every five
/// seconds with thirty families that ran.
const HOUR: i64 = 3600;
const BUSY: i32 = 4;
const FAMILIES: i64 = 30;
const START: i64 = 1_772_000_000;
const RUNS: usize = 60;

/// Milliseconds for the figures of the load page and of the statements page from an hour of history,
/// against the same page from five minutes of it.
pub async fn run() -> Result<()> {
    let repository = Cluster::temporary(Setup::default())?;
    repository.ensure_database("hurnix").await?;
    let store = Store::open(&repository.url("hurnix"), Retention::default()).await?;
    let instance = fill(&store).await?;
    // As the server would have done by itself in an hour.
    repository.connect("hurnix").await?.execute("ANALYZE").await?;
    let hour = Window { from: second(0), to: second(HOUR) };
    let minutes = Window { from: second(HOUR - 300), to: second(HOUR) };

    let mut load = HashMap::new();
    let mut parts = HashMap::new();
    let mut statements = HashMap::new();
    for (name, window) in [("hour", hour), ("minutes", minutes)] {
        let (mut load_ms, mut parts_ms, mut statements_ms) = (Vec::new(), Vec::new(), Vec::new());
        for _ in 0..RUNS {
            let start = Instant::now();
            let pieces = store.pieces(instance, window, Detail::for_window(window), second(HOUR)).await?;
            store.load(instance, &pieces, window.cell_seconds(120, 1), None).await?;
            load_ms.push(start.elapsed().as_secs_f64() * 1e3);
            let start = Instant::now();
            store.breakdown(instance, &pieces, Dimension::Family, 40).await?;
            parts_ms.push(start.elapsed().as_secs_f64() * 1e3);
            let start = Instant::now();
            let query =
                StatementQuery { search: None, order: StatementOrder::Time, descending: true, offset: 0, limit: 25 };
            store.statements(instance, &pieces, &query).await?;
            store.coverage(instance, &pieces).await?;
            statements_ms.push(start.elapsed().as_secs_f64() * 1e3);
        }
        load.insert(name, median(load_ms));
        parts.insert(name, median(parts_ms));
        statements.insert(name, median(statements_ms));
    }
    for (bench, times) in
        [("load of an hour", load), ("parts of an hour's load", parts), ("statements of an hour", statements)]
    {
        Measured {
            bench: format!("reads: {bench}, median"),
            value: times["hour"],
            unit: "ms",
            against: "the same of five minutes",
            ratio: times["hour"] / times["minutes"],
        }
        .print();
    }
    Ok(())
}

fn second(second: i64) -> At {
    At((START + second) * 1_000_000)
}

async fn fill(store: &Store) -> Result<i32> {
    let instance = store
        .add_instance(&NewInstance {
            label: "passage-a".into(),
            host: "127.0.0.1".into(),
            port: 5432,
            database_name: "passage".into(),
            account_name: "hurnix_watch".into(),
            secret_sealed: Vec::new(),
            tls_mode: "off".into(),
        })
        .await?;
    let families: Vec<NewFamily> = (0..FAMILIES)
        .map(|n| NewFamily {
            fingerprint: n,
            text: format!("select col_{n} from passage_leg where crossing_id = ?"),
            tag: None,
            sample: String::new(),
            sample_is_the_servers: true,
        })
        .collect();
    let numbers = store.families(instance, &families, second(0)).await?;
    let name = store.names(instance, &["gate".into()]).await?["gate"];

    let sessions: Vec<Session> = (0..BUSY).map(session).collect();
    let samples: Vec<_> = (0..HOUR)
        .map(|at| {
            let rows = sessions.iter().enumerate().map(|(n, session)| ActivityRow {
                session,
                event_id: None,
                family_id: Some(numbers[&((at + n as i64 * 7) % FAMILIES)]),
                account_id: name,
                program_id: name,
                client_id: name,
                database_id: name,
                awaited: None,
            });
            (second(at), 20, rows.collect())
        })
        .collect();
    store.write_activity(instance, &samples).await?;

    let by = StatementCounters { calls: 20, exec_us: 40_000, rows: 200, hit_pages: 900, ..Default::default() };
    let rows: Vec<_> = numbers
        .values()
        .map(|family_id| PeriodRow {
            object: StatementObject { family_id: *family_id, account_id: name, database_id: name },
            by,
            lower_bound: false,
        })
        .collect();
    for to in (5..=HOUR).step_by(5) {
        let snapshot = WrittenSnapshot {
            taken_at: second(to),
            read_ms: 2.0,
            server_started_at: second(-1000),
            reset_at: None,
            period: Ok(Period { from: second(to - 5), rows: &rows }),
            as_read: &(),
        };
        store.write_snapshot(instance, &snapshot).await?;
    }
    Ok(instance)
}

fn session(process: i32) -> Session {
    Session {
        process,
        started_at: second(-100),
        wait_kind: WaitKind::at_position(process as usize % Load::default().busy.len()),
        event: None,
        query_id: None,
        text: String::new(),
        account: String::new(),
        program: String::new(),
        client: String::new(),
        database: String::new(),
        transaction_started_at: None,
        statement_started_at: None,
        blocked_by: Vec::new(),
        awaited: None,
    }
}
