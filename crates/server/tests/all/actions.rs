//! What is put in force on a server: previewed, reasoned, recorded, and approved by a second person where that is
//! the rule.

use crate::common::{Hurnix, PASSWORD, Person, connection, lately, watched};
use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::{Connection, Executor, PgConnection};

/// A server on which somebody has left a transaction open, of an account that is no superuser.
async fn left_open() -> Result<(Hurnix, Cluster, PgConnection)> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin.execute("CREATE ROLE skerry_supervisor LOGIN; GRANT ALL ON deck TO skerry_supervisor").await?;
    admin.close().await?;
    let options = sqlx::postgres::PgConnectOptions::new()
        .host("127.0.0.1")
        .port(cluster.port())
        .username("skerry_supervisor")
        .database("postgres")
        .application_name("gate desk");
    let mut supervisor = PgConnection::connect_with(&options).await?;
    supervisor.execute("BEGIN").await?;
    supervisor.execute("UPDATE deck SET vessel_id = 0 WHERE deck_id = 1").await?;
    let hurnix = Hurnix::start().await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    Ok((hurnix, cluster, supervisor))
}

/// The session of the supervisor, as it is listed.
async fn seen(hurnix: &Hurnix) -> Result<Value> {
    let of = |list: &Value| {
        let sessions = list["sessions"].as_array().into_iter().flatten();
        sessions.into_iter().find(|session| session["program"] == "gate desk").cloned()
    };
    let list = hurnix.wait_for("instances/1/sessions", |list| of(list).is_some()).await?;
    of(&list).context("it is there")
}

fn end(session: &Value, reason: &str) -> Value {
    json!({ "kind": "end_session", "process": session["process"], "started_at": session["started_at"], "reason": reason })
}

const ACT: &str = "instances/1/actions";

#[tokio::test]
async fn a_session_is_ended_with_a_reason_once_the_server_lets_hurnix() -> Result<()> {
    let (hurnix, cluster, mut supervisor) = left_open().await?;
    let session = seen(&hurnix).await?;
    assert_eq!((&session["wait_kind"], &session["account"]), (&Value::Null, &json!("skerry_supervisor")));

    let (status, preview) = hurnix.send(Method::POST, &format!("{ACT}/preview"), Some(end(&session, ""))).await?;
    assert_eq!(status, StatusCode::OK, "{preview}");
    assert!(preview["told"].as_str().unwrap().contains("its open transaction is rolled back"), "{preview}");
    assert!(preview["statement"].as_str().unwrap().contains("pg_terminate_backend"), "{preview}");
    supervisor.execute("SELECT 1").await.context("a preview ends nothing")?;

    // A reason is asked for, and only sessions that were seen can be meant.
    let (status, problem) = hurnix.send(Method::POST, ACT, Some(end(&session, " "))).await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem["errors"][0]["field"] == "reason", "{problem}");
    let mut other = end(&session, "it holds up the gate");
    other["started_at"] = json!("2026-01-01T00:00:00Z");
    let (status, problem) = hurnix.send(Method::POST, ACT, Some(other)).await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem["errors"][0]["field"] == "process", "{problem}");
    let tuner = hurnix.somebody("mate", "tuner", &[]).await?;
    let (status, _) = tuner.send(&hurnix, Method::POST, ACT, Some(end(&session, "it holds up the gate"))).await?;
    assert_eq!(status, StatusCode::FORBIDDEN);

    // The watching account may only watch: the server refuses, and what would let it is told, and does.
    let (_, refused) = hurnix.send(Method::POST, ACT, Some(end(&session, "it holds up the gate"))).await?;
    assert_eq!(refused["state"], "failed", "{refused}");
    let outcome = refused["outcome"].as_str().unwrap();
    let remedy = outcome.split("To let Hurnix do it: ").nth(1).context("a remedy is told")?;
    cluster.connect("postgres").await?.execute(sqlx::AssertSqlSafe(remedy.to_owned())).await?;
    let (status, done) = hurnix.send(Method::POST, ACT, Some(end(&session, "it holds up the gate"))).await?;
    assert!(status == StatusCode::CREATED && done["state"] == "done", "{done}");
    assert!(supervisor.execute("SELECT 1").await.is_err(), "the session has ended");

    // Once more finds nobody, and nobody else is hit.
    let (_, again) = hurnix.send(Method::POST, ACT, Some(end(&session, "once more"))).await?;
    assert!(
        again["errors"][0]["field"] == "process" || again["outcome"].as_str().unwrap().contains("not there any more"),
        "{again}"
    );
    let list = hurnix.get("actions").await?;
    let states: Vec<&str> =
        list["actions"].as_array().unwrap().iter().map(|one| one["state"].as_str().unwrap()).collect();
    assert!(states.contains(&"done") && states.contains(&"failed"), "{list}");
    let trail = hurnix.get(&format!("audit?{}&action=act_on_server", lately()?)).await?;
    assert!(trail.to_string().contains("it holds up the gate"), "{trail}");
    Ok(())
}

