//! Simulated instances and host exporters, through the program as it is run.

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};
use anyhow::{Context, Result};
use hurnix_core::Timestamp;
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::figures::Figures;
use hurnix_demo::{fleet, serve_meter};
use hurnix_server::backfill;
use hurnix_source::Source;
use hurnix_source::simulated::{Model, SimulatedSource};
use hurnix_store::Store;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

fn now() -> Timestamp {
    Timestamp(chrono::Utc::now().timestamp_micros())
}

/// A server of Skerry Line that began a few hours ago.
fn young(label: &str) -> Result<Model> {
    let (_, mut model) = fleet(now())?.into_iter().find(|(known, _)| *known == label).context("it is in the fleet")?;
    model.began_at = Timestamp(now().plus_seconds(-7.0 * 3600.0).0 / 60_000_000 * 60_000_000);
    model.events.clear();
    // Busy all the time, whatever the time of the day.
    model.families.iter_mut().for_each(|family| family.shape = hurnix_source::simulated::Shape::steady());
    Ok(model)
}

fn written(at: Timestamp) -> String {
    chrono::DateTime::from_timestamp_micros(at.0).unwrap_or_default().format("%Y-%m-%dT%H:%M:%SZ").to_string()
}

async fn counted(source: &mut SimulatedSource) -> Result<StatementCounters> {
    let reading = source.counters(Figures::Statements).await?.context("statements are counted")?;
    Ok(reading
        .of::<StatementCounters>()
        .unwrap()
        .rows
        .iter()
        .fold(StatementCounters::default(), |sum, (_, by)| sum.plus(by)))
}

