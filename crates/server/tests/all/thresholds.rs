//! Thresholds: set, tried on the past, and in force; what is usual beside them.

use crate::common::{Hurnix, PASSWORD, connection, watched};
use anyhow::{Context, Result};
use hurnix_core::Timestamp;
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::retention::Retention;
use hurnix_demo::fleet;
use hurnix_server::backfill;
use hurnix_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

const FAST: [&str; 5] = ["--measures=1s", "--space=2s", "--bucket=10s", "--alarms=1s", "--alarm-closes-after=1s"];
const THRESHOLDS: &str = "thresholds";

fn allowed_above(value: f64) -> Value {
    json!({ "instance": "passage-a", "group": null, "figure": "connections_allowed", "object": null, "side": "high",
        "value": value, "clears_at": null, "lasts_minutes": 0, "verdict": "act", "step": "Call the pilot." })
}

fn of_figure(list: &Value, figure: &str) -> usize {
    list.as_array().unwrap().iter().filter(|set| set["figure"] == figure).count()
}

fn open(list: &Value) -> Option<&Value> {
    list["alarms"].as_array().unwrap().iter().find(|alarm| alarm["object"] == "Connections allowed")
}

fn of_trouble<'a>(list: &'a Value, trouble: &str) -> Option<&'a Value> {
    list["alarms"].as_array().unwrap().iter().find(|alarm| alarm["trouble"] == trouble)
}

#[tokio::test]
async fn a_threshold_raises_an_alarm_and_takes_it_away_with_it() -> Result<()> {
    let cluster = watched().await?;
    let hurnix = Hurnix::start_with(&FAST).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let defaults = hurnix.get(THRESHOLDS).await?;
    assert!(of_figure(&defaults, "wait_lock") == 1 && of_figure(&defaults, "connections_allowed") == 0, "{defaults}");

    // Every fault is told at once, and nothing is kept.
    let wrong = json!({ "instance": "nowhere", "group": null, "figure": "tide", "object": null, "side": "low",
        "value": 5, "clears_at": 4, "lasts_minutes": 10, "verdict": "quiet" });
    let (status, problem) = hurnix.send(Method::POST, THRESHOLDS, Some(wrong)).await?;
    let fields: Vec<&str> =
        problem["errors"].as_array().unwrap().iter().map(|error| error["field"].as_str().unwrap()).collect();
    assert_eq!((status.as_u16(), fields), (422, vec!["instance", "figure", "clears_at"]), "{problem}");

    let (status, set) = hurnix.send(Method::POST, THRESHOLDS, Some(allowed_above(1.0))).await?;
    assert_eq!((status, &set["clears_at"], &set["is_on"]), (StatusCode::CREATED, &json!(1.0), &json!(true)), "{set}");
    assert_eq!(hurnix.send(Method::POST, THRESHOLDS, Some(allowed_above(2.0))).await?.0, StatusCode::CONFLICT);
    let mate = hurnix.somebody("mate", "tuner", &["gates"]).await?;
    let seen = mate.send(&hurnix, Method::GET, THRESHOLDS, None).await?.1;
    assert_eq!((of_figure(&seen, "connections_allowed"), of_figure(&seen, "wait_lock")), (0, 1));
    let refused = mate.send(&hurnix, Method::POST, THRESHOLDS, Some(allowed_above(1.0))).await?;
    assert_eq!(refused.0, StatusCode::FORBIDDEN);

    // Old transactions are looked for more often than thresholds are judged.
    let mut held = cluster.connect("postgres").await?;
    sqlx::raw_sql("BEGIN; SELECT pg_current_xact_id()").execute(&mut held).await?;
    let mut transactions = allowed_above(1e9);
    (transactions["figure"], transactions["side"]) = (json!("oldest_transaction"), json!("low"));
    assert_eq!(hurnix.send(Method::POST, THRESHOLDS, Some(transactions)).await?.0, StatusCode::CREATED);
    hurnix.wait_for("alarms?state=open", |list| of_trouble(list, "old_transaction").is_some()).await?;

    let list = hurnix.wait_for("alarms?state=open", |list| open(list).is_some()).await?;
    let alarm = open(&list).context("an alarm")?;
    assert_eq!((&alarm["verdict"], &alarm["step"]), (&json!("act"), &json!("Call the pilot.")), "{alarm}");
    assert!(alarm["text"].as_str().is_some_and(|text| text.contains("above 1")), "{alarm}");
    let path = format!("{THRESHOLDS}/{}", set["threshold_id"]);
    let (status, changed) = hurnix.send(Method::PUT, &path, Some(allowed_above(1e6))).await?;
    assert_eq!((status, &changed["value"]), (StatusCode::OK, &json!(1e6)));
    let list = hurnix.wait_for("alarms?state=open", |list| open(list).is_none()).await?;
    let stands = of_trouble(&list, "old_transaction").context("it stands all the while")?;
    let story: Vec<&Value> = stands["story"].as_array().into_iter().flatten().map(|entry| &entry["what"]).collect();
    assert_eq!(story, [&json!("opened")], "{stands}");
    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NOT_FOUND);
    Ok(())
}

