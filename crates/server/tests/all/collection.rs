//! Collection that goes wrong: processes killed, taken over, the repository away. Figures must be
//! neither lost nor doubled.

use std::process::Child;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};
use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use reqwest::Method;
use sqlx::postgres::PgConnection;
use sqlx::{Executor, Row};
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::tcp::{OwnedReadHalf, OwnedWriteHalf};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::watch;
use tokio::task::JoinHandle;

/// What runs on the watched server all the time, and its text there.
const STATEMENT: &str = "SELECT count(*) FROM deck WHERE vessel_id = 3";
const FOLDED: &str = "select count(*) from deck where vessel_id = ?";

struct Running {
    hurnix: Hurnix,
    cluster: Cluster,
    stop: Arc<AtomicBool>,
    traffic: Option<JoinHandle<Result<()>>>,
}

impl Running {
    /// A watched server under steady traffic, collected.
    async fn start() -> Result<Running> {
        Running::start_with(&[]).await
    }

    /// The same with further options.
    async fn start_with(options: &[&str]) -> Result<Running> {
        let (hurnix, cluster) = (Hurnix::start_with(options).await?, watched().await?);
        let mut client = cluster.connect("postgres").await?;
        // Known before the first reading, so that every call counts.
        client.execute(STATEMENT).await?;
        hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
        wait_until("there is a first reading", async || {
            let sql = "SELECT count(*) FROM snapshot WHERE kind = 'statements'";
            Ok(sqlx::query_scalar::<_, i64>(sql).fetch_one(&mut hurnix.repository.connect("hurnix").await?).await? > 0)
        })
        .await?;
        let stop = Arc::new(AtomicBool::new(false));
        let stopping = stop.clone();
        let traffic = tokio::spawn(async move {
            while !stopping.load(Ordering::Relaxed) {
                client.execute(STATEMENT).await?;
                tokio::time::sleep(Duration::from_millis(5)).await;
            }
            Ok(())
        });
        let running = Running { hurnix, cluster, stop, traffic: Some(traffic) };
        running.wait_for_periods(1).await?;
        Ok(running)
    }

    async fn repository(&self) -> Result<PgConnection> {
        self.hurnix.repository.connect("hurnix").await
    }

    /// Calls of the statement as the watched server counts them.
    async fn calls(&self) -> Result<i64> {
        let sql = "SELECT calls FROM pg_stat_statements WHERE query LIKE 'SELECT count(*) FROM deck WHERE%'";
        Ok(sqlx::query_scalar(sql).fetch_one(&mut self.cluster.connect("postgres").await?).await?)
    }

    async fn periods(&self) -> Result<i64> {
        let sql = "SELECT count(*) FROM snapshot WHERE kind = 'statements' AND from_at IS NOT NULL";
        Ok(sqlx::query_scalar(sql).fetch_one(&mut self.repository().await?).await?)
    }

    /// Waits for so many more periods than there are now.
    async fn wait_for_periods(&self, more: i64) -> Result<()> {
        let before = self.periods().await?;
        wait_until("figures arrive", async || Ok(self.periods().await? >= before + more)).await
    }

