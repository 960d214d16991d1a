//! Faults of a real server while it is watched: each is one clear state within two intervals, collection goes on when it
//! is over, and what Hurnix has summed up never exceeds what the server has counted.

use std::time::{Duration, Instant};

use crate::common::{Hurnix, PASSWORD, connection, lately, moment, wait_until, watched, watched_with};
use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use reqwest::Method;
use serde_json::Value;
use sqlx::{AssertSqlSafe, Executor, PgConnection, Row};

/// What runs on the watched server, and its text there.
const STATEMENT: &str = "SELECT count(*) FROM deck WHERE vessel_id = 3";
const FOLDED: &str = "select count(*) from deck where vessel_id = ?";
/// Two intervals of the statement counters, within which a state must be clear, and what a machine that is busy with
/// other tests may take beside them.
const TWO_INTERVALS: Duration = Duration::from_secs(30);

struct Watched {
    hurnix: Hurnix,
    cluster: Cluster,
}

impl Watched {
    async fn start() -> Result<Watched> {
        let hurnix = Hurnix::start_with(&["--statements=2s", "--measures=2s"]).await?;
        let cluster = watched_with(&[("max_connections", "20"), ("superuser_reserved_connections", "3")]).await?;
        cluster.connect("postgres").await?.execute(STATEMENT).await?;
        hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
        let watched = Watched { hurnix, cluster };
        watched.reading().await?;
        Ok(watched)
    }

    async fn admin(&self) -> Result<PgConnection> {
        self.cluster.connect("postgres").await
    }

    /// Waits for a reading that is taken after now.
    async fn reading(&self) -> Result<()> {
        let now = moment(&mut self.admin().await?).await?;
        wait_until("statements are read", async || {
            let sql = "SELECT coalesce(max(taken_at) > $1::timestamptz, false) FROM snapshot WHERE kind = 'statements'";
            let mut repository = self.hurnix.repository.connect("hurnix").await?;
            Ok(sqlx::query_scalar(sql).bind(&now).fetch_one(&mut repository).await?)
        })
        .await
    }

    /// Runs the statement so many times.
    async fn run(&self, times: i64) -> Result<()> {
        let mut client = self.admin().await?;
        for _ in 0..times {
            client.execute(STATEMENT).await?;
        }
        Ok(())
    }

    /// Waits until the instance shows what is meant; answers how long that took.
    async fn shows(&self, what: impl Fn(&Value) -> bool) -> Result<Duration> {
        let begun = Instant::now();
        self.hurnix.wait_for("instances/1", what).await?;
        Ok(begun.elapsed())
    }

    /// Calls of the statement in all periods, and the most in one.
    async fn summed_up(&self) -> Result<(i64, i64)> {
        let row = self
            .hurnix
            .repository
            .connect("hurnix")
            .await?
            .fetch_one(AssertSqlSafe(format!(
                "SELECT coalesce(sum(calls), 0)::bigint AS calls, coalesce(max(calls), 0)::bigint AS most
                 FROM (SELECT unnest(family_id) AS family_id, unnest(calls) AS calls FROM statement_period) period
                 JOIN family USING (family_id) WHERE text = '{FOLDED}'"
            )))
            .await?;
        Ok((row.get("calls"), row.get("most")))
    }

    /// Calls of the statement as the server has counted them.
    async fn counted(&self) -> Result<i64> {
        let sql = "SELECT calls FROM pg_stat_statements WHERE query LIKE 'SELECT count(*) FROM deck WHERE%'";
        Ok(self.admin().await?.fetch_one(sql).await?.get(0))
    }
}

fn failing_for(part: &'static str) -> impl Fn(&Value) -> bool {
    move |instance| {
        let problem = &instance["problem"];
        instance["collection"] == "failing" && format!("{} {}", problem["message"], problem["remedy"]).contains(part)
    }
}

fn collecting(instance: &Value) -> bool {
    instance["collection"] == "collecting" && instance["problem"].is_null()
}

fn lacks_statements(instance: &Value) -> bool {
    instance["limits"].as_array().is_some_and(|limits| limits.iter().any(|limit| limit["figures"] == "statements"))
}

#[tokio::test]
async fn rights_that_go_are_told_and_their_return_invents_no_spike() -> Result<()> {
    let watched = Watched::start().await?;
    watched.run(50).await?;
    watched.reading().await?;
    let mut admin = watched.admin().await?;
    let revoked_at = moment(&mut admin).await?;
    admin.execute("REVOKE pg_monitor FROM hurnix_watch").await?;
    let told_in = watched.shows(failing_for("GRANT pg_monitor")).await?;
    assert!(told_in < TWO_INTERVALS, "{told_in:?}");
    // Long before Hurnix saw any of it, and while it was blind.
    watched.run(400).await?;
    admin.execute("GRANT pg_monitor TO hurnix_watch").await?;
    watched.shows(collecting).await?;
    watched.reading().await?;
    watched.run(30).await?;
    watched.reading().await?;
    watched.reading().await?;
    let (calls, _) = watched.summed_up().await?;
    assert_eq!(calls, watched.counted().await? - 1, "all but the one call before the first reading, and none twice");
    // The calls of the blind time are in one period, which begins before it did.
    let mut repository = watched.hurnix.repository.connect("hurnix").await?;
    let short_spike: bool = repository
        .fetch_one(AssertSqlSafe(format!(
            "SELECT EXISTS (SELECT FROM (SELECT p.to_at, unnest(p.family_id) AS family_id, unnest(p.calls) AS calls FROM statement_period p) period
                 JOIN family USING (family_id) JOIN snapshot s ON s.taken_at = period.to_at AND s.kind = 'statements'
                 WHERE text = '{FOLDED}' AND calls >= 400 AND s.from_at > '{revoked_at}')"
        )))
        .await?
        .get(0);
    assert!(!short_spike, "one short period holds what happened in a long time");
    Ok(())
}