/// Sets the rule of the second person, and answers with the second one.
async fn with_a_second_person(hurnix: &Hurnix) -> Result<Person> {
    let on = json!({ "second_person": true, "reason": "four eyes see more" });
    let (status, problem) = hurnix.send(Method::PUT, "house-rules", Some(on.clone())).await?;
    assert!(
        status == StatusCode::UNPROCESSABLE_ENTITY && problem.to_string().contains("second administrator"),
        "{problem}"
    );
    let pilot = hurnix.somebody("pilot", "administrator", &[]).await?;
    let (status, rules) = hurnix.send(Method::PUT, "house-rules", Some(on)).await?;
    assert!(status == StatusCode::OK && rules["second_person"] == true, "{rules}");
    Ok(pilot)
}

#[tokio::test]
async fn where_a_second_person_must_approve_nobody_acts_alone() -> Result<()> {
    let (hurnix, cluster, mut supervisor) = left_open().await?;
    cluster.connect("postgres").await?.execute("GRANT pg_signal_backend TO hurnix_watch").await?;
    let pilot = with_a_second_person(&hurnix).await?;
    let session = seen(&hurnix).await?;
    let propose = async || -> Result<String> {
        let (status, proposed) = hurnix.send(Method::POST, ACT, Some(end(&session, "it holds up the gate"))).await?;
        anyhow::ensure!(status == StatusCode::CREATED && proposed["state"] == "proposed", "{proposed}");
        Ok(proposed["action_id"].as_str().context("it has a number")?.to_owned())
    };

    // Not the one who proposed it, nor a token of the second person, nor somebody of a lesser role.
    let proposed = propose().await?;
    let approval = format!("actions/{proposed}/approval");
    let (status, problem) = hurnix.send(Method::POST, &approval, None).await?;
    assert!(status == StatusCode::FORBIDDEN && problem.to_string().contains("second person"), "{problem}");
    let token = json!({ "name": "deploy", "role": "administrator", "days": 1 });
    let (_, made) = pilot.send(&hurnix, Method::POST, "account/tokens", Some(token)).await?;
    let token = made["token"].as_str().with_context(|| format!("a token is told: {made}"))?;
    let by_token = reqwest::Client::new().post(hurnix.url(&approval)).bearer_auth(token).send().await?;
    assert_eq!(by_token.status(), StatusCode::FORBIDDEN);
    let mate = hurnix.somebody("mate", "tuner", &[]).await?;
    assert_eq!(mate.send(&hurnix, Method::POST, &approval, None).await?.0, StatusCode::FORBIDDEN);
    supervisor.execute("SELECT 1").await.context("nothing has happened yet")?;

    // A refused proposal stays refused, one that is void cannot be approved, one that is fresh can.
    let (_, refused) = pilot.send(&hurnix, Method::DELETE, &format!("actions/{proposed}"), None).await?;
    assert!(refused["state"] == "refused" && refused["decided_by"] == "pilot", "{refused}");
    assert_eq!(pilot.send(&hurnix, Method::POST, &approval, None).await?.0, StatusCode::CONFLICT);
    let stale = propose().await?;
    let mut repository = hurnix.repository.connect("hurnix").await?;
    repository.execute("UPDATE action SET proposed_at = now() - interval '2 hours' WHERE state = 'proposed'").await?;
    let (status, problem) = pilot.send(&hurnix, Method::POST, &format!("actions/{stale}/approval"), None).await?;
    assert!(status == StatusCode::CONFLICT && problem.to_string().contains("void"), "{problem}");
    assert_eq!(hurnix.send(Method::DELETE, &format!("actions/{stale}"), None).await?.1["state"], "withdrawn");
    let fresh = propose().await?;
    let (status, done) = pilot.send(&hurnix, Method::POST, &format!("actions/{fresh}/approval"), None).await?;
    assert!(status == StatusCode::OK && done["state"] == "done" && done["decided_by"] == "pilot", "{done}");
    assert!(supervisor.execute("SELECT 1").await.is_err(), "the session has ended");

    // Nobody can take the second person away, and the rule is lifted by two only.
    let accounts = hurnix.get("accounts").await?;
    let pilots = accounts.as_array().unwrap().iter().find(|account| account["name"] == "pilot").unwrap();
    let lesser = json!({ "role": "tuner", "groups": [] });
    let (status, problem) =
        hurnix.send(Method::PUT, &format!("accounts/{}", pilots["account_id"]), Some(lesser)).await?;
    assert!(status == StatusCode::CONFLICT && problem.to_string().contains("second person"), "{problem}");
    let off = json!({ "second_person": false, "reason": "the crew is small" });
    let (_, rules) = hurnix.send(Method::PUT, "house-rules", Some(off)).await?;
    assert!(rules["second_person"] == true && rules["proposed"]["state"] == "proposed", "{rules}");
    let lifting = rules["proposed"]["action_id"].as_str().context("it is proposed")?;
    pilot.send(&hurnix, Method::POST, &format!("actions/{lifting}/approval"), None).await?;
    assert_eq!(hurnix.get("house-rules").await?["second_person"], false);
    Ok(())
}

