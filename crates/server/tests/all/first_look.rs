//! The first look: on a server with troubles each of them is named, and on a quiet one none is made up.

use crate::common::{Hurnix, PASSWORD, connection};
use anyhow::{Context, Result};
use hurnix_cluster::{Cluster, Setup};
use hurnix_demo::{Pace, Stage, Story, Traffic, WATCH_ACCOUNT, load_passage, passage_settings, set_watch_password};
use hurnix_source::postgres::{access_script, log_script};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::{AssertSqlSafe, Executor};

const LOOK: &str = "instances/1/first-look";
/// Everything is read about once a second.
const FAST: [&str; 6] = ["--tables=1s", "--catalog=1s", "--measures=1s", "--space=1s", "--settings=1s", "--plans=1s"];

/// What a check found, from all its points.
fn points<'a>(look: &'a Value, check: &str) -> Vec<(&'a str, &'a str)> {
    let finding = look["findings"].as_array().unwrap().iter().find(|finding| finding["check"] == check).unwrap();
    let points = finding["points"].as_array().unwrap();
    points.iter().map(|point| (point["verdict"].as_str().unwrap(), point["text"].as_str().unwrap())).collect()
}

/// Whether a check names something with a verdict.
fn names(look: &Value, check: &str, verdict: &str, parts: &[&str]) -> bool {
    points(look, check).iter().any(|(of, text)| *of == verdict && parts.iter().all(|part| text.contains(part)))
}

/// Waits until every kind of figures was read that the server gives.
async fn all_is_read(hurnix: &Hurnix) -> Result<()> {
    let read =
        |figures: &Value| {
            figures.as_array().unwrap().iter().all(|one| {
                one["availability"] == "absent" || one["figures"] == "plans" || !one["last_read_at"].is_null()
            })
        };
    hurnix.wait_for("instances/1/figures", |figures| read(figures)).await?;
    Ok(())
}

/// Waits for what a slow machine may take longer for than other tests wait: a search through everything, or a
/// transaction that must have been open for a while.
async fn wait_long(hurnix: &Hurnix, good: impl Fn(&Value) -> bool) -> Result<Value> {
    for _ in 0..3 {
        if let Ok(look) = hurnix.wait_for(LOOK, &good).await {
            return Ok(look);
        }
    }
    hurnix.wait_for(LOOK, good).await
}