#[tokio::test]
async fn a_past_is_lived_through_once_and_then_goes_on() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let model = young("freight")?;
    let pace = json!({ "intervals": { "activity": 1, "activity_write": 1, "statements": 1 } });
    let id = store.add_unconnected("freight", Engine::Simulated, &pace, Some(&serde_json::to_value(&model)?)).await?;
    let until = now();
    backfill(&store, id, model.clone(), until).await?;
    let sums = async || {
        let sql = "SELECT coalesce(sum(calls), 0)::bigint, coalesce(sum(exec_us), 0)::bigint, count(DISTINCT to_at)
                   FROM (SELECT to_at, unnest(calls) AS calls, unnest(exec_us) AS exec_us FROM statement_period) period";
        let found: (i64, i64, i64) =
            sqlx::query_as(sql).fetch_one(&mut hurnix.repository.connect("hurnix").await?).await?;
        anyhow::Ok(found)
    };
    // To the unit: what the server has counted between its first reading and the last.
    let mut source = SimulatedSource::stopped(model.clone());
    source.move_to(model.began_at.plus_seconds(60.0));
    let first = counted(&mut source).await?;
    source.move_to(until);
    let last = counted(&mut source).await?;
    let by = last.grown_since(&first).context("it only grows")?;
    let found = sums().await?;
    assert_eq!((found.0, found.1), (by.calls, by.exec_us));
    backfill(&store, id, model, until).await?;
    assert_eq!(sums().await?, found, "living through it again changes nothing");

    // From there it is collected like any other.
    store.simulated_ready(id).await?;
    wait_until("it is collected on", async || Ok(sums().await?.2 > found.2)).await?;
    let broken: i64 = sqlx::query_scalar(
        "SELECT count(*) FROM (SELECT from_at, lag(taken_at) OVER (ORDER BY taken_at) AS before FROM snapshot WHERE kind = 'statements') s
         WHERE before IS NOT NULL AND from_at IS DISTINCT FROM before",
    )
    .fetch_one(&mut hurnix.repository.connect("hurnix").await?)
    .await?;
    assert_eq!(broken, 0, "every period begins where the one before it ended");
    let instance = hurnix.get(&format!("instances/{id}")).await?;
    assert_eq!((&instance["engine"], &instance["collection"]), (&json!("simulated"), &json!("collecting")));

    // It has no connection that could be changed, and its own intervals are told.
    let anything = json!({ "label": "x", "host": "h", "port": 1, "database": "d", "account": "a", "tls": "off" });
    let (status, problem) = hurnix.send(Method::PUT, &format!("instances/{id}"), Some(anything)).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem.to_string().contains("no connection to change"), "{problem}");
    let collection = hurnix.get(&format!("instances/{id}/collection")).await?;
    let seconds = |figures: &str| {
        let intervals = collection["intervals"].as_array().unwrap();
        intervals.iter().find(|interval| interval["figures"] == figures).unwrap()["seconds"].as_f64().unwrap()
    };
    assert_eq!((seconds("activity"), seconds("tables")), (1.0, 600.0));

    // Its pace can be changed while it is collected, within what is possible.
    let path = format!("instances/{id}/pace");
    let wrong = json!({ "intervals": { "statements": 0.1, "queries": 5 }, "budget_share": 2 });
    let (status, problem) = hurnix.send(Method::PUT, &path, Some(wrong)).await?;
    let fields: Vec<&str> =
        problem["errors"].as_array().unwrap().iter().map(|error| error["field"].as_str().unwrap()).collect();
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(fields, ["intervals.queries", "intervals.statements", "budget_share"]);
    // A budget that cannot be kept to at these intervals stretches them, and is told.
    let own = json!({ "intervals": { "activity": 1.0, "activity_write": 1.0 }, "budget_bytes": 1024.0 });
    let (status, _) = hurnix.send(Method::PUT, &path, Some(own.clone())).await?;
    assert_eq!(status, StatusCode::NO_CONTENT);
    let collection_path = format!("instances/{id}/collection");
    wait_until("readings are stretched to its own budget", async || {
        Ok(hurnix.get(&collection_path).await?["stretch"].as_f64().is_some_and(|stretch| stretch > 1.0))
    })
    .await?;
    let collection = hurnix.get(&collection_path).await?;
    assert_eq!((&collection["own_pace"], &collection["budget_bytes"]), (&own, &json!(1024.0)));
    let kept = |figures: &str| {
        let kept = collection["kept"].as_array().unwrap();
        kept.iter().find(|kept| kept["figures"] == figures).unwrap().clone()
    };
    assert_eq!(kept("tables")["ten_minutes_days"], 35);
    assert_eq!(kept("log"), json!({ "figures": "log", "fine_days": 35 }));

    // Its plans are told with when they were seen.
    let span = format!("from={}&to={}", written(until.plus_seconds(-3600.0)), written(until));
    let list = hurnix.get(&format!("instances/{id}/statements?{span}")).await?;
    let family = list["families"][0]["family_id"].as_str().unwrap();
    let family = hurnix.get(&format!("instances/{id}/statements/{family}?{span}")).await?;
    let plans = family["plans"].as_array().unwrap();
    assert_eq!(plans.len(), 1, "{plans:?}");
    assert!(plans[0]["text"].as_str().unwrap().contains("  (cost="));
    assert!(plans[0]["first_read_at"].as_str() <= plans[0]["read_at"].as_str());
    Ok(())
}

