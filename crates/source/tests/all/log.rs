//! The server's log, read from a real server in both of its structured formats.

use std::time::Duration;

use crate::common::{address, watched, watched_with};
use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use hurnix_core::Named;
use hurnix_core::readings::server_log::{LogEntry, LogKind, LogPosition, entries};
use hurnix_source::Source;
use hurnix_source::postgres::PostgresSource;
use sqlx::{AssertSqlSafe, Executor};

/// A server that writes a structured log, with the function that the remedy of its limit makes.
async fn logging(destination: &str) -> Result<(Cluster, PostgresSource)> {
    let settings = [
        ("logging_collector", "on"),
        ("log_destination", destination),
        // Not a whole number of hours from UTC.
        ("log_timezone", "Asia/Kathmandu"),
        ("log_temp_files", "0"),
        ("log_lock_waits", "on"),
        ("deadlock_timeout", "100ms"),
    ];
    let cluster = watched_with(&settings).await?;
    let source = PostgresSource::connect(&address(&cluster)).await?;
    let limit = source.limits().iter().find(|limit| limit.figures == "log").context("it is told")?;
    cluster.connect("postgres").await?.execute(AssertSqlSafe(limit.remedy.clone())).await?;
    let source = PostgresSource::connect(&address(&cluster)).await?;
    assert!(!source.limits().iter().any(|limit| limit.figures == "log"), "the remedy removed it");
    Ok((cluster, source))
}