#[tokio::test]
async fn an_extension_that_goes_and_comes_is_a_limit_that_comes_and_goes() -> Result<()> {
    let watched = Watched::start().await?;
    let mut admin = watched.admin().await?;
    admin.execute("DROP EXTENSION pg_stat_statements").await?;
    let told_in = watched.shows(|instance| lacks_statements(instance) && collecting(instance)).await?;
    assert!(told_in < TWO_INTERVALS, "{told_in:?}");
    watched.run(100).await?;
    admin.execute("CREATE EXTENSION pg_stat_statements").await?;
    let resumed_in = watched.shows(|instance| !lacks_statements(instance) && collecting(instance)).await?;
    assert!(resumed_in < TWO_INTERVALS, "{resumed_in:?}");
    watched.reading().await?;
    watched.run(20).await?;
    watched.reading().await?;
    watched.reading().await?;
    assert_eq!(watched.summed_up().await?.0, watched.counted().await? - 1);
    Ok(())
}

#[tokio::test]
async fn an_account_that_may_not_sign_in_and_connections_that_are_all_taken_are_told() -> Result<()> {
    let watched = Watched::start().await?;
    let mut admin = watched.admin().await?;
    let cut_off = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE application_name = 'hurnix'";
    admin.execute("ALTER ROLE hurnix_watch NOLOGIN").await?;
    admin.execute(cut_off).await?;
    watched.shows(failing_for("not permitted to log in")).await?;
    watched.run(40).await?;
    admin.execute("ALTER ROLE hurnix_watch LOGIN").await?;
    watched.shows(collecting).await?;
    watched.reading().await?;

    // All that others may have: the rest is for superusers.
    admin.execute("CREATE ROLE gate LOGIN").await?;
    let url = watched.cluster.url("postgres").replace("postgres@", "gate@");
    let mut taken = Vec::new();
    admin.execute("ALTER ROLE hurnix_watch CONNECTION LIMIT 0").await?;
    admin.execute(cut_off).await?;
    while let Ok(one) = <PgConnection as sqlx::Connection>::connect(&url).await {
        taken.push(one);
    }
    admin.execute("ALTER ROLE hurnix_watch CONNECTION LIMIT -1").await?;
    assert!(taken.len() > 10, "{}", taken.len());
    watched.shows(failing_for("All connections of the server are taken")).await?;
    drop(taken);
    watched.shows(collecting).await?;
    watched.reading().await?;
    watched.run(10).await?;
    watched.reading().await?;
    watched.reading().await?;
    assert_eq!(watched.summed_up().await?.0, watched.counted().await? - 1);
    Ok(())
}

#[tokio::test]
async fn a_server_that_stands_still_is_told_and_read_on() -> Result<()> {
    let watched = Watched::start().await?;
    let process = std::fs::read_to_string(watched.cluster.process_file())?;
    let process = process.lines().next().context("its process")?.to_owned();
    let children = std::process::Command::new("pgrep").args(["-P", &process]).output()?;
    let children = String::from_utf8(children.stdout)?;
    let all: Vec<&str> = children.lines().chain([process.as_str()]).collect();
    let signal = |name: &str| {
        let sent = std::process::Command::new("kill").arg(format!("-{name}")).args(&all).status();
        assert!(sent?.success(), "{name}");
        anyhow::Ok(())
    };
    signal("STOP")?;
    let told = watched.shows(failing_for("did not answer")).await;
    signal("CONT")?;
    told?;
    watched.shows(collecting).await?;
    watched.run(25).await?;
    watched.reading().await?;
    watched.reading().await?;
    assert_eq!(watched.summed_up().await?.0, watched.counted().await? - 1);
    Ok(())
}

#[tokio::test]
async fn immediate_restarts_end_differences_and_count_nothing_twice() -> Result<()> {
    let watched = Watched::start().await?;
    for _ in 0..3 {
        watched.run(60).await?;
        watched.reading().await?;
        let (before, _) = watched.summed_up().await?;
        watched.cluster.crash();
        watched.cluster.launch()?;
        watched.shows(collecting).await?;
        watched.reading().await?;
        let (after, _) = watched.summed_up().await?;
        assert!(after <= before + 60, "nothing was made up: {before} → {after}");
    }
    let markers = watched.hurnix.get("instances/1/history").await?["markers"].to_string();
    assert_eq!(markers.matches("\"restart\"").count(), 3, "{markers}");
    Ok(())
}

