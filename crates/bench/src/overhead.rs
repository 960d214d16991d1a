use std::path::Path;
use std::time::Duration;

use anyhow::{Context, Result};
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::findings::robust::{SeededRng, quantile};
use hurnix_core::keeping::retention::Retention;
use hurnix_demo::{Pace, Traffic, WATCH_ACCOUNT, load_passage, passage_settings, set_watch_password};
use hurnix_server::{Intervals, Sealer};
use hurnix_store::{NewInstance, Store};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use sqlx::Executor;

use crate::machine::{given_seconds, processes, processor_seconds, start_hurnix, working_folder};
use crate::{Measured, crowd, large, median};

/// Time to settle after Hurnix was held or let go.
const SETTLE: Duration = Duration::from_secs(1);
/// Traffic before the first stretch.
const WARM_UP: Duration = Duration::from_secs(15);
/// Resamples behind the interval of the median.
const RESAMPLES: u64 = 2000;

/// How one measurement of the overhead is made.
struct Way {
    name: &'static str,
    /// One stretch of measuring, with Hurnix at work or held.
    stretch: Duration,
    pairs: usize,
    /// Intervals of Hurnix by variable; the usual ones where there are none.
    intervals: &'static [(&'static str, &'static str)],
    /// What the watched server is like.
    server: Watched,
}

/// What a watched server is like.
#[derive(Clone, Copy, PartialEq)]
enum Watched {
    /// The demo's.
    Usual,
    /// With many tables and statements.
    Large,
    /// With many sessions, many of which wait.
    Crowded,
}

/// What watching costs the demo's traffic without pauses, both cores busy, with Hurnix and its repository on
/// the same machine: throughput with Hurnix at work against throughput while it is held still, in neighbouring
/// stretches, and the time of the processors that each part of it took, by the kernel's own count. At the
/// usual intervals on a large server, and on one with many sessions; and at the demo's short ones.
pub async fn run() -> Result<()> {
    let demo = Way {
        name: "at the demo's intervals",
        stretch: Duration::from_secs(5),
        pairs: 24,
        intervals: &Intervals::DEMO,
        server: Watched::Usual,
    };
    // Without a budget: on a server whose cores are all busy Hurnix would read less often, and that is not what
    // is to be measured. Short stretches, since the machine's own speed drifts by far more than is to be seen.
    // What is read every minute is then read in every third of them, twice as often for its time as it would
    // be: the loss is overstated rather than understated.
    let large = Way {
        name: "on a large server, at full collection",
        stretch: Duration::from_secs(10),
        pairs: 60,
        intervals: &[("HURNIX_BUDGET_SHARE", "1")],
        server: Watched::Large,
    };
    let crowded = Way {
        name: "with 2,000 sessions, 500 waiting, at full collection",
        stretch: Duration::from_secs(10),
        pairs: 20,
        intervals: &[("HURNIX_BUDGET_SHARE", "1")],
        server: Watched::Crowded,
    };
    measure_way(&crowded).await?;
    measure_way(&large).await?;
    measure_way(&demo).await
}

async fn measure_way(way: &Way) -> Result<()> {
    let passage =
        Cluster::temporary(Setup { settings: &settings(), password_accounts: &[WATCH_ACCOUNT], version: None })?;
    let repository = Cluster::temporary(Setup { settings: &[("synchronous_commit", "off")], ..Setup::default() })?;
    load_passage(&passage).await?;
    let _idle = if way.server == Watched::Large { large::enlarge(&passage).await? } else { Vec::new() };
    let _crowd = if way.server == Watched::Crowded { Some(crowd::gather(&passage).await?) } else { None };
    let folder = working_folder()?;
    let key_file = folder.join("key");
    register(&repository, &passage, &key_file).await?;

    let traffic = Traffic::start(passage.port(), Pace::Flat, 7);
    let (mut hurnix, _guard) = start_hurnix(&repository, &key_file, "127.0.0.1:0", way.intervals)?;
    let process = Pid::from_raw(hurnix.id().context("Hurnix runs")? as i32);
    tokio::time::sleep(WARM_UP).await;
    let mut losses = Vec::new();
    let mut spent = Spent::default();
    for pair in 0..way.pairs {
        // The order alternates, so that a machine that drifts does not favour either.
        let mut throughput = [0.0; 2];
        for working in if pair % 2 == 0 { [true, false] } else { [false, true] } {
            kill(process, if working { Signal::SIGCONT } else { Signal::SIGSTOP })?;
            // What updates leave behind would slow the traffic down from pair to pair.
            passage.connect("passage").await?.execute("VACUUM pier_board, vehicle_slot").await?;
            tokio::time::sleep(SETTLE).await;
            let before = Spent::so_far(process, &passage, &repository).await?;
            throughput[usize::from(working)] = measure(&traffic, way.stretch).await?;
            if working {
                spent.add(&Spent::so_far(process, &passage, &repository).await?, &before);
            }
        }
        let [without, with] = throughput;
        losses.push(1.0 - with / without);
        eprintln!("pair {pair}: {with:.0} with, {without:.0} without transactions/s");
    }
    kill(process, Signal::SIGCONT)?;
    anyhow::ensure!(hurnix.try_wait()?.is_none(), "Hurnix ended by itself");
    hurnix.kill().await?;
    traffic.stop().await;

    let loss = median(losses.clone());
    let (low, high) = interval_of_median(&losses);
    Measured {
        bench: format!(
            "overhead {}: median loss of throughput in {} pairs, 95 % interval {:.1} to {:.1} %",
            way.name,
            way.pairs,
            low * 100.0,
            high * 100.0
        ),
        value: loss * 100.0,
        unit: "%",
        against: "the same traffic while Hurnix is held still",
        ratio: 1.0 - loss,
    }
    .print();
    let seconds = way.stretch.as_secs_f64() * way.pairs as f64;
    for (bench, cpu_seconds) in [
        ("Hurnix's sessions on the watched server", spent.watched),
        ("the process of Hurnix", spent.hurnix),
        ("all of the repository's server", spent.repository),
    ] {
        Measured {
            bench: format!("overhead {}: processor time of {bench}", way.name),
            value: cpu_seconds / seconds * 100.0,
            unit: "% of one core",
            against: "both cores",
            ratio: cpu_seconds / seconds / 2.0,
        }
        .print();
    }
    Measured {
        bench: format!("overhead {}: looks at the sessions", way.name),
        value: spent.looks / seconds,
        unit: "a second",
        against: "one a second",
        ratio: spent.looks / seconds,
    }
    .print();
    std::fs::remove_dir_all(&folder)?;
    Ok(())
}

