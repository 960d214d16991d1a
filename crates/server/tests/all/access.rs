//! Who may do and see what.

use crate::common::{Hurnix, PASSWORD, connection, watched};
use anyhow::{Context, Result};
use reqwest::{Client, Method, StatusCode};
use serde_json::json;
use sqlx::Executor;

#[tokio::test]
async fn the_metrics_of_an_instance_open_to_its_token_and_to_nothing_else() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start_with(&["--measures=1s"]).await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let mut other = connection(&cluster, PASSWORD);
    other["label"] = "passage-b".into();
    hurnix.send(Method::POST, "instances", Some(other)).await?;
    hurnix.wait_for("instances/1/metrics", |metrics| metrics.to_string().contains("clock_offset")).await?;

    hurnix.wait_for("instances/1/history", |history| !history["span"].is_null()).await?;
    let (status, made) = hurnix.send(Method::POST, "instances/1/scrape-token", None).await?;
    assert_eq!(status, StatusCode::OK);
    let token = made["token"].as_str().context("it is told once")?;
    assert_eq!(made["path"], "/metrics/instances/1");
    let scrape = async |instance: i32, token: &str| -> Result<(StatusCode, String)> {
        let request = Client::new().get(format!("{}/metrics/instances/{instance}", hurnix.address)).bearer_auth(token);
        let answer = request.send().await?;
        Ok((answer.status(), answer.text().await?))
    };
    let (status, text) = scrape(1, token).await?;
    assert_eq!(status, StatusCode::OK, "{text}");
    assert!(text.contains("hurnix_instance_up{server=\"passage-a\"} 1\n"), "{text}");
    // Both clocks are this machine's.
    let offset =
        text.lines().find(|line| line.starts_with("hurnix_instance_clock_offset_seconds{")).context("offset")?;
    let seconds: f64 = offset.rsplit(' ').next().context("a value")?.parse()?;
    assert!(seconds.abs() < 0.5, "{offset}");
    assert!(text.contains("hurnix_instance_load{server=\"passage-a\",wait_kind=\"running\"}"), "{text}");
    assert!(text.ends_with("# EOF\n"), "{text}");

    for (instance, shown) in [(1, "made-up"), (1, ""), (2, token), (77, token)] {
        let (status, text) = scrape(instance, shown).await?;
        assert_eq!(status, StatusCode::UNAUTHORIZED, "{instance} {shown}: {text}");
    }
    let (_, renewed) = hurnix.send(Method::POST, "instances/1/scrape-token", None).await?;
    assert_eq!(scrape(1, token).await?.0, StatusCode::UNAUTHORIZED, "the earlier one opens nothing");
    let renewed = renewed["token"].as_str().context("it is told")?;
    assert_eq!(scrape(1, renewed).await?.0, StatusCode::OK);
    assert_eq!(hurnix.send(Method::DELETE, "instances/1/scrape-token", None).await?.0, StatusCode::NO_CONTENT);
    assert_eq!(scrape(1, renewed).await?.0, StatusCode::UNAUTHORIZED);
    let kept: String = sqlx::query_scalar("SELECT coalesce(string_agg(t::text, ''), '') FROM instance t")
        .fetch_one(&mut hurnix.repository.connect("hurnix").await?)
        .await?;
    assert!(!kept.contains(token) && !kept.contains(renewed));
    Ok(())
}

#[tokio::test]
async fn readers_look_and_change_nothing() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start().await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let marker = json!({ "text": "new timetable" });
    let noted = hurnix.send(Method::POST, "instances/1/markers", Some(marker.clone())).await?;
    let marker_id = noted.1["marker_id"].as_str().context("it was noted")?.to_owned();

    hurnix.repository.connect("hurnix").await?.execute("UPDATE account SET role = 'reader'").await?;
    assert_eq!(hurnix.get("session").await?["role"], "reader");
    hurnix.get("instances/1").await?;
    let changes = [
        (Method::POST, "instances/1/markers".to_owned(), Some(marker)),
        (Method::DELETE, format!("instances/1/markers/{marker_id}"), None),
        (Method::POST, "instances".to_owned(), Some(connection(&cluster, PASSWORD))),
        (Method::PUT, "instances/1".to_owned(), Some(connection(&cluster, PASSWORD))),
        (Method::POST, "instances/trial".to_owned(), Some(connection(&cluster, PASSWORD))),
        (Method::POST, "instances/1/scrape-token".to_owned(), None),
        (Method::DELETE, "instances/1/scrape-token".to_owned(), None),
        (Method::PUT, "instances/1/changes/1/answer".to_owned(), Some(json!({ "answer": "accepted" }))),
        (Method::DELETE, "instances/1/changes/1/answer".to_owned(), None),
        (Method::POST, "instances/1/advice/1/applied".to_owned(), Some(json!({}))),
        (Method::POST, "instances/1/advice/1/set-aside".to_owned(), Some(json!({}))),
        (Method::POST, "instances/1/advice/1/reopen".to_owned(), None),
    ];
    for (method, path, body) in changes {
        let (status, problem) = hurnix.send(method.clone(), &path, body).await?;
        assert_eq!(status, StatusCode::FORBIDDEN, "{method} {path}: {problem}");
    }
    hurnix.wait_for("instances/1/history", |history| history["markers"].to_string().contains("new timetable")).await?;
    Ok(())
}