/// Reads on until so many entries of a kind are there.
async fn read_until(
    source: &mut PostgresSource,
    position: &mut Option<LogPosition>,
    found: &mut Vec<LogEntry>,
    kind: LogKind,
    wanted: usize,
) -> Result<()> {
    let deadline = tokio::time::Instant::now() + Duration::from_secs(20);
    loop {
        let reading = source.log(position.as_ref()).await?.context("there is a log")?;
        *position = reading.position;
        found.extend(entries(reading.lines, Some(source.log_wording())));
        if found.iter().filter(|entry| entry.kind == kind).count() >= wanted {
            return Ok(());
        }
        anyhow::ensure!(tokio::time::Instant::now() < deadline, "{wanted} of {} in {found:?}", kind.name());
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

async fn everything_of_note_is_told_once(destination: &str) -> Result<()> {
    let (cluster, mut source) = logging(destination).await?;
    let mut desk = cluster.connect("postgres").await?;
    desk.execute("SET application_name = 'gate desk'; CREATE TABLE gate (id int PRIMARY KEY, note text)").await?;
    let mut position = source.log(None).await?.context("there is a log")?.position;
    let mut found = Vec::new();

    let before = source.now().await?;
    assert!(desk.execute("SELECT 'Ada\nLovell', 4711 / 0").await.is_err());
    assert!(desk.execute("SET statement_timeout = '50ms'; SELECT pg_sleep(7)").await.is_err());
    desk.execute("RESET statement_timeout; SET work_mem = '64kB'; SELECT count(*) FROM (SELECT n FROM generate_series(1, 90000) n ORDER BY n::text DESC OFFSET 5) s").await?;
    let mut other = cluster.connect("postgres").await?;
    other.execute("BEGIN; LOCK TABLE gate").await?;
    let waiting = tokio::spawn(async move { desk.execute("SELECT * FROM gate WHERE id = 8").await.map(|_| desk) });
    read_lock_wait(&cluster).await?;
    other.execute("COMMIT").await?;
    let mut desk = waiting.await??;
    read_until(&mut source, &mut position, &mut found, LogKind::LockWait, 1).await?;

    // A file begun anew, and a position in the one before.
    desk.execute("SELECT pg_rotate_logfile()").await?;
    tokio::time::sleep(Duration::from_millis(1100)).await;
    assert!(desk.execute("SELECT 1/0, 'after'").await.is_err());
    read_until(&mut source, &mut position, &mut found, LogKind::Error, 2).await?;
    let after = source.now().await?;

    let of = |kind: LogKind| found.iter().filter(move |entry| entry.kind == kind).collect::<Vec<_>>();
    let errors: Vec<_> = of(LogKind::Error)
        .iter()
        .map(|entry| (entry.line.state.as_str(), entry.line.statement.as_str(), entry.times))
        .collect();
    assert_eq!(errors, [("22012", "select ?, ? / ?", 1), ("22012", "select ? / ?, ?", 1)]);
    assert_eq!(of(LogKind::Cancelled)[0].line.program, "gate desk");
    let spill = of(LogKind::TempFile)[0];
    assert!(spill.value.unwrap() > 100_000.0 && spill.line.statement.contains("generate_series"), "{spill:?}");
    let wait = of(LogKind::LockWait)[0];
    assert!(wait.value.unwrap() >= 0.1 && wait.line.statement == "select * from gate where id = ?", "{wait:?}");
    for entry in &found {
        let age = (entry.line.at.seconds_since(before), after.seconds_since(entry.line.at));
        assert!(age.0 > -1.0 && age.1 > -1.0, "moments are by the server's clock: {age:?} {entry:?}");
        assert_ne!(entry.line.program, "hurnix");
    }
    Ok(())
}

/// Waits until somebody waits for a lock for longer than the server takes to say so.
async fn read_lock_wait(cluster: &Cluster) -> Result<()> {
    let mut admin = cluster.connect("postgres").await?;
    let sql =
        "SELECT EXISTS (SELECT FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND now() - query_start > '200ms')";
    let deadline = tokio::time::Instant::now() + Duration::from_secs(20);
    while !sqlx::query_scalar::<_, bool>(sql).fetch_one(&mut admin).await? {
        anyhow::ensure!(tokio::time::Instant::now() < deadline, "nobody waits");
        tokio::time::sleep(Duration::from_millis(20)).await;
    }
    Ok(())
}

#[tokio::test]
async fn objects_on_lines() -> Result<()> {
    everything_of_note_is_told_once("stderr,jsonlog").await
}

#[tokio::test]
async fn values_between_commas() -> Result<()> {
    everything_of_note_is_told_once("csvlog").await
}

#[tokio::test]
async fn a_deadlock_tells_both_statements_and_no_value_of_theirs() -> Result<()> {
    let (cluster, mut source) = logging("jsonlog").await?;
    let (mut one, mut two) = (cluster.connect("postgres").await?, cluster.connect("postgres").await?);
    one.execute("CREATE TABLE slot (id int PRIMARY KEY, note text); INSERT INTO slot VALUES (1), (2)").await?;
    one.execute("BEGIN; UPDATE slot SET note = 'first secret' WHERE id = 1").await?;
    two.execute("BEGIN; UPDATE slot SET note = 'second secret' WHERE id = 2").await?;
    let (first, second) = tokio::join!(
        one.execute("UPDATE slot SET note = 'first secret' WHERE id = 2"),
        two.execute("UPDATE slot SET note = 'second secret' WHERE id = 1"),
    );
    assert!(first.is_err() != second.is_err());
    let (mut position, mut found) = (None, Vec::new());
    read_until(&mut source, &mut position, &mut found, LogKind::Deadlock, 1).await?;
    let deadlock = found.iter().find(|entry| entry.kind == LogKind::Deadlock).unwrap();
    let detail = &deadlock.line.detail;
    assert_eq!(detail.matches("update slot set note = ? where id = ?").count(), 2, "{detail}");
    assert_eq!(detail.matches(" waits for ShareLock on transaction ").count(), 2, "{detail}");
    assert!(!detail.contains("secret"));
    Ok(())
}

#[tokio::test]
async fn the_function_reads_the_log_and_nothing_else() -> Result<()> {
    let (cluster, mut source) = logging("jsonlog").await?;
    source.log(None).await?.context("there is a log")?;
    let mut admin = cluster.connect("postgres").await?;
    for file in ["../postgresql.conf", "postgresql.conf", "/etc/passwd", "nowhere.json", ""] {
        let piece: Option<Vec<u8>> =
            sqlx::query_scalar("SELECT public.hurnix_log_piece($1, 0)").bind(file).fetch_one(&mut admin).await?;
        assert_eq!(piece, None, "{file}");
    }
    admin.execute("CREATE ROLE passer_by LOGIN; SET ROLE passer_by").await?;
    let refused = admin.execute("SELECT public.hurnix_log_piece('x', 0)").await.unwrap_err();
    assert!(refused.to_string().contains("permission denied"), "{refused}");
    Ok(())
}

#[tokio::test]
async fn a_server_without_a_structured_log_says_how_it_would_have_one() -> Result<()> {
    let cluster = watched().await?;
    let mut source = PostgresSource::connect(&address(&cluster)).await?;
    assert_eq!(source.log(None).await?, None);
    let limit = source.limits().iter().find(|limit| limit.figures == "log").context("it is told")?;
    assert!(limit.remedy.contains("logging_collector = on") && limit.remedy.contains("jsonlog"), "{limit:?}");
    Ok(())
}