/// Where the median would lie in 95 of 100 such runs, by resampling the pairs.
fn interval_of_median(losses: &[f64]) -> (f64, f64) {
    let mut rng = SeededRng::new(1);
    let medians: Vec<f64> =
        (0..RESAMPLES).map(|_| median((0..losses.len()).map(|_| losses[rng.below(losses.len())]).collect())).collect();
    (quantile(&medians, 0.025).unwrap_or_default(), quantile(&medians, 0.975).unwrap_or_default())
}

/// Processor time in seconds, by the kernel's count; and what was done with it.
#[derive(Default)]
struct Spent {
    /// Looks at the sessions that are written.
    looks: f64,
    hurnix: f64,
    watched: f64,
    repository: f64,
}

impl Spent {
    async fn so_far(hurnix: Pid, passage: &Cluster, repository: &Cluster) -> Result<Spent> {
        let own = "SELECT pid FROM pg_stat_activity WHERE application_name = 'hurnix'";
        let all = "SELECT pid FROM pg_stat_activity WHERE pid <> pg_backend_pid()";
        let looks = "SELECT count(*)::float8 FROM activity_sample";
        Ok(Spent {
            looks: sqlx::query_scalar(looks).fetch_one(&mut repository.connect("hurnix").await?).await?,
            hurnix: processor_seconds(hurnix.as_raw()),
            watched: processes(passage, own).await?.into_iter().map(processor_seconds).sum(),
            repository: processes(repository, all).await?.into_iter().map(processor_seconds).sum(),
        })
    }

    fn add(&mut self, now: &Spent, before: &Spent) {
        self.looks += now.looks - before.looks;
        // A process that has ended meanwhile takes its count with it.
        self.hurnix += (now.hurnix - before.hurnix).max(0.0);
        self.watched += (now.watched - before.watched).max(0.0);
        self.repository += (now.repository - before.repository).max(0.0);
    }
}

fn settings() -> Vec<(&'static str, &'static str)> {
    let steady = [
        // Without waiting for the disk both cores stay busy, which is when an overhead shows.
        ("synchronous_commit", "off"),
        // What comes and goes by itself would fall into one stretch of a pair and not into the other.
        ("autovacuum", "off"),
        ("checkpoint_timeout", "1h"),
        ("max_wal_size", "16GB"),
        ("max_connections", "2300"),
        ("pg_stat_statements.max", "10000"),
    ];
    passage_settings().into_iter().chain(steady).collect()
}

/// Transactions over one stretch, per second in which the machine's processors were ours: what other
/// machines on the same host took away meanwhile, as the kernel counts it, is left out.
async fn measure(traffic: &Traffic, stretch: Duration) -> Result<f64> {
    let (before, given) = (traffic.transactions(), given_seconds()?);
    tokio::time::sleep(stretch).await;
    Ok((traffic.transactions() - before) as f64 / (given_seconds()? - given))
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
            secret_sealed: Sealer::open(key_file, false)?.seal("bench")?,
            tls_mode: "off".into(),
            ..NewInstance::default()
        })
        .await?;
    Ok(())
}