    /// Ends the traffic, waits for a reading taken after that (what is written next may be older: it may
    /// have waited for the repository), and compares: what Hurnix has summed up since its first reading is
    /// what the server has counted since then, and snapshots follow one another.
    async fn check_totals(mut self) -> Result<()> {
        self.stop.store(true, Ordering::Relaxed);
        self.traffic.take().context("it is checked once")?.await??;
        let mut repository = self.repository().await?;
        let ended = crate::common::moment(&mut self.cluster.connect("postgres").await?).await?;
        wait_until("a reading after the traffic is written", async || {
            let sql = "SELECT coalesce(max(taken_at) > $1::timestamptz, false) FROM snapshot
                       WHERE kind = 'statements' AND from_at IS NOT NULL";
            Ok(sqlx::query_scalar(sql).bind(&ended).fetch_one(&mut self.repository().await?).await?)
        })
        .await?;
        let calls: i64 = sqlx::query_scalar(
            "SELECT coalesce(sum(calls), 0)::bigint
             FROM (SELECT unnest(family_id) AS family_id, unnest(calls) AS calls FROM statement_period) period
             JOIN family USING (family_id) WHERE text = $1",
        )
        .bind(FOLDED)
        .fetch_one(&mut repository)
        .await?;
        let last: Vec<u8> = sqlx::query_scalar("SELECT payload FROM last_read WHERE kind = 'statements'")
            .fetch_one(&mut repository)
            .await?;
        anyhow::ensure!(!last.is_empty());
        let counted: i64 = sqlx::query_scalar(
            "SELECT calls FROM pg_stat_statements WHERE query LIKE 'SELECT count(*) FROM deck WHERE%'",
        )
        .fetch_one(&mut self.cluster.connect("postgres").await?)
        .await?;
        assert_eq!(calls, counted - 1, "all but the one call before the first reading");

        let broken: i64 = sqlx::query_scalar(
            "SELECT count(*) FROM (
                SELECT from_at, lag(taken_at) OVER (ORDER BY taken_at) AS before FROM snapshot WHERE kind = 'statements') s
             WHERE before IS NOT NULL AND from_at IS DISTINCT FROM before",
        )
        .fetch_one(&mut repository)
        .await?;
        assert_eq!(broken, 0, "every period begins where the one before it ended");
        let orphans: i64 = sqlx::query_scalar(
            "SELECT count(*) FROM statement_period p WHERE NOT EXISTS (
                SELECT FROM snapshot s WHERE s.kind = 'statements' AND s.taken_at = p.to_at AND s.instance_id = p.instance_id)",
        )
        .fetch_one(&mut repository)
        .await?;
        assert_eq!(orphans, 0, "no rows of half a snapshot");
        Ok(())
    }
}

fn kill(process: &mut Child) -> Result<()> {
    process.kill()?;
    process.wait()?;
    Ok(())
}

#[tokio::test]
async fn killed_twenty_times_in_the_middle_nothing_is_half_or_double() -> Result<()> {
    let mut running = Running::start().await?;
    kill(&mut running.hurnix.process)?;
    for round in 0..20u64 {
        let mut process = running.hurnix.another(&[])?;
        running.wait_for_periods(1).await.with_context(|| format!("round {round}"))?;
        // A different moment of its work each time.
        tokio::time::sleep(Duration::from_millis(round * 53 % 700)).await;
        kill(&mut process)?;
    }
    let mut last = running.hurnix.another(&[])?;
    let checked = running.check_totals().await;
    kill(&mut last)?;
    checked
}

#[tokio::test]
async fn another_process_takes_over_from_a_dead_one() -> Result<()> {
    let interval = ["--statements=5s"];
    let mut running = Running::start_with(&interval).await?;
    let mut other = running.hurnix.another(&interval)?;
    let live = async || {
        let sql = "SELECT count(*) FROM collector WHERE beat_at > now() - interval '1 second'";
        anyhow::Ok(sqlx::query_scalar::<_, i64>(sql).fetch_one(&mut running.repository().await?).await?)
    };
    wait_until("two processes are there", async || Ok(live().await? == 2)).await?;
    running.wait_for_periods(2).await?;
    kill(&mut running.hurnix.process)?;
    running.wait_for_periods(2).await?;

    let longest: f64 = sqlx::query_scalar(
        "SELECT max(extract(epoch FROM taken_at - from_at))::float8 FROM snapshot WHERE kind = 'statements'",
    )
    .fetch_one(&mut running.repository().await?)
    .await?;
    assert!(longest <= 10.0, "a gap of {longest} s is more than two intervals");
    let checked = running.check_totals().await;
    kill(&mut other)?;
    checked
}

