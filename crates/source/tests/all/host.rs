//! Figures of the host and of long work, against a real server and the kernel of this machine.

use std::time::Duration;

use crate::common::{address, watched};
use anyhow::{Context, Result};
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::metric::Metric;
use hurnix_source::Source;
use hurnix_source::postgres::PostgresSource;
use sqlx::Executor;

#[tokio::test]
async fn the_host_is_seen_through_one_narrow_function_that_the_remedy_makes() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    assert_eq!(source.measures(Figures::Host).await?, None);
    let limit = source.limits().iter().find(|limit| limit.figures == "host").context("it is told")?;
    admin.execute(sqlx::AssertSqlSafe(limit.remedy.clone())).await?;

    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    assert!(!source.limits().iter().any(|limit| limit.figures == "host"), "the remedy removed it");
    let first = source.measures(Figures::Host).await?.context("the host is seen")?;
    let memory = first.measures.iter().find(|measure| measure.metric == Metric::MemoryTotal).context("memory")?;
    let own = std::fs::read_to_string("/proc/meminfo")?;
    let kilobytes: f64 = own.split_ascii_whitespace().nth(1).context("a number")?.parse()?;
    assert_eq!(memory.value, kilobytes * 1024.0);

    // A second of work on one processor shows.
    let busy = std::time::Instant::now();
    let mut sum = 0u64;
    while busy.elapsed() < Duration::from_secs(1) {
        sum = std::hint::black_box(sum.wrapping_add(1));
    }
    let second = source.measures(Figures::Host).await?.context("the host is seen")?;
    let used: f64 = rates(&first.counted, &second.counted, 60.0)
        .iter()
        .filter(|measure| measure.metric == Metric::CpuUsed)
        .map(|measure| measure.value)
        .sum();
    let processors = first.measures.iter().find(|measure| measure.metric == Metric::Cpus).context("processors")?.value;
    assert!(used > 0.4 && used <= processors * 1.1, "{used} of {processors} processors busy");

    // Nothing else can be read through it, and nobody else may call it.
    let mut watcher = cluster.connect("postgres").await?;
    watcher.execute("SET ROLE hurnix_watch").await?;
    for file in ["1/environ", "../etc/passwd", "self/environ", "stat/../self/environ", "STAT"] {
        let text: Option<String> =
            sqlx::query_scalar("SELECT public.hurnix_host_file($1)").bind(file).fetch_one(&mut watcher).await?;
        assert_eq!(text, None, "{file}");
    }
    admin.execute("CREATE ROLE visitor").await?;
    watcher.execute("RESET ROLE; SET ROLE visitor").await?;
    assert!(watcher.execute("SELECT public.hurnix_host_file('stat')").await.is_err());
    Ok(())
}

#[tokio::test]
async fn long_work_tells_how_far_it_has_come() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE TABLE gate_scan (scan_id int, padding text) WITH (autovacuum_enabled = off);
             INSERT INTO gate_scan SELECT n, repeat('x', 900) FROM generate_series(1, 4000) n;
             DELETE FROM gate_scan",
        )
        .await?;
    let working = tokio::spawn(async move {
        // Slowed down by the server itself, so that it is seen on its way.
        admin.execute("SET vacuum_cost_delay = 50; SET vacuum_cost_limit = 20").await?;
        admin.execute("VACUUM gate_scan").await.map(|_| ())
    });
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let deadline = std::time::Instant::now() + Duration::from_secs(30);
    let seen = loop {
        let standing = source.measures(Figures::Standing).await?.unwrap();
        if let Some(progress) = standing.measures.into_iter().find(|measure| measure.metric == Metric::Progress) {
            break progress;
        }
        assert!(std::time::Instant::now() < deadline, "vacuum was never seen");
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    assert_eq!(seen.object, "vacuum gate_scan");
    assert!((0.0..=1.0).contains(&seen.value), "{seen:?}");
    working.abort();
    Ok(())
}
