//! Figures of the host and of long work, against a real server and the kernel of this machine.

use std::time::Duration;

use crate::common::{address, watched};
use anyhow::{Context, Result};
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::measure_rates::rates;
use hurnix_core::readings::metric::Metric;
use hurnix_source::Source;
use hurnix_source::postgres::PostgresSource;
use sqlx::{Connection, Executor};

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
async fn what_the_server_takes_of_its_host_counts_those_that_ended() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    assert_eq!(source.measures(Figures::Processes).await?, None);
    assert_eq!(source.processes().await?.host, None);
    let limit = source.limits().iter().find(|limit| limit.figures == "host processes").context("it is told")?;
    admin.execute(sqlx::AssertSqlSafe(limit.remedy.clone())).await?;

    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let used = async |source: &mut PostgresSource| -> Result<i64> {
        let reading = source.measures(Figures::Processes).await?.context("it is seen")?;
        Ok(reading.counted.rows.first().context("of the server")?.1.counted)
    };
    let before = used(&mut source).await?;
    // Half a second of work of a session, which then ends.
    let mut worker = cluster.connect("postgres").await?;
    let process: i32 = sqlx::query_scalar("SELECT pg_backend_pid()").fetch_one(&mut worker).await?;
    let work = "DO $$ BEGIN WHILE clock_timestamp() < now() + interval '4 s' AND
                (SELECT count(*) FROM generate_series(1, 1000)) > 0 LOOP END LOOP; END $$";
    let working = tokio::spawn(async move {
        worker.execute(work).await?;
        worker.close().await
    });
    let busiest = loop {
        let busy = source.processes().await?.host.context("the host is seen")?;
        let cores = busy.of_server.iter().find(|one| one.process == process).map_or(0.0, |one| one.cores);
        if cores > 0.05 || working.is_finished() {
            break cores;
        }
    };
    assert!(busiest > 0.05 && busiest < 1.5, "{busiest} processors kept busy by one session");
    working.await??;
    let deadline = std::time::Instant::now() + Duration::from_secs(10);
    while used(&mut source).await? < before + 300_000 {
        assert!(std::time::Instant::now() < deadline, "the time of the session that ended is lost");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }

    // Nobody else may call it.
    admin.execute("CREATE ROLE visitor").await?;
    let mut watcher = cluster.connect("postgres").await?;
    watcher.execute("SET ROLE visitor").await?;
    assert!(watcher.execute("SELECT public.hurnix_host_processes()").await.is_err());
    Ok(())
}

#[tokio::test]
async fn connecting_is_timed_once_a_minute() -> Result<()> {
    let cluster = watched().await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    let mut took = async || -> Result<Option<f64>> {
        let standing = source.measures(Figures::Standing).await?.context("it is read")?;
        let found = standing.measures.into_iter().find(|measure| measure.metric == Metric::ConnectTime);
        Ok(found.map(|measure| measure.value))
    };
    let deadline = std::time::Instant::now() + Duration::from_secs(20);
    let first = loop {
        if let Some(first) = took().await? {
            break first;
        }
        assert!(std::time::Instant::now() < deadline, "it never connects");
        tokio::time::sleep(Duration::from_millis(20)).await;
    };
    assert!(first > 0.0 && first < 5.0, "{first} s");
    tokio::time::sleep(Duration::from_secs(1)).await;
    assert_eq!(took().await?, None, "each is a session of the server");
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
