//! The machine that a bench runs on: what its processes use, and a Hurnix of its own.

use std::path::{Path, PathBuf};
use std::process::Stdio;

use anyhow::{Context, Result};
use hurnix_cluster::{Cluster, Guard, Setup};
use hurnix_core::Timestamp;
use hurnix_core::access::role::Role;
use hurnix_core::keeping::retention::Retention;
use hurnix_server::password_hash;
use hurnix_store::{NewAccount, Store};
use tokio::process::{Child, Command};

/// The kernel's counts of processor time.
const TICKS_PER_SECOND: f64 = 100.0;

/// What time it is, in whole seconds.
pub fn now() -> Timestamp {
    let since_epoch = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    Timestamp(since_epoch.as_secs() as i64 * 1_000_000)
}

/// Numbers of the processes that a query on a server answers with.
pub async fn processes(cluster: &Cluster, sql: &'static str) -> Result<Vec<i32>> {
    Ok(sqlx::query_scalar(sql).fetch_all(&mut cluster.connect("postgres").await?).await?)
}

/// Time that a process has used, in user and kernel mode; nothing when it is gone.
pub fn processor_seconds(process: i32) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    // The name of the program stands in brackets and may hold spaces; the times are the 12th and 13th after it.
    let after_name = stat.rsplit_once(") ").map_or("", |(_, rest)| rest);
    after_name.split(' ').skip(11).take(2).filter_map(|ticks| ticks.parse::<f64>().ok()).sum::<f64>() / TICKS_PER_SECOND
}

/// Processor time of a server with all its processes, in seconds, by the kernel's count.
pub async fn server_seconds(cluster: &Cluster) -> Result<f64> {
    // The first process keeps the time of those that have ended.
    let sql = "SELECT pid FROM pg_stat_activity WHERE pid <> pg_backend_pid()";
    let own: Vec<i32> = processes(cluster, sql).await?;
    let first = std::fs::read_to_string(cluster.process_file())?;
    let first: i32 = first.lines().next().unwrap_or_default().trim().parse().context("a process number")?;
    Ok(own.into_iter().map(processor_seconds).sum::<f64>() + ended_seconds(first))
}

/// Processor time of the children of a process that have ended, in seconds.
fn ended_seconds(process: i32) -> f64 {
    let stat = std::fs::read_to_string(format!("/proc/{process}/stat")).unwrap_or_default();
    let after_name = stat.rsplit_once(") ").map_or("", |(_, rest)| rest);
    after_name.split(' ').skip(13).take(2).filter_map(|ticks| ticks.parse::<f64>().ok()).sum::<f64>() / TICKS_PER_SECOND
}

/// Memory of a process, in bytes.
pub fn memory_bytes(process: i32) -> f64 {
    let status = std::fs::read_to_string(format!("/proc/{process}/status")).unwrap_or_default();
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:")).unwrap_or_default();
    line.split_whitespace().next().and_then(|word| word.parse::<f64>().ok()).unwrap_or_default() * 1024.0
}

/// A repository of its own, with the settings of one that is written much.
pub async fn repository() -> Result<(Cluster, Store)> {
    let settings = [("synchronous_commit", "off"), ("shared_buffers", "256MB"), ("max_wal_size", "4GB")];
    let repository = Cluster::temporary(Setup { settings: &settings, ..Setup::default() })?;
    repository.ensure_database("hurnix").await?;
    let store = Store::open(&repository.url("hurnix"), Retention::default()).await?;
    Ok((repository, store))
}

/// A folder of this process alone.
pub fn working_folder() -> Result<PathBuf> {
    let folder = std::env::temp_dir().join(format!("hurnix-bench-{}", std::process::id()));
    std::fs::create_dir_all(&folder)?;
    Ok(folder)
}

/// Seconds that the machine was given so far, as the mean of its processors.
pub fn given_seconds() -> Result<f64> {
    let stat = std::fs::read_to_string("/proc/stat")?;
    let mut lines = stat.lines();
    let all: Vec<f64> =
        lines.next().unwrap_or_default().split_whitespace().skip(1).filter_map(|ticks| ticks.parse().ok()).collect();
    // user, nice, system, idle, waiting for input, interrupts of two sorts, and then what was taken away.
    let given: f64 = all.iter().take(7).sum();
    let processors = lines.take_while(|line| line.starts_with("cpu")).count();
    Ok(given / TICKS_PER_SECOND / processors.max(1) as f64)
}

/// Starts Hurnix beside this program, with these variables; the guard ends it with this program.
pub fn start_hurnix(
    repository: &Cluster,
    key_file: &Path,
    listen: &str,
    variables: &[(&'static str, &'static str)],
) -> Result<(Child, Guard)> {
    let program = std::env::current_exe()?.with_file_name("hurnix");
    let mut command = Command::new(program);
    command
        .arg("serve")
        .env("HURNIX_REPOSITORY", repository.url("hurnix"))
        .env("HURNIX_LISTEN", listen)
        .env("HURNIX_KEY_FILE", key_file)
        .env("HURNIX_LOG", "error")
        .envs(variables.iter().copied())
        .stdin(Stdio::null())
        .kill_on_drop(true);
    let hurnix = command.spawn().context("starting Hurnix")?;
    let guard = Guard::ending(hurnix.id().context("Hurnix runs")?, "KILL")?;
    Ok((hurnix, guard))
}

/// An account that reads, for the benches that ask the API: its name is its password.
pub async fn add_reader(store: &Store) -> Result<()> {
    let (role, password_hash) = (Role::Reader, password_hash("bench"));
    let account = NewAccount { name: "bench", role, password_hash: &password_hash, one_time: false, groups: &[] };
    store.add_account(&account).await?;
    Ok(())
}