#[tokio::test]
async fn a_repository_that_is_away_for_a_while_loses_nothing() -> Result<()> {
    let running = Running::start().await?;
    let looks = async || {
        let row =
            running.repository().await?.fetch_one("SELECT count(*), max(sampled_at) FROM activity_sample").await?;
        anyhow::Ok(row.get::<i64, _>(0))
    };
    running.hurnix.repository.crash();
    let away = Instant::now();
    wait_until("writing fails", async || Ok(running.hurnix.log_text()?.contains("not written yet"))).await?;
    let calls = running.calls().await?;
    wait_until("the watched server has gone on", async || Ok(running.calls().await? > calls + 800)).await?;
    running.hurnix.repository.launch()?;
    let away = away.elapsed().as_secs_f64();
    running.wait_for_periods(4).await?;
    wait_until("looks at the sessions are written", async || Ok(looks().await? >= 4)).await?;
    let longest: f64 = sqlx::query_scalar(
        "SELECT max(extract(epoch FROM later.sampled_at - (SELECT max(sampled_at) FROM activity_sample a WHERE a.sampled_at < later.sampled_at)))::float8
         FROM activity_sample later",
    )
    .fetch_one(&mut running.repository().await?)
    .await?;
    // Looks at the sessions went on meanwhile.
    assert!(longest < away / 2.0, "{longest} s between two looks, while the repository was away for {away} s");
    let id = running.hurnix.get("instances").await?[0]["instance_id"].as_i64().unwrap();
    let collection = running.hurnix.get(&format!("instances/{id}/collection?hours=1")).await?;
    let hours = collection["hours"].as_array().unwrap();
    let of = |figures: &str, what: &str| -> i64 {
        hours.iter().filter(|hour| hour["figures"] == figures).map(|hour| hour[what].as_i64().unwrap()).sum()
    };
    assert!(of("activity", "read") >= 4 && of("statements", "read") >= 4, "{collection}");
    assert_eq!((of("activity", "dropped"), of("statements", "dropped")), (0, 0));
    assert!(collection["cost_share"].as_f64().is_some_and(|share| share > 0.0), "{collection}");
    let (bytes, budget) = (&collection["cost_bytes"], &collection["budget_bytes"]);
    assert!(bytes.as_f64() > Some(0.0) && bytes.as_f64() < budget.as_f64(), "{collection}");
    running.check_totals().await
}

/// Passes bytes on between Hurnix and a server, until it is told to hold them back: the connection stays,
/// and nothing is answered any more.
struct Wire {
    port: u16,
    held: watch::Sender<bool>,
}

impl Wire {
    async fn to(server: u16) -> Result<Wire> {
        let listener = TcpListener::bind("127.0.0.1:0").await?;
        let port = listener.local_addr()?.port();
        let (held, _) = watch::channel(false);
        let seen = held.clone();
        tokio::spawn(async move {
            while let Ok((near, _)) = listener.accept().await {
                let Ok(far) = TcpStream::connect(("127.0.0.1", server)).await else { continue };
                let ((near_in, near_out), (far_in, far_out)) = (near.into_split(), far.into_split());
                tokio::spawn(pass_on(near_in, far_out, seen.subscribe()));
                tokio::spawn(pass_on(far_in, near_out, seen.subscribe()));
            }
        });
        Ok(Wire { port, held })
    }
}

async fn pass_on(mut from: OwnedReadHalf, mut to: OwnedWriteHalf, mut held: watch::Receiver<bool>) {
    let mut bytes = [0; 16 * 1024];
    while let Ok(read) = from.read(&mut bytes).await
        && read > 0
        && held.wait_for(|held| !held).await.is_ok()
        && to.write_all(&bytes[..read]).await.is_ok()
    {}
}