#[tokio::test]
async fn on_a_fresh_idle_server_nothing_is_called_a_trouble() -> Result<()> {
    // As it is set up by default, but for what Hurnix needs: not one of the tests' fast clusters, which do not
    // sync to disk and trust everybody.
    let folder = tempfile::Builder::new().prefix("hurnix-cluster-").tempdir()?;
    let settings = [
        ("shared_preload_libraries", "pg_stat_statements"),
        ("logging_collector", "on"),
        ("log_destination", "jsonlog"),
    ];
    let cluster = Cluster::start(
        folder.path(),
        Setup { settings: &settings, password_accounts: &[WATCH_ACCOUNT], version: None },
    )?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(AssertSqlSafe(format!(
            "CREATE EXTENSION pg_stat_statements; CREATE ROLE {WATCH_ACCOUNT} LOGIN PASSWORD '{PASSWORD}';
             GRANT pg_monitor TO {WATCH_ACCOUNT}; {} {}",
            log_script(WATCH_ACCOUNT),
            access_script(WATCH_ACCOUNT)
        )))
        .await?;
    let rules_file: String = sqlx::query_scalar("SHOW hba_file").fetch_one(&mut admin).await?;
    let rules = "COPY (VALUES ('local all all peer'), ('host all all 127.0.0.1/32 scram-sha-256')) TO ";
    admin.execute(AssertSqlSafe(format!("{rules} '{rules_file}'; SELECT pg_reload_conf()"))).await?;

    let hurnix = Hurnix::start_with(&FAST).await?;
    let mut asked = connection(&cluster, PASSWORD);
    asked["settings"] = json!({ "day_zone": "Skerry/Fog" });
    let (_, problem) = hurnix.send(Method::POST, "instances", Some(asked.clone())).await?;
    assert!(problem["errors"][0]["field"] == "day_zone" && problem.to_string().contains("Europe/Lisbon"), "{problem}");
    asked["settings"] = json!({ "day_zone": "Asia/Kolkata" });
    hurnix.send(Method::POST, "instances", Some(asked)).await?;
    all_is_read(&hurnix).await?;
    // Sessions must be looked at a few times before anything is said of them.
    let look = hurnix.wait_for(LOOK, |look| points(look, "waits").is_empty()).await?;
    let troubles: Vec<&Value> = look["findings"]
        .as_array()
        .context("there are findings")?
        .iter()
        .filter(|finding| finding["verdict"] == "act" || finding["verdict"] == "look")
        // Where the machine that runs the test let readings be missed, that is a trouble, and told rightly.
        .filter(|finding| finding["check"] != "collection" || !finding["facts"].to_string().contains(" missed"))
        .collect();
    assert!(troubles.is_empty(), "{troubles:#?}");
    assert_eq!(look["verdicts"]["act"], 0);
    // Its day begins at midnight there.
    let facts = look["findings"][0]["facts"].as_array().context("there is evidence")?;
    let day = facts.iter().find(|fact| fact["what"] == "Read on the day that began").context("a day is told")?;
    assert!(day["at"].as_str().is_some_and(|at| at.ends_with("T18:30:00Z")), "{day}");
    // What cannot be known is said, with what would tell it.
    assert!(names(&look, "backups", "no_data", &["No backup is known"]), "{look}");
    assert!(names(&look, "collection", "no_data", &["host are not seen"]), "{look}");

    // A backup that is told of is one from then on, and an old one is a trouble.
    let marker = json!({ "kind": "backup", "text": "nightly full backup", "at": "2026-01-01T00:00:00Z" });
    let (status, problem) =
        hurnix.send(Method::POST, "instances/1/markers", Some(json!({ "kind": "storm", "text": "x" }))).await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem.to_string().contains("restore_test"), "{problem}");
    assert_eq!(hurnix.send(Method::POST, "instances/1/markers", Some(marker)).await?.0, StatusCode::CREATED);
    let fresh = json!({ "kind": "backup", "text": "nightly full backup" });
    assert_eq!(hurnix.send(Method::POST, "instances/1/markers", Some(fresh)).await?.0, StatusCode::CREATED);
    let look = hurnix.get(LOOK).await?;
    assert!(points(&look, "backups").is_empty(), "{look}");

    // The same as reports, with nothing that a name could smuggle in.
    let (_, html) = hurnix.send(Method::GET, "instances/1/report?kind=first_look&form=html", None).await?;
    let html = html.as_str().context("it is a text")?;
    assert!(html.contains("<h1>First look: passage-a</h1>") && html.contains("Transaction ids"), "{html}");
    let (_, text) = hurnix.send(Method::GET, "instances/1/report?kind=first_look&form=text", None).await?;
    let text = text.as_str().context("it is a text")?;
    assert!(
        text.contains("\nSecurity ") && text.contains("0 ask for somebody to act") && !text.contains("&#"),
        "{text}"
    );
    let (status, problem) = hurnix.send(Method::GET, "instances/1/report?kind=first_look&form=pdf", None).await?;
    assert!(
        status == StatusCode::UNPROCESSABLE_ENTITY && problem.to_string().contains("one of json, html, text, csv"),
        "{problem}"
    );
    drop(hurnix);
    drop(cluster);
    Ok(())
}

