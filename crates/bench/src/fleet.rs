use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use hurnix_core::Timestamp;
use hurnix_core::instance::engine::Engine;
use serde_json::json;
use sqlx::Row;

use crate::machine::{
    self, add_reader, given_seconds, memory_bytes, processor_seconds, server_seconds, start_hurnix, working_folder,
};
use crate::reads::signed_in;
use crate::{Measured, median, typical};

/// Sizes of the fleet.
const SIZES: [usize; 3] = [50, 150, 500];
/// Instances connect and tell their texts.
const WARM_UP: Duration = Duration::from_secs(100);
/// How often the list of all instances is asked for.
const ROSTERS: usize = 21;
/// What is summed up and judged at the end of each ten minutes falls into it once, whenever it begins.
const MEASURED: Duration = Duration::from_secs(600);

/// One process of Hurnix collects a fleet of simulated instances, counters every minute and activity every ten
/// seconds: processor time of that process (with the simulation in it) and of the repository's server, memory,
/// and how fast the repository grows. It must not fall behind.
pub async fn run() -> Result<()> {
    let mut first = None;
    for size in SIZES {
        let found = measure(size).await?;
        let smallest = *first.get_or_insert(found);
        anyhow::ensure!(found.missed == 0 && found.dropped == 0, "{size} instances: it fell behind: {found:?}");
        let lines = [
            ("processor time of Hurnix, simulation included", found.hurnix, smallest.hurnix, "% of one core"),
            ("processor time of the repository's server", found.repository, smallest.repository, "% of one core"),
            ("memory of Hurnix", found.memory / 1e6, smallest.memory / 1e6, "MB"),
            ("figures as read, by instance and day", found.bytes_a_day / 1e6, smallest.bytes_a_day / 1e6, "MB"),
            ("the list of all instances", found.roster_ms, smallest.roster_ms, "ms"),
        ];
        for (what, value, of_smallest, unit) in lines {
            Measured {
                bench: format!("fleet of {size}: {what}"),
                value,
                unit,
                against: "the fleet of 50",
                ratio: value / of_smallest,
            }
            .print();
        }
    }
    Ok(())
}

#[derive(Debug, Clone, Copy)]
struct Found {
    hurnix: f64,
    repository: f64,
    memory: f64,
    bytes_a_day: f64,
    roster_ms: f64,
    missed: i64,
    dropped: i64,
}

async fn measure(size: usize) -> Result<Found> {
    let (repository, store) = machine::repository().await?;
    let began_at = Timestamp(
        (std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH)?.as_secs() as i64 - 7200) * 1_000_000,
    );
    let pace = json!({ "intervals": { "activity": 10, "activity_write": 60 } });
    for n in 0..size {
        let model = serde_json::to_value(typical::model(n as u64, began_at))?;
        let id = store.add_unconnected(&format!("deck-{n:03}"), Engine::Simulated, &pace, Some(&model)).await?;
        store.simulated_ready(id).await?;
    }
    let folder = working_folder()?;
    add_reader(&store).await?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let (mut hurnix, _guard) = start_hurnix(&repository, &folder.join("key"), &format!("127.0.0.1:{port}"), &[])?;
    let process = hurnix.id().context("Hurnix runs")? as i32;
    tokio::time::sleep(WARM_UP).await;

    let before =
        (processor_seconds(process), server_seconds(&repository).await?, bytes(&repository).await?, given_seconds()?);
    let tallies = tallies(&repository).await?;
    tokio::time::sleep(MEASURED).await;
    anyhow::ensure!(hurnix.try_wait()?.is_none(), "Hurnix ended by itself");
    let after =
        (processor_seconds(process), server_seconds(&repository).await?, bytes(&repository).await?, given_seconds()?);
    let seconds = MEASURED.as_secs_f64();
    let since = self::tallies(&repository).await?;
    let expected = size as f64 * seconds / 60.0;
    let read = (since.0 - tallies.0) as f64;
    eprintln!(
        "{size} instances: {read} readings of statements, {expected} due; given {:.0} of {seconds} s",
        after.3 - before.3
    );
    anyhow::ensure!(read > 0.9 * expected, "{size} instances: {read} readings of statements, and {expected} were due");
    let found = Found {
        hurnix: (after.0 - before.0) / seconds * 100.0,
        repository: (after.1 - before.1) / seconds * 100.0,
        memory: memory_bytes(process),
        bytes_a_day: (after.2 - before.2) / size as f64 / seconds * 86_400.0,
        roster_ms: roster_ms(port).await?,
        missed: since.1 - tallies.1,
        dropped: since.2 - tallies.2,
    };
    hurnix.kill().await?;
    std::fs::remove_dir_all(&folder)?;
    Ok(found)
}

/// How long the list of all instances takes over the API, usually.
async fn roster_ms(port: u16) -> Result<f64> {
    let base = format!("http://127.0.0.1:{port}/api/v1");
    let client = signed_in(&base).await?;
    let mut times = Vec::new();
    for _ in 0..ROSTERS {
        let begun = Instant::now();
        client.get(format!("{base}/instances")).send().await?.error_for_status()?.bytes().await?;
        times.push(begun.elapsed().as_secs_f64() * 1e3);
    }
    Ok(median(times))
}

/// Readings of statements, and readings of all kinds that were missed or dropped.
async fn tallies(repository: &Cluster) -> Result<(i64, i64, i64)> {
    let row = sqlx::query(
        "SELECT coalesce(sum(read) FILTER (WHERE figures = 'statements'), 0)::bigint AS read,
                coalesce(sum(missed), 0)::bigint AS missed, coalesce(sum(dropped), 0)::bigint AS dropped FROM collection_tally",
    )
    .fetch_one(&mut repository.connect("hurnix").await?)
    .await?;
    Ok((row.get("read"), row.get("missed"), row.get("dropped")))
}

/// Bytes of all figures as they were read, with their indexes.
async fn bytes(repository: &Cluster) -> Result<f64> {
    let sql =
        "SELECT sum(pg_total_relation_size(c.oid))::float8 FROM pg_class c JOIN pg_inherits i ON i.inhrelid = c.oid
               JOIN pg_class parent ON parent.oid = i.inhparent
               WHERE c.relkind = 'r' AND parent.relname !~ '_(ten_minutes|hour|day)$'";
    Ok(sqlx::query_scalar(sql).fetch_one(&mut repository.connect("hurnix").await?).await?)
}