#[tokio::test]
async fn a_process_that_was_killed_and_starts_again_reads_within_three_seconds() -> Result<()> {
    let mut watched = Watched::start().await?;
    watched.hurnix.process.kill()?;
    watched.hurnix.process.wait()?;
    // The lease of the dead process would last for long.
    let mut repository = watched.hurnix.repository.connect("hurnix").await?;
    repository.execute("UPDATE instance SET leased_until = now() + interval '1 hour'").await?;
    // And an upgrade has come in between, that adds a figure to the counters of statements.
    repository.execute("UPDATE last_read SET layout = 'another' WHERE kind = 'statements'").await?;
    let killed_at = moment(&mut watched.admin().await?).await?;
    let mut again = watched.hurnix.another(&["--statements=2s"])?;
    let begun = Instant::now();
    wait_until("it reads again", async || {
        let sql = "SELECT coalesce(max(sampled_at) > $1::timestamptz, false) FROM activity_sample";
        Ok(sqlx::query_scalar(sql).bind(&killed_at).fetch_one(&mut repository).await?)
    })
    .await?;
    let first_sample: f64 = sqlx::query_scalar(
        "SELECT extract(epoch FROM min(sampled_at) - $1::timestamptz)::float8 FROM activity_sample WHERE sampled_at > $1::timestamptz",
    )
    .bind(&killed_at)
    .fetch_one(&mut repository)
    .await?;
    wait_until("statements are read on, and it is told that they begin anew", async || {
        let sql = "SELECT (SELECT count(*) FROM marker WHERE text LIKE 'Hurnix began to count statements anew%') = 1
                      AND (SELECT count(*) FROM snapshot WHERE kind = 'statements' AND taken_at > $1::timestamptz AND from_at IS NOT NULL) > 0";
        Ok(sqlx::query_scalar(sql).bind(&killed_at).fetch_one(&mut repository).await?)
    })
    .await?;
    again.kill()?;
    again.wait()?;
    assert!(
        first_sample < 3.0,
        "the first look came after {first_sample} s, and was written after {:?}",
        begun.elapsed()
    );
    Ok(())
}

#[tokio::test]
async fn a_process_that_crashes_ends_differences_and_is_a_marker() -> Result<()> {
    let cluster = watched().await?;
    let hurnix = Hurnix::start_with(&["--tables=1s", "--databases=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let mut counted = async |what: &str, sql: &'static str| {
        wait_until(what, async || Ok(sqlx::query_scalar::<_, bool>(sql).fetch_one(&mut repository).await?)).await
    };
    counted("there are periods", "SELECT count(*) > 1 FROM snapshot WHERE kind = 'databases' AND from_at IS NOT NULL")
        .await?;
    let mut victim = cluster.connect("postgres").await?;
    let process: i32 = sqlx::query_scalar("SELECT pg_backend_pid()").fetch_one(&mut victim).await?;
    let killed = std::process::Command::new("kill").args(["-KILL", &process.to_string()]).status()?;
    anyhow::ensure!(killed.success());
    counted("the crash is a marker", "SELECT count(*) = 1 FROM marker WHERE kind = 'crash'").await?;
    counted(
        "it ended the differences of each kind",
        "SELECT count(DISTINCT kind) >= 2 FROM snapshot WHERE no_difference LIKE 'crashed%'",
    )
    .await?;
    counted(
        "differences go on behind it",
        "SELECT count(*) > 0 FROM snapshot s JOIN marker m ON m.kind = 'crash' AND s.from_at > m.at WHERE s.kind = 'databases'",
    )
    .await
}

#[tokio::test]
async fn what_a_function_ran_is_counted_with_its_caller_alone() -> Result<()> {
    let cluster = watched_with(&[("pg_stat_statements.track", "all")]).await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE FUNCTION decks() RETURNS bigint LANGUAGE plpgsql AS
             $$ BEGIN RETURN (SELECT count(*) FROM deck WHERE vessel_id = 4); END $$",
        )
        .await?;
    let hurnix = Hurnix::start_with(&["--statements=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let list = &format!("instances/1/statements?{}", lately()?);
    let of = |told: &Value, text: &str| -> Option<i64> {
        let all = told["families"].as_array()?;
        all.iter().find(|row| row["text"] == text)?["figures"]["calls"].as_i64()
    };
    let called = "select decks()";
    // Until a call falls between two readings.
    wait_until("the call is counted", async || {
        admin.execute("SELECT decks()").await?;
        Ok(of(&hurnix.get(list).await?, called).is_some_and(|calls| calls > 0))
    })
    .await?;
    let told = hurnix.get(list).await?;
    assert_eq!(of(&told, "(select count(*) from deck where vessel_id = ?)"), None, "{told}");
    assert!(!told.to_string().contains("vessel_id"), "under no other text either: {told}");
    Ok(())
}