#[tokio::test]
async fn each_trouble_that_is_played_is_named() -> Result<()> {
    let passage = Cluster::temporary(Setup {
        settings: &passage_settings(),
        password_accounts: &[WATCH_ACCOUNT],
        version: None,
    })?;
    load_passage(&passage).await?;
    set_watch_password(&passage, "gullandtern").await?;
    let hurnix = Hurnix::start_with(&FAST).await?;
    let traffic = Traffic::start(passage.port(), Pace::Paced, 5);
    let mut stage = Stage::new(passage.port());
    let mut connection = connection(&passage, "gullandtern");
    connection["database"] = json!("passage");
    let (status, answer) = hurnix.send(Method::POST, "instances", Some(connection)).await?;
    assert_eq!(status, StatusCode::CREATED, "{answer}");
    all_is_read(&hurnix).await?;

    let quiet = hurnix.wait_for(LOOK, |look| !names(look, "waits", "no_data", &[])).await?;
    assert!(names(&quiet, "settings", "act", &["fsync is off"]), "{quiet}");
    assert!(names(&quiet, "security", "look", &["without proof"]), "{quiet}");
    for check in ["indexes", "memory", "vacuum"] {
        let said = points(&quiet, check);
        assert!(said.iter().all(|(verdict, _)| *verdict == "no_data"), "{check}: {said:?}");
    }

    stage.play(&[Story::HoldUp]).await?;
    let held_up = hurnix
        .wait_for(LOOK, |look| {
            names(look, "locks", "act", &["skerry_supervisor (gate desk", "idle in its transaction", "sessions"])
        })
        .await?;

    // What is printed is what the action would send: it never hits a later session with the same number.
    let locks = held_up["findings"].as_array().unwrap().iter().find(|finding| finding["check"] == "locks").unwrap();
    let statement = locks["points"][0]["statement"].as_str().context("there is a statement")?;
    assert!(statement.contains("pg_terminate_backend(pid)") && statement.contains("backend_start"), "{statement}");

    stage.play(&[Story::Deadlocks]).await?;
    hurnix.wait_for(LOOK, |look| names(look, "locks", "look", &["deadlock"])).await?;

    stage.play(&[Story::UnusedIndexes]).await?;
    hurnix
        .wait_for(LOOK, |look| {
            names(look, "indexes", "look", &["passage_traveller_again", "says the same as passage_traveller."])
                && names(look, "indexes", "no_data", &["gate_scan_gate", "berth_call_dues", "too short a time"])
        })
        .await?;

    stage.clear().await?;
    traffic.play(&[Story::GateList]);
    wait_long(&hurnix, |look| {
        let missing = "An index is missing: public.passage_leg (crossing_id, state)";
        ["look", "act"].iter().any(|verdict| names(look, "indexes", verdict, &[missing]))
    })
    .await?;
    traffic.play(&[Story::Quiet]);

    stage.play(&[Story::GiantSearch]).await?;
    // It sorts its way through temporary space for a while; then the server counts what that was.
    wait_long(&hurnix, |look| names(look, "memory", "look", &["spill to temporary files", "passage_leg l cross join"]))
        .await?;

    stage.play(&[Story::SettingChange]).await?;
    hurnix.wait_for(LOOK, |look| names(look, "settings", "look", &["work_mem: 8192 → 128"])).await?;

    stage.play(&[Story::Bloat]).await?;
    let holder = "First end what holds it back: the transaction of skerry_office (season report, process";
    wait_long(&hurnix, |look| {
        names(look, "vacuum", "look", &["public.vehicle_slot are dead"]) && look.to_string().contains(holder)
    })
    .await?;
    stage.clear().await?;
    traffic.stop().await;
    Ok(())
}

