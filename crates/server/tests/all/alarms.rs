//! Alarms through the API, on a real server in trouble.

use anyhow::{Context, Result};
use hurnix_cluster::{Cluster, Setup};
use hurnix_demo::{Pace, Stage, Story, Traffic, WATCH_ACCOUNT, load_passage, passage_settings, set_watch_password};
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use crate::common::{Hurnix, connection};

/// Everything is read and looked for about once a second, and an alarm closes soon.
const FAST: [&str; 6] =
    ["--tables=1s", "--measures=1s", "--space=2s", "--bucket=10s", "--alarms=1s", "--alarm-closes-after=3s"];
const OPEN: &str = "alarms?state=open";

fn alarms(list: &Value) -> &[Value] {
    list["alarms"].as_array().map_or(&[], Vec::as_slice)
}

fn of<'a>(list: &'a Value, trouble: &str) -> Vec<&'a Value> {
    alarms(list).iter().filter(|alarm| alarm["trouble"] == trouble).collect()
}

#[tokio::test]
async fn a_hold_up_is_one_alarm_that_is_handled_and_closes_when_it_is_over() -> Result<()> {
    let passage = Cluster::temporary(Setup {
        settings: &passage_settings(),
        password_accounts: &[WATCH_ACCOUNT],
        version: None,
    })?;
    load_passage(&passage).await?;
    set_watch_password(&passage, "gullandtern").await?;
    let mut hurnix = Hurnix::start_with(&FAST).await?;
    let traffic = Traffic::start(passage.port(), Pace::Paced, 5);
    let mut stage = Stage::new(passage.port());
    let mut connection = connection(&passage, "gullandtern");
    connection["database"] = json!("passage");
    assert_eq!(hurnix.send(Method::POST, "instances", Some(connection)).await?.0, StatusCode::CREATED);
    // The tests' clusters do not sync to disk and let anybody in: that stands from the beginning.
    let before = hurnix.wait_for(OPEN, |list| of(list, "settings").len() == 1).await?;
    assert_eq!(of(&before, "hold_up"), [] as [&Value; 0]);

    stage.play(&[Story::HoldUp]).await?;
    let urgent = |list: &Value| of(list, "hold_up").iter().any(|alarm| alarm["verdict"] == "act");
    let list = hurnix.wait_for(OPEN, urgent).await?;
    let [held_up] = of(&list, "hold_up")[..] else { panic!("one trouble is one alarm: {list}") };
    let text = held_up["text"].as_str().context("a sentence")?;
    assert!(text.contains("skerry_supervisor (gate desk") && text.contains("sessions"), "{text}");
    assert_eq!((&held_up["page"], &held_up["instance"]), (&json!("blocking"), &json!("passage-a")));
    assert!(held_up["statement"].as_str().is_some_and(|statement| statement.contains("pg_terminate_backend")));
    assert_eq!(of(&list, "lock_waits"), [] as [&Value; 0], "they come from the hold-up: {list}");
    let number = held_up["alarm_id"].as_str().context("a number")?.to_owned();
    let line = hurnix.get("instances").await?[0].clone();
    assert_eq!((&line["health"], line["worst"]["asks"].as_str()), (&json!("act"), Some("act")), "{line}");

    // A restart of Hurnix neither loses nor doubles it.
    hurnix.process.end()?;
    hurnix.restart(&FAST).await?;
    let list = hurnix.wait_for(OPEN, |list| of(list, "hold_up").len() == 1).await?;
    assert_eq!(of(&list, "hold_up")[0]["alarm_id"], json!(number));

    let ask = async |method: Method, what: &str, body: Value| {
        hurnix.send(method, &format!("alarms/{number}/{what}"), Some(body)).await
    };
    let (status, told) = ask(Method::PUT, "acknowledgement", json!({ "acknowledged": true })).await?;
    assert_eq!((status, &told["asks"], &told["acknowledged_by"]), (StatusCode::OK, &json!("look"), &json!("admin")));
    let (status, problem) = ask(Method::PUT, "assignment", json!({ "assigned_to": "nobody-here" })).await?;
    assert_eq!((status.as_u16(), &problem["errors"][0]["field"]), (422, &json!("assigned_to")));
    assert_eq!(ask(Method::PUT, "assignment", json!({ "assigned_to": "admin" })).await?.1["assigned_to"], "admin");
    let comment = "The gate desk was called.";
    assert_eq!(ask(Method::POST, "comments", json!({ "comment": comment })).await?.0, StatusCode::OK);
    let past = json!({ "snoozed_until": "2026-03-01T06:00:00Z" });
    let (status, problem) = ask(Method::PUT, "snooze", past).await?;
    assert_eq!((status.as_u16(), &problem["errors"][0]["field"]), (422, &json!("snoozed_until")), "{problem}");
    let until = (chrono::Utc::now() + chrono::Duration::hours(4)).to_rfc3339();
    assert_eq!(ask(Method::PUT, "snooze", json!({ "snoozed_until": until })).await?.1["asks"], Value::Null);
    let mate = hurnix.somebody("mate", "reader", &[]).await?;
    let refused = mate
        .send(&hurnix, Method::PUT, &format!("alarms/{number}/acknowledgement"), Some(json!({ "acknowledged": false })))
        .await?;
    assert_eq!(refused.0, StatusCode::FORBIDDEN);
    let limited = hurnix.somebody("gull", "tuner", &["gates"]).await?;
    let unseen = limited.send(&hurnix, Method::GET, &format!("alarms/{number}"), None).await?;
    assert_eq!(unseen.0, StatusCode::NOT_FOUND, "of an instance that one does not see");

    stage.clear().await?;
    // The traffic has holders of its own, who are other alarms; this one has only one.
    let this = |list: &Value| of(list, "hold_up").into_iter().find(|alarm| alarm["alarm_id"] == json!(number)).cloned();
    let list = hurnix.wait_for("alarms?state=closed", |list| this(list).is_some()).await?;
    let closed = &this(&list).context("it is closed")?;
    let of_same = of(&list, "hold_up").into_iter().filter(|alarm| alarm["object"] == closed["object"]).count();
    assert_eq!(of_same, 1, "one trouble is one alarm: {list}");
    let story: Vec<&str> =
        closed["story"].as_array().context("a story")?.iter().filter_map(|entry| entry["what"].as_str()).collect();
    for what in ["opened", "acknowledged", "assigned", "commented", "snoozed", "closed"] {
        assert!(story.contains(&what), "{what} in {story:?}");
    }
    assert!(closed.to_string().contains(comment));
    let (status, problem) =
        hurnix.send(Method::PUT, &format!("alarms/{number}/snooze"), Some(json!({ "snoozed_until": until }))).await?;
    assert!(status.as_u16() == 422 && problem.to_string().contains("closed"), "{problem}");

    // Back within a day: it is the same alarm.
    stage.play(&[Story::HoldUp]).await?;
    let list = hurnix.wait_for(OPEN, |list| of(list, "hold_up").len() == 1).await?;
    assert_eq!(of(&list, "hold_up")[0]["alarm_id"], json!(number));
    stage.clear().await?;

    // What is being worked on asks for nothing.
    let window = json!({
        "name": "all week", "instance": "passage-a", "days": ["monday", "tuesday", "wednesday", "thursday", "friday",
        "saturday", "sunday"], "start": "00:00", "minutes": 1440, "time_zone": "UTC",
    });
    assert_eq!(hurnix.send(Method::POST, "maintenance-windows", Some(window)).await?.0, StatusCode::CREATED);
    let line = hurnix.get("instances").await?[0].clone();
    assert_eq!((&line["health"], &line["silenced_by"]), (&json!("quiet"), &json!("all week")), "{line}");
    traffic.stop().await;
    Ok(())
}

#[tokio::test]
async fn a_server_that_does_not_answer_is_an_alarm_and_closes_no_other() -> Result<()> {
    let watched = crate::common::watched().await?;
    let hurnix = Hurnix::start_with(&FAST).await?;
    let (status, _) =
        hurnix.send(Method::POST, "instances", Some(connection(&watched, crate::common::PASSWORD))).await?;
    assert_eq!(status, StatusCode::CREATED);
    hurnix.wait_for(OPEN, |list| of(list, "settings").len() == 1).await?;
    drop(watched);
    let list = hurnix.wait_for(OPEN, |list| of(list, "unreachable").len() == 1).await?;
    assert_eq!(of(&list, "unreachable")[0]["verdict"], "act");
    assert_eq!(of(&list, "settings").len(), 1, "nobody knows that it is gone: {list}");
    let line = hurnix.get("instances").await?[0].clone();
    assert_eq!(line["health"], "act", "{line}");
    Ok(())
}
