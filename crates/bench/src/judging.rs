use std::path::Path;
use std::time::{Duration, Instant};

use anyhow::{Context, Result, ensure};

use hurnix_core::Timestamp;
use hurnix_core::instance::engine::Engine;
use hurnix_server::backfill;
use reqwest::Client;
use serde_json::json;

use crate::machine::{self, add_reader, memory_bytes, start_hurnix, working_folder};
use crate::reads::signed_in;
use crate::{Measured, median, typical};

const FAMILIES: usize = 5_000;
/// Those of which each takes more than a thousandth of the time, so that they are looked at one by one: nearly as many as
/// there can be.
const THAT_MATTER: usize = 800;
/// Seconds that one of them takes of a second.
const OF_EACH: f64 = 0.002;
const HISTORY_SECONDS: f64 = 21.0 * 86_400.0;
/// New buckets that are waited for.
const BUCKETS: usize = 5;
const AT_MOST: Duration = Duration::from_secs(300);
/// Seconds that a new bucket may take, and all of the history.
const MOST_OF_A_BUCKET: f64 = 1.0;
const MOST_OF_HISTORY: f64 = 60.0;

/// Lasting changes of a server of 5,000 families with three weeks of history, as the running Hurnix looks for them, and by
/// its own count: reading from the repository and writing to it included. Buckets of a minute, so that new ones end
/// soon; each is looked at with the 431 before it, as those of ten minutes are.
pub async fn run() -> Result<()> {
    let (repository, store) = machine::repository().await?;
    let now = Timestamp(machine::now().0 / 60_000_000 * 60_000_000);
    let mut model = typical::wide(0, now.plus_seconds(-HISTORY_SECONDS), FAMILIES);
    for (number, family) in model.families.iter_mut().enumerate() {
        let share = if number < THAT_MATTER { 1.0 } else { 0.02 };
        family.per_second = share * OF_EACH * 1e3 / family.cost.ms;
    }
    let kept = serde_json::to_value(&model)?;
    let pace = json!({ "intervals": { "bucket": 60 } });
    let id = store.add_unconnected("wide", Engine::Simulated, &pace, Some(&kept)).await?;
    backfill(&store, id, model, now).await?;
    while store.roll_up(now).await? > 0 {}
    eprintln!("three weeks written after {:.0} s", machine::now().seconds_since(now));
    store.simulated_ready(id).await?;
    add_reader(&store).await?;
    let folder = working_folder()?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let address = format!("127.0.0.1:{port}");
    let (mut hurnix, _guard) = start_hurnix(&repository, &folder.join("key"), &address, &[("HURNIX_ANALYSIS", "2s")])?;
    let process = hurnix.id().context("Hurnix runs")? as i32;
    let client = signed_in(&format!("http://{address}/api/v1")).await?;

    let history = Looks::of("history", 1, &client, &address).await?;
    let mut last = Looks::of("last_days", 1, &client, &address).await?;
    let first = last.seconds;
    let mut each = Vec::new();
    for _ in 0..BUCKETS {
        let next = Looks::of("last_days", last.count + 1, &client, &address).await?;
        each.push((next.seconds - last.seconds) / (next.count - last.count) as f64);
        last = next;
    }
    let figures = [
        ("all of three weeks", history.seconds, MOST_OF_HISTORY),
        ("the last 432 buckets, read anew", first, MOST_OF_HISTORY),
        ("one new bucket", median(each), MOST_OF_A_BUCKET),
    ];
    for (what, value, limit) in figures {
        let bench = format!("judging {FAMILIES} families, reading included: {what}");
        Measured { bench, value, unit: "s", against: "what it may take", ratio: value / limit }.print();
    }
    let value = memory_bytes(process) / 1e6;
    let bench = format!("judging {FAMILIES} families: memory of Hurnix");
    Measured { bench, value, unit: "MB", against: "100 MB", ratio: value / 100.0 }.print();
    hurnix.kill().await?;
    std::fs::remove_dir_all(Path::new(&folder))?;
    Ok(())
}

/// Looks for lasting changes that were made so far, and how long they took together.
struct Looks {
    count: usize,
    seconds: f64,
}

impl Looks {
    /// As Hurnix counts them, as soon as there are so many over this much of the history.
    async fn of(over: &str, count: usize, client: &Client, address: &str) -> Result<Looks> {
        let begun = Instant::now();
        loop {
            let text = client.get(format!("http://{address}/metrics")).send().await?.text().await?;
            let value = |name: &str| {
                let line = format!("{name}{{over=\"{over}\"}} ");
                text.lines().find_map(|found| found.strip_prefix(&line)?.parse::<f64>().ok()).unwrap_or_default()
            };
            let looks =
                Looks { count: value("hurnix_judged_total") as usize, seconds: value("hurnix_judged_seconds_total") };
            if looks.count >= count {
                return Ok(looks);
            }
            ensure!(begun.elapsed() < AT_MOST, "no look over {over} after {AT_MOST:?}");
            tokio::time::sleep(Duration::from_millis(500)).await;
        }
    }
}