#[tokio::test]
async fn an_index_is_unused_only_where_its_replicas_do_not_read_it_either() -> Result<()> {
    let primary = crate::common::watched().await?;
    let mut admin = primary.connect("postgres").await?;
    admin.execute("CREATE INDEX deck_vessel ON deck (vessel_id)").await?;
    let replica = primary.temporary_replica()?;
    let hurnix = Hurnix::start_with(&FAST).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&primary, PASSWORD))).await?;
    let told = |look: &Value, verdict: &str, parts: &[&str]| names(look, "indexes", verdict, parts);
    // The server's counters are as old as the server; Hurnix has watched for seconds.
    hurnix.wait_for(LOOK, |look| told(look, "no_data", &["deck_vessel", "too short a time"])).await?;

    // It has watched for long now, and a replica is connected that it does not watch.
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let watched_for_long =
        "UPDATE index_watch SET seen_since = now() - interval '40 days', unread_since = now() - interval '40 days'";
    // What a running process knows it does not read again: the next one does. The first ends in peace: killed between
    // the two writes of a reading, it would leave a read of the index to be counted by the next.
    let mut hurnix = hurnix;
    let again = async |hurnix: &mut Hurnix, change: &str, repository: &mut sqlx::PgConnection| {
        hurnix.process.end()?;
        repository.execute(AssertSqlSafe(change.to_owned())).await?;
        hurnix.restart(&FAST).await
    };
    again(&mut hurnix, watched_for_long, &mut repository).await?;
    let look = hurnix.wait_for(LOOK, |look| told(look, "no_data", &["deck_vessel", "for 40"])).await?;
    assert!(!look.to_string().contains("DROP INDEX"), "nobody asked the replica: {look}");

    // Both are watched, and neither has read it.
    let mut second = connection(&replica, PASSWORD);
    second["label"] = "passage-b".into();
    hurnix.send(Method::POST, "instances", Some(second)).await?;
    crate::common::wait_until("the replica's indexes are read", async || {
        let sql = "SELECT count(*) FROM index_watch JOIN inventory USING (instance_id) WHERE instance_id = 2";
        Ok(sqlx::query_scalar::<_, i64>(sql).fetch_one(&mut repository).await? > 0)
    })
    .await?;
    again(&mut hurnix, watched_for_long, &mut repository).await?;
    let look = hurnix.wait_for(LOOK, |look| told(look, "look", &["deck_vessel", "for 40"])).await?;
    assert!(look.to_string().contains("DROP INDEX CONCURRENTLY public.deck_vessel;"), "{look}");

    // The advice book says so too, once: what a replica has is decided on its primary.
    let in_state = |book: &Value, state: &str| {
        let mut advice = book["advice"].as_array().unwrap().iter();
        advice.any(|one| one["subject"] == "public.deck_vessel on deck" && one["state"] == state)
    };
    let book = hurnix.wait_for("instances/1/advice", |book| in_state(book, "open")).await?;
    let advice = book["advice"].as_array().unwrap().iter().find(|one| one["kind"] == "unused_index").unwrap();
    assert!(advice["predicted_freed_bytes"].as_f64().unwrap() >= 8192.0, "{advice}");
    let page = hurnix.get(&format!("instances/1/advice/{}", advice["advice_id"].as_str().unwrap())).await?;
    assert!(page["details"]["servers"] == 2 && page["statement"].to_string().contains("DROP INDEX "), "{page}");
    assert!(!hurnix.get("instances/2/advice").await?.to_string().contains("unused_index"));

    // A read on the replica is enough to keep it.
    replica
        .connect("postgres")
        .await?
        .execute("SET enable_seqscan = off; SELECT count(*) FROM deck WHERE vessel_id = 3")
        .await?;
    let look = hurnix.wait_for(LOOK, |look| !told(look, "look", &["deck_vessel"])).await?;
    assert!(!look.to_string().contains("DROP INDEX"), "{look}");
    hurnix.wait_for("instances/1/advice", |book| in_state(book, "lapsed") && !in_state(book, "open")).await?;

    // Unread again for long enough, it is dropped: that is seen, and what came of it is measured.
    again(&mut hurnix, watched_for_long, &mut repository).await?;
    hurnix.wait_for("instances/1/advice", |book| in_state(book, "open")).await?;
    admin.execute("DROP INDEX deck_vessel").await?;
    let book = hurnix
        .wait_for("instances/1/advice", |book| {
            book["advice"].as_array().unwrap().iter().any(|one| one["effect"]["verdict"] == "confirmed")
        })
        .await?;
    assert!(in_state(&book, "applied"), "{book}");
    Ok(())
}