/// A table whose statistics are old, which takes the account that watches long to analyze.
async fn slow_to_analyze() -> Result<(Hurnix, Cluster)> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE TABLE berth AS SELECT n AS berth_id, repeat('x', 500) AS note FROM generate_series(1, 15000) n;
             ANALYZE berth;
             UPDATE berth SET berth_id = berth_id + 1;
             ALTER ROLE hurnix_watch SET vacuum_cost_delay = 20;
             ALTER ROLE hurnix_watch SET vacuum_cost_limit = 1;
             GRANT postgres TO hurnix_watch",
        )
        .await?;
    // At the latest then, the server counts what was done.
    admin.close().await?;
    let hurnix = Hurnix::start_with(&["--space=1s", "--measures=1s", "--catalog=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    Ok((hurnix, cluster))
}

#[tokio::test]
async fn long_work_tells_how_far_it_is_until_it_is_done_or_stopped() -> Result<()> {
    let (hurnix, cluster) = slow_to_analyze().await?;
    let offered = |look: &Value| {
        let findings = look["findings"].as_array()?;
        let points = findings.iter().find(|finding| finding["check"] == "planner_statistics")?["points"].as_array()?;
        points.iter().map(|point| point["action"]["asked"].clone()).find(|asked| asked["table"] == "berth")
    };
    let look = hurnix.wait_for("instances/1/first-look", |look| offered(look).is_some()).await?;
    let mut asked = offered(&look).context("the first look offers it")?;
    asked["reason"] = json!("the plans of the gate are wrong");
    let (_, preview) = hurnix.send(Method::POST, &format!("{ACT}/preview"), Some(asked.clone())).await?;
    assert!(preview["may_take_long"] == true && preview["statement"] == "ANALYZE public.berth", "{preview}");

    let (status, begun) = hurnix.send(Method::POST, ACT, Some(asked.clone())).await?;
    assert!(status == StatusCode::CREATED && begun["state"] == "running", "{begun}");
    let address = format!("actions/{}", begun["action_id"].as_str().context("it has a number")?);
    hurnix
        .wait_for(&address, |action| action["share"].as_f64().is_some_and(|share| share > 0.0 && share < 1.0))
        .await?;
    let (status, stopping) = hurnix.send(Method::POST, &format!("{address}/stop"), None).await?;
    assert!(status == StatusCode::OK && stopping["stop_asked_by"] == "admin", "{stopping}");
    let stopped = hurnix.wait_for(&address, |action| action["state"] != "running").await?;
    assert!(stopped["state"] == "stopped" && stopped["outcome"].as_str().unwrap().contains("admin"), "{stopped}");
    let (status, _) = hurnix.send(Method::POST, &format!("{address}/stop"), None).await?;
    assert_eq!(status, StatusCode::CONFLICT, "it does not run any more");

    let mut admin = cluster.connect("postgres").await?;
    admin.execute("ALTER ROLE hurnix_watch RESET vacuum_cost_delay").await?;
    let (_, begun) = hurnix.send(Method::POST, ACT, Some(asked.clone())).await?;
    let address = format!("actions/{}", begun["action_id"].as_str().context("it has a number")?);
    let done = hurnix.wait_for(&address, |action| action["state"] != "running").await?;
    assert!(done["state"] == "done" && done["outcome"].as_str().unwrap().contains("rows in"), "{done}");
    hurnix.wait_for("instances/1/first-look", |look| offered(look).is_none()).await?;

    // What is not there, or not said, is a fault of its field.
    asked["table"] = json!("raft");
    let (status, problem) = hurnix.send(Method::POST, ACT, Some(asked.clone())).await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem["errors"][0]["field"] == "table", "{problem}");
    asked["schema"] = Value::Null;
    asked["kind"] = json!("sink_it");
    let (status, problem) = hurnix.send(Method::POST, ACT, Some(asked.clone())).await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem["errors"][0]["field"] == "kind", "{problem}");
    assert!(problem.to_string().contains("analyze_table"), "{problem}");
    asked["kind"] = json!("analyze_table");
    let (_, problem) = hurnix.send(Method::POST, ACT, Some(asked)).await?;
    assert_eq!(problem["errors"][0]["field"], "schema", "{problem}");
    Ok(())
}
