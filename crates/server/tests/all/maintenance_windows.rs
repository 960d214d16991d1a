//! Maintenance windows: set, seen by whom they concern, changed, forgotten.

use crate::common::{Hurnix, PASSWORD, connection, watched};
use anyhow::Result;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

const WINDOWS: &str = "maintenance-windows";

fn names(list: &Value) -> Vec<&str> {
    list.as_array().unwrap().iter().map(|window| window["name"].as_str().unwrap()).collect()
}

#[tokio::test]
async fn windows_are_set_for_an_instance_or_a_group_and_seen_by_whom_they_concern() -> Result<()> {
    let cluster = watched().await?;
    let hurnix = Hurnix::start().await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    hurnix.send(Method::PUT, "instances/1/group", Some(json!({ "group": "sea" }))).await?;

    // Every fault is told at once, and nothing is kept.
    let wrong = json!({ "name": " ", "instance": "nowhere", "group": null, "days": ["someday"], "start": "25:00",
        "minutes": 0, "time_zone": "Skerry/Sound" });
    let (status, problem) = hurnix.send(Method::POST, WINDOWS, Some(wrong)).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    let fields: Vec<&str> =
        problem["errors"].as_array().unwrap().iter().map(|error| error["field"].as_str().unwrap()).collect();
    assert_eq!(fields, ["name", "instance", "days", "days", "time_zone"], "{problem}");

    let mut window = json!({ "name": "night", "instance": "passage-a", "group": null, "days": ["sunday", "monday"],
        "start": "01:30", "minutes": 90, "time_zone": "Europe/Lisbon" });
    let (status, set) = hurnix.send(Method::POST, WINDOWS, Some(window.clone())).await?;
    assert_eq!(status, StatusCode::CREATED, "{set}");
    assert_eq!((&set["days"], &set["start"]), (&json!(["monday", "sunday"]), &json!("01:30")));
    assert!(set["until"].is_string() && set["is_open"].is_boolean(), "{set}");
    let of_group = json!({ "name": "shore leave", "group": "shore", "days": ["friday"], "start": "00:00",
        "minutes": 1440, "time_zone": "UTC" });
    hurnix.send(Method::POST, WINDOWS, Some(of_group)).await?;
    assert_eq!(names(&hurnix.get(WINDOWS).await?), ["night", "shore leave"]);

    // Somebody who is limited to the group of the instance sees its window, and sets none.
    let mate = hurnix.somebody("mate", "tuner", &["sea"]).await?;
    assert_eq!(names(&mate.send(&hurnix, Method::GET, WINDOWS, None).await?.1), ["night"]);
    assert_eq!(mate.send(&hurnix, Method::POST, WINDOWS, Some(window.clone())).await?.0, StatusCode::FORBIDDEN);

    window["name"] = json!("later at night");
    window["start"] = json!("03:00");
    let path = format!("{WINDOWS}/{}", set["window_id"]);
    let (status, changed) = hurnix.send(Method::PUT, &path, Some(window.clone())).await?;
    assert!(status == StatusCode::OK && changed["start"] == "03:00", "{changed}");
    assert_eq!(hurnix.send(Method::PUT, &format!("{WINDOWS}/99"), Some(window)).await?.0, StatusCode::NOT_FOUND);
    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.send(Method::DELETE, &path, None).await?.0, StatusCode::NOT_FOUND);
    assert_eq!(names(&hurnix.get(WINDOWS).await?), ["shore leave"]);
    Ok(())
}
