use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use hurnix_cluster::{Cluster, Setup};
use hurnix_demo::{Pace, Traffic, WATCH_ACCOUNT, load_passage, passage_settings, set_watch_password};
use hurnix_server::{Intervals, Sealer};
use hurnix_store::{NewInstance, Retention, Store};
use tokio::process::{Child, Command};

use crate::{Measured, median};

/// One stretch of measuring, with or without Hurnix. Long enough for several readings of everything at
/// the demo's short intervals, which are twelve times as dense as the defaults.
const STRETCH: Duration = Duration::from_secs(10);
/// Time to settle after Hurnix was started or stopped.
const SETTLE: Duration = Duration::from_secs(2);
const PAIRS: usize = 15;
/// Traffic before the first stretch.
const WARM_UP: Duration = Duration::from_secs(10);

/// Throughput of the traffic without pauses, both cores busy, with and without Hurnix collecting and
/// writing on the same machine: the loss in each of several neighbouring pairs, and their median.
pub async fn run() -> Result<()> {
    let passage = Cluster::temporary(Setup { settings: &settings(), password_accounts: &[WATCH_ACCOUNT] })?;
    let repository = Cluster::temporary(Setup { settings: &[("synchronous_commit", "off")], ..Setup::default() })?;
    load_passage(&passage).await?;
    let folder = tempfile_folder()?;
    let key_file = folder.join("key");
    register(&repository, &passage, &key_file).await?;

    let traffic = Traffic::start(passage.port(), Pace::Flat, 7);
    tokio::time::sleep(WARM_UP).await;
    let mut losses = Vec::new();
    for pair in 0..PAIRS {
        // The order alternates, so that a machine that drifts does not favour either.
        let (with, without) = if pair % 2 == 0 {
            let with = with_hurnix(&traffic, &repository, &key_file).await?;
            (with, without_hurnix(&traffic).await)
        } else {
            let without = without_hurnix(&traffic).await;
            (with_hurnix(&traffic, &repository, &key_file).await?, without)
        };
        let loss = 1.0 - with / without;
        eprintln!("pair {pair}: {with:.0} with, {without:.0} without transactions/s: {:+.2} % lost", loss * 100.0);
        losses.push(loss);
    }
    traffic.stop().await;
    let loss = median(losses);
    Measured {
        bench: format!("overhead at the demo's intervals: median loss of throughput in {PAIRS} pairs"),
        value: loss * 100.0,
        unit: "%",
        against: "the same traffic without Hurnix",
        ratio: 1.0 - loss,
    }
    .print();
    std::fs::remove_dir_all(&folder)?;
    Ok(())
}

fn settings() -> Vec<(&'static str, &'static str)> {
    let steady = [
        // Without waiting for the disk both cores stay busy, which is when an overhead shows.
        ("synchronous_commit", "off"),
        // What comes and goes by itself would fall into one stretch of a pair and not into the other.
        ("autovacuum", "off"),
        ("checkpoint_timeout", "1h"),
        ("max_wal_size", "16GB"),
    ];
    passage_settings().into_iter().chain(steady).collect()
}

fn tempfile_folder() -> Result<PathBuf> {
    let folder = std::env::temp_dir().join(format!("hurnix-bench-{}", std::process::id()));
    std::fs::create_dir_all(&folder)?;
    Ok(folder)
}

async fn with_hurnix(traffic: &Traffic, repository: &Cluster, key_file: &Path) -> Result<f64> {
    let mut hurnix = start(repository, key_file)?;
    tokio::time::sleep(SETTLE).await;
    let throughput = measure(traffic).await;
    anyhow::ensure!(hurnix.try_wait()?.is_none(), "Hurnix ended by itself");
    hurnix.kill().await?;
    Ok(throughput)
}

async fn without_hurnix(traffic: &Traffic) -> f64 {
    tokio::time::sleep(SETTLE).await;
    measure(traffic).await
}

/// Transactions per second over one stretch.
async fn measure(traffic: &Traffic) -> f64 {
    let (before, start) = (traffic.transactions(), Instant::now());
    tokio::time::sleep(STRETCH).await;
    (traffic.transactions() - before) as f64 / start.elapsed().as_secs_f64()
}

async fn register(repository: &Cluster, passage: &Cluster, key_file: &Path) -> Result<()> {
    repository.ensure_database("hurnix").await?;
    let store = Store::open(&repository.url("hurnix"), Retention::default()).await?;
    set_watch_password(passage, "bench").await?;
    store
        .add_instance(&NewInstance {
            label: "passage-a".into(),
            host: "127.0.0.1".into(),
            port: passage.port(),
            database_name: "passage".into(),
            account_name: WATCH_ACCOUNT.into(),
            secret_sealed: Sealer::open(key_file)?.seal("bench")?,
            tls_mode: "off".into(),
        })
        .await?;
    Ok(())
}

fn start(repository: &Cluster, key_file: &Path) -> Result<Child> {
    let program = std::env::current_exe()?.with_file_name("hurnix");
    let mut command = Command::new(program);
    command
        .arg("serve")
        .env("HURNIX_REPOSITORY", repository.url("hurnix"))
        .env("HURNIX_LISTEN", "127.0.0.1:0")
        .env("HURNIX_KEY_FILE", key_file)
        .env("HURNIX_LOG", "error")
        .stdin(Stdio::null())
        .kill_on_drop(true);
    command.envs(Intervals::DEMO);
    command.spawn().context("starting Hurnix")
}