#[tokio::test]
async fn of_a_past_that_is_not_kept_as_read_the_sums_are_written_and_agree() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let mut model = young("lab")?;
    model.began_at = Timestamp(now().plus_seconds(-9.0 * 86_400.0).0 / 86_400_000_000 * 86_400_000_000);
    let id = store.add_unconnected("lab", Engine::Bundle, &json!({}), None).await?;
    let until = Timestamp(now().0 / 600_000_000 * 600_000_000);
    backfill(&store, id, model.clone(), until).await?;
    let mut repository = hurnix.repository.connect("hurnix").await?;
    // What is still to be summed up is not, so that each part is where it was written.
    let edge = store.fine_since(until);
    let mut counted = async |table: &'static str, begin: Timestamp, end: Timestamp| {
        let sql = format!(
            "SELECT coalesce(sum(calls), 0)::bigint, coalesce(sum(exec_us), 0)::bigint
             FROM (SELECT unnest(calls) AS calls, unnest(exec_us) AS exec_us FROM {table} WHERE to_at > $1 AND to_at <= $2) rows"
        );
        let moment = |at: Timestamp| chrono::DateTime::from_timestamp_micros(at.0);
        let found: (i64, i64) = sqlx::query_as(sqlx::AssertSqlSafe(sql))
            .bind(moment(begin))
            .bind(moment(end))
            .fetch_one(&mut repository)
            .await?;
        anyhow::Ok(found)
    };
    let mut source = SimulatedSource::stopped(model.clone());
    let mut grown = async |begin: Timestamp, end: Timestamp| {
        source.move_to(begin);
        let first = self::counted(&mut source).await?;
        source.move_to(end);
        let by = self::counted(&mut source).await?.grown_since(&first).context("it only grows")?;
        anyhow::Ok((by.calls, by.exec_us))
    };
    let first_reading = model.began_at.plus_seconds(600.0);
    assert_eq!(counted("statement_ten_minutes", first_reading, edge).await?, grown(first_reading, edge).await?);
    assert_eq!(counted("statement_period", model.began_at, edge).await?, (0, 0), "nothing as it was read");
    assert_eq!(counted("statement_period", edge, until).await?, grown(edge, until).await?);
    // Hours are made of them, and a window over all of it is answered.
    while store.roll_up(until).await? > 0 {}
    let span = format!("from={}&to={}", written(first_reading), written(until));
    let list = hurnix.get(&format!("instances/{id}/statements?{span}&page_size=1")).await?;
    let mut source = SimulatedSource::stopped(model);
    source.move_to(first_reading);
    let first = self::counted(&mut source).await?;
    source.move_to(until);
    let all = self::counted(&mut source).await?.grown_since(&first).context("it only grows")?;
    assert_eq!(list["total"]["calls"].as_i64(), Some(all.calls));
    let load = hurnix.get(&format!("instances/{id}/load?{span}")).await?;
    assert!(load["whole"]["samples"].as_i64() > Some(9 * 1400), "{}", load["whole"]);
    Ok(())
}

#[tokio::test]
async fn an_exporter_tells_of_the_host_and_says_so_when_it_does_not() -> Result<()> {
    let (meter, serving) = serve_meter(([127, 0, 0, 1], 0).into()).await?;
    tokio::spawn(serving);
    let hurnix = Hurnix::start_with(&["--measures=1s"]).await?;
    let cluster = watched().await?;
    let mut wanted = connection(&cluster, PASSWORD);
    wanted["host_endpoint"] = "db1:9470".into();
    let (status, problem) = hurnix.send(Method::POST, "instances", Some(wanted.clone())).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert!(problem.to_string().contains("host_endpoint"), "{problem}");

    wanted["host_endpoint"] = format!("http://{meter}/metrics").into();
    let (_, added) = hurnix.send(Method::POST, "instances", Some(wanted.clone())).await?;
    let id = added["instance_id"].as_i64().context("a number")?;
    let metrics = hurnix
        .wait_for(&format!("instances/{id}/metrics"), |metrics| {
            let told =
                |name: &str| metrics.as_array().is_some_and(|all| all.iter().any(|metric| metric["metric"] == name));
            told("cpu_used") && told("cpu_by_core") && told("power") && told("memory_total")
        })
        .await?;
    let power = metrics.as_array().unwrap().iter().find(|metric| metric["metric"] == "power").unwrap();
    let watts = power["values"][0]["value"].as_f64().unwrap();
    assert!(watts >= 71.0 && power["values"][0]["object"] == "meter", "{power}");

    // One that answers with something else refuses that reading, and the others go on.
    wanted["host_endpoint"] = hurnix.address.clone().into();
    hurnix.send(Method::PUT, &format!("instances/{id}"), Some(wanted)).await?;
    let refused = |collection: &Value| {
        let hours = collection["hours"].as_array().unwrap();
        hours.iter().any(|hour| hour["figures"] == "host" && hour["refused"].as_i64().unwrap() > 0)
    };
    hurnix.wait_for(&format!("instances/{id}/collection"), refused).await?;
    let told = hurnix
        .wait_for(&format!("instances/{id}"), |instance| {
            instance["limits"].to_string().contains("Figures of the host are missing")
        })
        .await?;
    assert_eq!(told["collection"], "collecting", "and the roster tells what the exporter does not give");
    Ok(())
}