#[tokio::test]
async fn a_threshold_is_tried_on_the_past_which_tells_what_is_usual_too() -> Result<()> {
    let hurnix = Hurnix::start_with(&["--bucket=10m", "--alarms=1s"]).await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let until = Timestamp(chrono::Utc::now().timestamp_micros());
    let (_, mut model) = fleet(until)?.into_iter().find(|(known, _)| *known == "freight").context("in the fleet")?;
    model.began_at = Timestamp(until.plus_seconds(-40.0 * 3600.0).0 / 60_000_000 * 60_000_000);
    let kept = Some(serde_json::to_value(&model)?);
    let id = store.add_unconnected("freight", Engine::Simulated, &json!({}), kept.as_ref()).await?;
    backfill(&store, id, model, until).await?;
    store.roll_up(until).await?;

    let tried = async |value: f64| {
        let what = format!("figure=load&side=high&value={value}&lasts_minutes=0&verdict=look");
        hurnix.get(&format!("thresholds/trial?{what}")).await
    };
    let never = tried(1e9).await?;
    assert_eq!((&never["raised"], &never["instances_tried"]), (&json!(0), &json!(1)), "{never}");
    let weeks = never["weeks"].as_f64().context("a number")?;
    assert!((weeks - 40.0 / 168.0).abs() < 0.02, "{weeks}");
    let always = tried(0.0).await?;
    assert!(always["raised"].as_u64() >= Some(1), "{always}");
    let cells = always["objects"][0]["cells"].as_array().context("the past")?;
    assert!(cells.len() > 100 && cells.iter().any(|cell| cell["is_raised"] == true), "{}", cells.len());
    let one_a_week = never["one_a_week"].as_f64().context("a value")?;
    // Of the week of which a part was seen: one at most, none where the two highest means are alike, and some below it.
    let [at_it, below] = [tried(one_a_week).await?, tried(one_a_week * 0.9).await?];
    assert!(at_it["raised"].as_u64() <= Some(1), "{one_a_week}: {}", at_it["raised"]);
    assert!(below["raised"].as_u64() >= Some(1), "{one_a_week}: {}", below["raised"]);
    let largest = cells.iter().filter_map(|cell| cell["value"].as_f64()).fold(0.0, f64::max);
    assert!(one_a_week < largest * 1.01, "{one_a_week} {largest}");

    // New sessions: whatever else goes on at this hour, nothing explains them.
    let beyond = json!({ "figure": "sessions", "side": "high", "value": 0, "lasts_minutes": 0, "verdict": "act" });
    assert_eq!(hurnix.send(Method::POST, THRESHOLDS, Some(beyond)).await?.0, StatusCode::CREATED);
    store.simulated_ready(id).await?;
    let window = |hours: f64| {
        let at = until.plus_seconds(-hours * 3600.0);
        chrono::DateTime::from_timestamp_micros(at.0).unwrap_or_default().format("%Y-%m-%dT%H:%M:%SZ").to_string()
    };
    let asked = format!("figure=load,wait_running&from={}&to={}&cell_seconds=600", window(3.0), window(0.0));
    let path = format!("instances/{id}/usual-ranges?{asked}");
    let usual = hurnix.wait_for(&path, |list| list.as_array().is_some_and(|list| list.len() == 2)).await?;
    let load = &usual[0];
    assert_eq!((&load["figure"], load["cells"].as_array().map(Vec::len)), (&json!("load"), Some(18)), "{usual}");
    for cell in load["cells"].as_array().into_iter().flatten() {
        let [low, middle, high] = ["low", "middle", "high"].map(|end| cell[end].as_f64().unwrap());
        assert!(low <= middle && middle <= high && high < largest * 3.0, "{cell}, and {largest} was seen");
    }
    let line = &hurnix.get("roster").await?["changed"][0];
    let ends = ["strip", "strip_low", "strip_high"].map(|name| line[name].as_array().map(Vec::len));
    assert!(ends[0].is_some_and(|cells| cells > 10) && ends[1..] == [ends[0]; 2], "{line}");

    // The figure that raised an alarm is drawn with it, before what is usual.
    let is_of_it = |alarm: &Value| alarm["object"] == "New sessions";
    let told = |list: &Value| list["alarms"].as_array().into_iter().flatten().any(is_of_it);
    let list = hurnix.wait_for("alarms?state=open", told).await?;
    let alarm = list["alarms"].as_array().into_iter().flatten().find(|alarm| is_of_it(alarm)).context("an alarm")?;
    let path = format!("alarms/{}/course", alarm["alarm_id"].as_str().context("a number")?);
    let course = hurnix.get(&path).await?;
    assert_eq!((&course[0]["figure"], &course[0]["threshold"]), (&json!("sessions"), &json!(0.0)), "{course}");
    let cells = course[0]["cells"].as_array().context("the past")?;
    assert!(cells.len() > 50 && cells.iter().any(|cell| cell["is_raised"] == true), "{course}");
    assert!(cells.iter().all(|cell| cell["high"].as_f64() >= cell["low"].as_f64()), "{course}");

    let asked = asked.replace("load,", "tide,").replace("=600", "=0");
    let (status, problem) = hurnix.send(Method::GET, &format!("instances/{id}/usual-ranges?{asked}"), None).await?;
    assert_eq!((status.as_u16(), &problem["errors"][0]["field"]), (422, &json!("figure")), "{problem}");
    Ok(())
}
