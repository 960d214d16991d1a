use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use futures::StreamExt;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::Timestamp;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::difference::{Evictions, Snapshot, Trace};
use hurnix_core::readings::statement::StatementKey;
use hurnix_store::*;
use sqlx::postgres::PgConnection;
use sqlx::{Connection, Executor};

use crate::{Measured, median};

/// Statements of a large server, all of which ran.
const ROWS: i64 = 5_000;
const RUNS: i64 = 41;
const START: i64 = 1_772_000_000;

/// Rows per second from a snapshot in memory to a committed period in the repository, with what the next
/// difference starts from, against binary COPY into bare tables, in turns: of the same bytes, and of a
/// row for each statement.
pub async fn run() -> Result<()> {
    let repository = Cluster::temporary(Setup { settings: &[("max_wal_size", "8GB")], ..Setup::default() })?;
    repository.ensure_database("hurnix").await?;
    let store = Store::open(&repository.url("hurnix"), Retention::default()).await?;
    let instance = store
        .add_instance(&NewInstance {
            label: "passage-a".into(),
            host: "127.0.0.1".into(),
            port: 5432,
            database_name: "passage".into(),
            account_name: "hurnix_watch".into(),
            secret_sealed: Vec::new(),
            tls_mode: "off".into(),
            ..NewInstance::default()
        })
        .await?;
    let mut admin = repository.connect("hurnix").await?;
    admin.execute("CREATE TABLE bare_lists (LIKE statement_period INCLUDING COMPRESSION)").await?;
    // Room for the day, as it is there when the collector writes.
    write(&store, instance, 0).await?;
    let lists = copied_out(&mut admin, "*").await?;
    let columns = ["family_id", "account_id", "database_id", "lower_bound"];
    let unpacked: Vec<String> =
        columns.iter().chain(StatementCounters::NAMES).map(|column| format!("unnest({column}) AS {column}")).collect();
    let bare_rows = format!(
        "CREATE TABLE bare_rows AS SELECT instance_id, to_at, {} FROM statement_period WITH NO DATA",
        unpacked.join(", ")
    );
    admin.execute(sqlx::AssertSqlSafe(bare_rows)).await?;
    let rows = copied_out(&mut admin, &format!("instance_id, to_at, {}", unpacked.join(", "))).await?;

    let (mut ours, mut raw_lists, mut raw_rows) = (Vec::new(), Vec::new(), Vec::new());
    for run in 1..=RUNS {
        ours.push(write(&store, instance, run).await?.as_secs_f64());
        raw_lists.push(copy_in(&mut admin, "bare_lists", &lists).await?.as_secs_f64());
        raw_rows.push(copy_in(&mut admin, "bare_rows", &rows).await?.as_secs_f64());
    }
    let ours = median(ours);
    for (against, raw) in [
        ("binary COPY of the same bytes into a bare table", raw_lists),
        ("binary COPY of a row for each statement into a bare table", raw_rows),
    ] {
        Measured {
            bench: format!("ingest: a snapshot of {ROWS} statements into the repository"),
            value: ROWS as f64 / ours,
            unit: "rows/s",
            against,
            ratio: median(raw) / ours,
        }
        .print();
    }
    Ok(())
}

/// Copies bytes into a table in a transaction of its own; answers how long that took.
async fn copy_in(admin: &mut PgConnection, table: &'static str, bytes: &[u8]) -> Result<Duration> {
    let begun = Instant::now();
    let mut transaction = admin.begin().await?;
    let mut copy = transaction.copy_in_raw(&format!("COPY {table} FROM STDIN WITH (FORMAT binary)")).await?;
    copy.send(bytes).await?;
    copy.finish().await?;
    transaction.commit().await?;
    Ok(begun.elapsed())
}

/// Writes the snapshot of a minute; answers how long that took, from the counters on.
async fn write(store: &Store, instance: i32, minute: i64) -> Result<Duration> {
    let at = Timestamp((START + minute * 60) * 1_000_000);
    let by = |n: i64| StatementCounters {
        calls: 20 + n % 7,
        exec_us: 40_000 + n,
        rows: 200,
        hit_pages: 900,
        log_bytes: 3_000,
        ..Default::default()
    };
    let key = |n: i64| StatementKey {
        database_oid: 16_384,
        account_oid: 10,
        query_id: n.wrapping_mul(0x5851_f42d_4c95_7f2d),
        top_level: true,
    };
    let as_read = Snapshot {
        evictions: Evictions::Times(0),
        traces: (0..ROWS).map(|n| Trace::Largest(n * 7_919 % 40_000_000)).collect(),
        ..Snapshot::new(at, Timestamp(0), (0..ROWS).map(|n| (key(n), by(n))).collect())
    };
    let rows: Vec<_> = (0..ROWS)
        .map(|n| PeriodRow {
            object: StatementObject { family_id: n, account_id: 1, database_id: 2 },
            by: by(n),
            lower_bound: false,
        })
        .collect();
    let begun = Instant::now();
    let snapshot = WrittenSnapshot {
        taken_at: at,
        read_ms: 20.0,
        server_started_at: Timestamp(0),
        reset_at: None,
        period: Ok(Period { from: Timestamp(at.0 - 60_000_000), rows: &rows }),
        as_read: &as_read,
    };
    anyhow::ensure!(store.write_snapshot(instance, &snapshot).await?, "the snapshot was new");
    Ok(begun.elapsed())
}

/// What the repository holds, as the server itself writes it for COPY.
async fn copied_out(admin: &mut PgConnection, columns: &str) -> Result<Vec<u8>> {
    let sql = format!("COPY (SELECT {columns} FROM statement_period) TO STDOUT WITH (FORMAT binary)");
    let mut parts = admin.copy_out_raw(&sql).await?;
    let mut bytes = Vec::new();
    while let Some(part) = parts.next().await {
        bytes.extend_from_slice(&part.context("reading what was written")?);
    }
    Ok(bytes)
}
