//! Figures of a server on one axis, and what of them moved.

use anyhow::{Context, Result};
use hurnix_core::Timestamp;
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::normal_range::NormalRange;
use hurnix_core::keeping::retention::Retention;
use hurnix_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::Value;

use crate::contract::start;

fn moment(seconds_ago: i64) -> String {
    (chrono::Utc::now() - chrono::TimeDelta::seconds(seconds_ago)).format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

fn course<'a>(courses: &'a Value, figure: &str, object: &str) -> Result<Vec<Option<f64>>> {
    let all = courses["courses"].as_array().context("a list")?;
    let found = all.iter().find(|course: &&'a Value| course["figure"] == figure && course["object"] == object);
    let values =
        found.with_context(|| format!("there is {figure} {object}"))?["values"].as_array().context("values")?;
    Ok(values.iter().map(Value::as_f64).collect())
}

#[tokio::test]
async fn ratios_are_those_of_their_parts_cell_by_cell() -> Result<()> {
    let (hurnix, id) = start().await?;
    let path = |more: &str| format!("instances/{id}/courses?from={}&to={}{more}", moment(3 * 3600), moment(1800));
    let courses = hurnix.get(&path("")).await?;
    let (hits, reads) = (course(&courses, "hit_pages", "")?, course(&courses, "read_pages", "")?);
    let ratios = course(&courses, "cache_hit_ratio", "")?;
    let mut compared = 0;
    for ((ratio, hit), read) in ratios.iter().zip(&hits).zip(&reads) {
        let (Some(ratio), Some(hit), Some(read)) = (ratio, hit, read) else { continue };
        assert!((ratio - hit / (hit + read)).abs() < 1e-6, "{ratio} of {hit} and {read}");
        compared += 1;
    }
    assert!(compared > 5, "{courses}");
    let (queue, requests) = (course(&courses, "storage_queue", "sda")?, course(&courses, "storage_requests", "sda")?);
    for ((latency, queue), requests) in course(&courses, "storage_latency", "sda")?.iter().zip(&queue).zip(&requests) {
        let (Some(latency), Some(queue), Some(requests)) = (latency, queue, requests) else { continue };
        assert!((latency - queue / requests).abs() < 1e-6 * latency.max(1.0), "{latency} of {queue} and {requests}");
    }
    // Each is told with what it is of, and in the order of the resources.
    let order: Vec<&str> =
        courses["resources"].as_array().into_iter().flatten().filter_map(|one| one["resource"].as_str()).collect();
    assert_eq!(order.first(), Some(&"processors"), "{order:?}");
    assert!(courses["cpus"].as_f64() > Some(0.0));
    // One axis for several instances: cells no shorter than asked for.
    let wide = hurnix.get(&path("&figure=load&cell_seconds=1800")).await?;
    assert!(
        wide["cell_seconds"].as_i64() >= Some(1800) && wide["courses"].as_array().map(Vec::len) == Some(1),
        "{wide}"
    );
    for (bad, field) in [("&figure=tide", "figure"), ("&cell_seconds=0", "cell_seconds")] {
        let (status, problem) = hurnix.send(Method::GET, &path(bad), None).await?;
        assert_eq!((status, problem["errors"][0]["field"].as_str()), (StatusCode::UNPROCESSABLE_ENTITY, Some(field)));
    }
    Ok(())
}

#[tokio::test]
async fn what_left_its_own_range_is_told_first() -> Result<()> {
    let (hurnix, id) = start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    // It was usually idle, and its pages came from the cache as they do now.
    let day = |level: f64| (0..288).map(|bucket| level * (1.0 + 0.01 * f64::from(bucket % 5))).collect::<Vec<f64>>();
    let learnt = |level| NormalRange::learn(&day(level), Timestamp(0), 600.0).context("two days are enough");
    let ratio = ServerFigure::named("cache_hit_ratio").context("it is followed")?;
    let window = format!("from={}&to={}", moment(3 * 3600), moment(2 * 3600));
    let seen = hurnix.get(&format!("instances/{id}/courses?{window}&figure=cache_hit_ratio")).await?;
    let usual = seen["courses"][0]["mean"].as_f64().context("it was seen")?;
    let ranges = [(ServerFigure::Load, learnt(0.01)?), (ratio, learnt(usual)?)];
    store
        .write_usual_ranges(id.try_into()?, Timestamp(0), ranges.iter().map(|(figure, range)| (*figure, "", range)))
        .await?;
    let moved = hurnix.get(&format!("instances/{id}/moved?{window}")).await?;
    assert_eq!(moved["judged"], 2, "{moved}");
    let told: Vec<_> = moved["figures"]
        .as_array()
        .into_iter()
        .flatten()
        .map(|one| (one["figure"].as_str(), one["is_outside"].as_bool()))
        .collect();
    assert_eq!(told[0], (Some("load"), Some(true)), "{moved}");
    assert_eq!(told[1].0, Some("cache_hit_ratio"));
    assert!(moved["figures"][0]["reach"].as_f64() > moved["figures"][1]["reach"].as_f64());
    assert_eq!(moved["others_judged"], 0, "it is in no group");
    Ok(())
}
