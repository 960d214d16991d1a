use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use hurnix_core::Timestamp;
use hurnix_core::findings::robust::{SeededRng, quantile};
use hurnix_core::instance::engine::Engine;
use hurnix_server::backfill;
use hurnix_store::Store;
use reqwest::Client;
use serde_json::json;
use sqlx::Executor;
use tokio::task::JoinSet;

use crate::machine::{self, add_reader, start_hurnix, working_folder};
use crate::{Measured, typical};

const INSTANCES: usize = 50;
const DAYS: f64 = 30.0;
/// Instances whose history is written at a time.
const AT_A_TIME: usize = 3;
/// Windows asked for, of each sort of answer.
const WINDOWS: usize = 150;
const SHORTEST_SECONDS: f64 = 300.0;

/// Thirty days of fifty instances in the repository: how long the API takes for load, top statements and one
/// metric, each of windows of any length and place and of any instance, and what the history takes on disk.
pub async fn run() -> Result<()> {
    let (repository, store) = machine::repository().await?;
    let end = machine::now();
    let begin = Timestamp(end.plus_seconds(-DAYS * 86_400.0).0 / 60_000_000 * 60_000_000);
    let numbers = fill(&store, begin, end).await?;
    // As the server does by itself in the course of a day.
    repository.connect("hurnix").await?.execute("VACUUM ANALYZE").await?;
    print_sizes(&repository).await?;

    add_reader(&store).await?;
    let folder = working_folder()?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let (mut hurnix, _guard) = start_hurnix(&repository, &folder.join("key"), &format!("127.0.0.1:{port}"), &[])?;
    let base = format!("http://127.0.0.1:{port}/api/v1");
    let client = signed_in(&base).await?;

    let mut rng = SeededRng::new(5);
    let answers: [(&str, &[&str]); 3] = [
        ("load", &["load", "load/breakdown?by=family"]),
        ("top statements", &["statements"]),
        ("one metric", &["metrics/cpu_used?object=user", "metrics/table_size?object=public.deck_7"]),
    ];
    for (what, paths) in answers {
        let mut times = Vec::new();
        for window in 0..WINDOWS {
            // Lengths spread evenly over their logarithm, from five minutes to all of it.
            let longest = end.seconds_since(begin);
            let length = SHORTEST_SECONDS * (longest / SHORTEST_SECONDS).powf(rng.below(1001) as f64 / 1000.0);
            let to = end.plus_seconds(-(longest - length) * rng.below(1001) as f64 / 1000.0);
            let instance = numbers[rng.below(numbers.len())];
            let path = paths[window % paths.len()];
            let sign = if path.contains('?') { '&' } else { '?' };
            let (from, to) = (written(to.plus_seconds(-length)), written(to));
            let url = format!("{base}/instances/{instance}/{path}{sign}from={from}&to={to}");
            let begun = Instant::now();
            let answer = client.get(&url).send().await?;
            let (status, body) = (answer.status(), answer.text().await?);
            times.push(begun.elapsed().as_secs_f64() * 1e3);
            anyhow::ensure!(status.is_success(), "{url}: {status} {body}");
        }
        for (name, share, limit) in [("median", 0.5, 200.0), ("95th percentile", 0.95, 500.0)] {
            let value = quantile(&times, share).unwrap_or_default();
            Measured {
                bench: format!("reads: {what} of any window, {DAYS} days of {INSTANCES} instances, {name}"),
                value,
                unit: "ms",
                against: "the limit",
                ratio: value / limit,
            }
            .print();
        }
    }
    hurnix.kill().await?;
    std::fs::remove_dir_all(&folder)?;
    Ok(())
}

/// A moment as the API takes it: whole seconds, by the server's own arithmetic on the epoch.
pub fn written(at: Timestamp) -> String {
    let time = std::time::UNIX_EPOCH + Duration::from_micros(at.0.max(0) as u64);
    humantime::format_rfc3339_seconds(time).to_string()
}

async fn fill(store: &Store, begin: Timestamp, end: Timestamp) -> Result<Vec<i32>> {
    let begun = Instant::now();
    let mut numbers = Vec::new();
    let mut writing = JoinSet::new();
    for n in 0..INSTANCES {
        let model = typical::model(n as u64, begin);
        let id = store
            .add_unconnected(
                &format!("deck-{n:03}"),
                Engine::Simulated,
                &json!({}),
                Some(&serde_json::to_value(&model)?),
            )
            .await?;
        numbers.push(id);
        if writing.len() >= AT_A_TIME {
            writing.join_next().await.context("one is being written")???;
        }
        let store = store.clone();
        writing.spawn(async move { backfill(&store, id, model, end).await });
    }
    while let Some(ended) = writing.join_next().await {
        ended??;
    }
    eprintln!("history written after {:.0} s", begun.elapsed().as_secs_f64());
    tokio::try_join!(roll_up(store, end), roll_up(store, end))?;
    store.keep_partitions(end).await?;
    eprintln!("and summed up after {:.0} s", begun.elapsed().as_secs_f64());
    Ok(numbers)
}

async fn roll_up(store: &Store, end: Timestamp) -> Result<()> {
    while store.roll_up(end).await? > 0 {}
    Ok(())
}

pub async fn signed_in(base: &str) -> Result<Client> {
    let client = Client::builder().cookie_store(true).build()?;
    let deadline = Instant::now() + Duration::from_secs(30);
    loop {
        let body = json!({ "name": "bench", "password": "bench" });
        match client.post(format!("{base}/session")).json(&body).send().await {
            Ok(answer) if answer.status().is_success() => return Ok(client),
            other if Instant::now() > deadline => anyhow::bail!("signing in failed: {other:?}"),
            _ => tokio::time::sleep(Duration::from_millis(100)).await,
        }
    }
}

/// What the history takes, by level and by instance and day.
async fn print_sizes(repository: &Cluster) -> Result<()> {
    let sql = "SELECT CASE WHEN parent.relname LIKE '%\\_ten\\_minutes' THEN 'in ten minutes'
                           WHEN parent.relname LIKE '%\\_hour' THEN 'in hours' WHEN parent.relname LIKE '%\\_day' THEN 'in days' ELSE 'as read, every ten minutes but for the last day' END AS level,
                      sum(pg_total_relation_size(c.oid))::float8 AS bytes
               FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid JOIN pg_class parent ON parent.oid = i.inhparent
               WHERE c.relkind = 'r' GROUP BY 1 ORDER BY 1";
    let rows: Vec<(String, f64)> = sqlx::query_as(sql).fetch_all(&mut repository.connect("hurnix").await?).await?;
    let total: f64 = rows.iter().map(|(_, bytes)| bytes).sum();
    for (level, bytes) in rows {
        // As read, no more than a week and the day that runs is kept.
        let days = if level.starts_with("as read") { 7.0 } else { DAYS };
        Measured {
            bench: format!("reads: repository {level}, {} statements, by instance and day", typical::FAMILIES),
            value: bytes / INSTANCES as f64 / days / 1e6,
            unit: "MB",
            against: "all levels together",
            ratio: bytes / total,
        }
        .print();
    }
    Ok(())
}