#[tokio::test]
async fn a_server_that_hangs_is_told_and_disturbs_no_other() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    let wire = Wire::to(cluster.port()).await?;
    for (label, port) in [("gate-north", wire.port), ("gate-south", cluster.port())] {
        let mut wanted = connection(&cluster, PASSWORD);
        (wanted["label"], wanted["port"]) = (label.into(), port.into());
        hurnix.send(Method::POST, "instances", Some(wanted)).await?;
    }
    let of = async |label: &str| {
        let all = hurnix.get("instances").await?;
        let found = all.as_array().unwrap().iter().find(|instance| instance["label"] == label).cloned();
        anyhow::Ok(found.unwrap())
    };
    let collects = async |label: &str| {
        let instance = of(label).await?;
        anyhow::Ok(instance["collection"] == "collecting" && !instance["last_success_at"].is_null())
    };
    wait_until("both are collected", async || Ok(collects("gate-north").await? && collects("gate-south").await?))
        .await?;

    wire.held.send_replace(true);
    let before = of("gate-south").await?["last_success_at"].clone();
    wait_until("the hung one is told", async || Ok(of("gate-north").await?["collection"] == "failing")).await?;
    let problem = of("gate-north").await?["problem"].to_string();
    assert!(problem.contains("did not answer"), "{problem}");
    let other = of("gate-south").await?;
    assert_eq!(other["collection"], "collecting");
    assert_ne!(other["last_success_at"], before, "the other was read all the while");
    wire.held.send_replace(false);
    wait_until("it is collected again", async || collects("gate-north").await).await
}

#[tokio::test]
async fn odd_names_and_giant_texts_are_taken_as_they_are() -> Result<()> {
    const PROGRAM: &str = "gate \"north\"; DROP TABLE deck; --\n\u{202e}\u{5d0}";
    let hurnix = Hurnix::start().await?;
    let cluster = crate::common::watched_with(&[("track_activity_query_size", "1048576")]).await?;
    let mut client = cluster.connect("postgres").await?;
    sqlx::query("SELECT set_config('application_name', $1, false)").bind(PROGRAM).execute(&mut client).await?;
    let shown: String = client.fetch_one("SELECT current_setting('application_name')").await?.get(0);
    // Nearly a million characters, of which the server shows all.
    let giant = format!("SELECT pg_sleep(60) /* {} */, '{}'", "x".repeat(500_000), "y".repeat(450_000));
    let running = tokio::spawn(async move { client.execute(sqlx::AssertSqlSafe(giant)).await.map(|_| ()) });
    let added = hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let id = added.1["instance_id"].as_i64().context("a number")?;
    let mut clock = cluster.connect("postgres").await?;
    let from = crate::common::moment(&mut clock).await?;
    wait_until("the session is seen", async || {
        let to = crate::common::moment(&mut clock).await?;
        let path = format!("instances/{id}/load/breakdown?by=program&from={from}&to={to}");
        let (_, parts) = hurnix.send(Method::GET, &path, None).await?;
        Ok(parts["parts"].as_array().is_some_and(|parts| parts.iter().any(|part| part["name"] == shown.as_str())))
    })
    .await?;
    assert_eq!(hurnix.get(&format!("instances/{id}")).await?["collection"], "collecting");
    running.abort();
    Ok(())
}

#[tokio::test]
async fn two_processes_share_the_instances_and_a_stopped_one_gives_its_own_back() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    for label in ["gate-north", "gate-south", "freight", "crew"] {
        let mut wanted = connection(&cluster, PASSWORD);
        wanted["label"] = label.into();
        hurnix.send(Method::POST, "instances", Some(wanted)).await?;
    }
    let mut other = hurnix.another(&[])?;
    let held = async || {
        let sql = "SELECT array_agg(held ORDER BY held) FROM (SELECT count(*) AS held FROM instance WHERE leased_until > now() GROUP BY collector_id) h";
        anyhow::Ok(
            sqlx::query_scalar::<_, Vec<i64>>(sql).fetch_one(&mut hurnix.repository.connect("hurnix").await?).await?,
        )
    };
    wait_until("each holds two", async || Ok(held().await? == [2, 2])).await?;
    // Told to stop, it gives back what it holds, and does not wait for its leases to end.
    let status = std::process::Command::new("kill").arg(other.id().to_string()).status()?;
    assert!(status.success() && other.wait()?.success());
    wait_until("the first holds all", async || Ok(held().await? == [4])).await
}
