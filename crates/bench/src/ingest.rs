use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use futures::StreamExt;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::At;
use hurnix_core::counters::StatementCounters;
use hurnix_core::difference::Snapshot;
use hurnix_core::statement::StatementKey;
use hurnix_store::*;
use sqlx::postgres::PgConnection;
use sqlx::{Connection, Executor};

use crate::{Measured, median};

/// Statements of a large server, all of which ran.
const ROWS: i64 = 5_000;
const RUNS: i64 = 41;
const START: i64 = 1_772_000_000;

/// Rows per second from a snapshot in memory to a committed period in the repository, with what the next
/// difference starts from, against binary COPY of the same bytes into a bare table, in turns.
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
        })
        .await?;
    let mut admin = repository.connect("hurnix").await?;
    admin.execute("CREATE TABLE bare (LIKE statement_period)").await?;
    // Room for the day, as it is there when the collector writes.
    write(&store, instance, 0).await?;
    let bytes = copied_out(&mut admin).await?;

    let (mut ours, mut raw) = (Vec::new(), Vec::new());
    for run in 1..=RUNS {
        ours.push(write(&store, instance, run).await?.as_secs_f64());
        let begun = Instant::now();
        let mut transaction = admin.begin().await?;
        let mut copy = transaction.copy_in_raw("COPY bare FROM STDIN WITH (FORMAT binary)").await?;
        copy.send(bytes.as_slice()).await?;
        copy.finish().await?;
        transaction.commit().await?;
        raw.push(begun.elapsed().as_secs_f64());
    }
    let (ours, raw) = (median(ours), median(raw));
    Measured {
        bench: format!("ingest: a snapshot of {ROWS} statements into the repository"),
        value: ROWS as f64 / ours,
        unit: "rows/s",
        against: "binary COPY of the same bytes into a bare table",
        ratio: raw / ours,
    }
    .print();
    Ok(())
}

/// Writes the snapshot of a minute; answers how long that took, from the counters on.
async fn write(store: &Store, instance: i32, minute: i64) -> Result<Duration> {
    let at = At((START + minute * 60) * 1_000_000);
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
        at,
        server_started_at: At(0),
        reset_at: None,
        evictions: Some(0),
        rows: (0..ROWS).map(|n| (key(n), by(n))).collect(),
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
        server_started_at: At(0),
        reset_at: None,
        period: Ok(Period { from: At(at.0 - 60_000_000), rows: &rows }),
        as_read: &as_read,
    };
    anyhow::ensure!(store.write_snapshot(instance, &snapshot).await?, "the snapshot was new");
    Ok(begun.elapsed())
}

/// The rows of the repository as the server itself writes them for COPY.
async fn copied_out(admin: &mut PgConnection) -> Result<Vec<u8>> {
    let mut parts = admin.copy_out_raw("COPY (SELECT * FROM statement_period) TO STDOUT WITH (FORMAT binary)").await?;
    let mut bytes = Vec::new();
    while let Some(part) = parts.next().await {
        bytes.extend_from_slice(&part.context("reading what was written")?);
    }
    Ok(bytes)
}
