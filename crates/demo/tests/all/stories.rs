//! The stories that are played for real: each shows on the server as it is told.

use std::collections::BTreeMap;
use std::time::{Duration, Instant};

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::readings::family::fold;
use hurnix_demo::{Pace, Stage, Story, Traffic, WATCH_ACCOUNT, load_passage, passage_settings};
use sqlx::postgres::PgConnection;

const PATIENCE: Duration = Duration::from_secs(60);

const LOWERED: &str = "SELECT count(*) FROM pg_settings WHERE name = 'work_mem' AND setting = '128'";
const REPORTS: &str = "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'season report'";

/// Asks until the answer is at least as large as expected.
async fn reaches(admin: &mut PgConnection, sql: &'static str, expected: i64) -> Result<()> {
    let deadline = Instant::now() + PATIENCE;
    loop {
        let found: i64 = sqlx::query_scalar(sql).fetch_one(&mut *admin).await?;
        if found >= expected {
            return Ok(());
        }
        anyhow::ensure!(Instant::now() < deadline, "{found}, and should reach {expected}: {sql}");
        tokio::time::sleep(Duration::from_millis(200)).await;
    }
}

async fn now(admin: &mut PgConnection, sql: &'static str) -> Result<i64> {
    Ok(sqlx::query_scalar(sql).fetch_one(admin).await?)
}

#[tokio::test]
async fn every_story_shows_on_the_server_and_leaves_it_as_it_was() -> Result<()> {
    let passage = Cluster::temporary(Setup {
        settings: &passage_settings(),
        password_accounts: &[WATCH_ACCOUNT],
        version: None,
    })?;
    load_passage(&passage).await?;
    let traffic = Traffic::start(passage.port(), Pace::Paced, 3);
    let mut stage = Stage::new(passage.port());
    let mut admin = passage.connect("passage").await?;

    stage.play(&[Story::HoldUp]).await?;
    let waiting =
        "SELECT count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE 'UPDATE crossing%'";
    reaches(&mut admin, waiting, 37).await?;
    let holder =
        "SELECT count(*) FROM pg_stat_activity WHERE state = 'idle in transaction' AND application_name = 'gate desk'";
    assert_eq!(now(&mut admin, holder).await?, 1);

    let deadlocks = "SELECT deadlocks FROM pg_stat_database WHERE datname = 'passage'";
    assert_eq!(now(&mut admin, deadlocks).await?, 0);
    stage.play(&[Story::Deadlocks]).await?;
    reaches(
        &mut admin,
        "SELECT 37 - count(*) FROM pg_stat_activity WHERE wait_event_type = 'Lock' AND query LIKE 'UPDATE crossing%'",
        37,
    )
    .await?;
    reaches(&mut admin, deadlocks, 3).await?;

    let unused = "SELECT count(*) FROM pg_stat_user_indexes WHERE indexrelname IN ('gate_scan_gate', 'berth_call_dues') AND idx_scan = 0";
    // The desk reads by traveller: whether the planner takes the index or its duplicate is the server's choice.
    let duplicate = "SELECT count(*) FROM pg_index i JOIN pg_class c ON c.oid = i.indexrelid WHERE c.relname = 'passage_traveller_again' AND i.indisvalid";
    stage.play(&[Story::UnusedIndexes]).await?;
    reaches(&mut admin, unused, 2).await?;
    reaches(&mut admin, duplicate, 1).await?;

    let spilled = "SELECT temp_bytes FROM pg_stat_database WHERE datname = 'passage'";
    let before = now(&mut admin, spilled).await?;
    stage.play(&[Story::GiantSearch]).await?;
    assert_eq!(now(&mut admin, unused).await?, 0, "the indexes of the story before are gone");
    assert_eq!(now(&mut admin, duplicate).await?, 0, "and so is the duplicate");
    let files = "SELECT coalesce(sum(size), 0)::bigint FROM pg_ls_tmpdir()";
    reaches(&mut admin, files, 200 << 20).await?;

    stage.play(&[Story::SettingChange]).await?;
    reaches(&mut admin, LOWERED, 1).await?;
    // What the search has filled is counted once it is broken off.
    reaches(&mut admin, spilled, before + (200 << 20)).await?;
    let after_search = now(&mut admin, spilled).await?;
    reaches(&mut admin, spilled, after_search + 1).await?;

    // A second story beside it: the first goes on, and ends alone.
    stage.play(&[Story::SettingChange, Story::Bloat]).await?;
    reaches(&mut admin, "SELECT n_dead_tup FROM pg_stat_user_tables WHERE relname = 'vehicle_slot'", 60_000).await?;
    assert_eq!(now(&mut admin, LOWERED).await?, 1, "the story before goes on");
    stage.play(&[Story::Bloat]).await?;
    reaches(&mut admin, "SELECT count(*) FROM pg_settings WHERE name = 'work_mem' AND setting = '8192'", 1).await?;
    assert_eq!(now(&mut admin, REPORTS).await?, 1, "and the other");
    stage.clear().await?;
    assert_eq!(now(&mut admin, REPORTS).await?, 0);
    traffic.stop().await;
    families_are_those_of_the_server(&mut admin).await
}

/// Everything that clients of the demo sent, as the server tells it apart and as Hurnix does.
async fn families_are_those_of_the_server(admin: &mut PgConnection) -> Result<()> {
    let counted: Vec<(i64, String)> = sqlx::query_as(
        "SELECT s.queryid, min(s.query) FROM pg_stat_statements s JOIN pg_database d ON d.oid = s.dbid JOIN pg_roles r ON r.oid = s.userid
         WHERE d.datname = 'passage' AND r.rolname LIKE 'skerry%' AND s.toplevel GROUP BY 1",
    )
    .fetch_all(admin)
    .await?;
    let mut families: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    for (_, text) in &counted {
        families.entry(fold(text).text).or_default().push(text);
    }
    assert!(counted.len() > 25, "the traffic has more statements: {counted:?}");
    // The server tells lists by their lengths before version 18: docs/families.md, “lists”.
    let together: Vec<_> =
        families.into_iter().filter(|(family, texts)| texts.len() > 1 && !family.contains("(?, ...)")).collect();
    assert!(together.is_empty(), "the server tells these apart: {together:#?}");
    Ok(())
}
