//! A replica that becomes the primary while nobody looks.

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};
use anyhow::Result;
use reqwest::{Method, StatusCode};
use serde_json::json;
use sqlx::Executor;

#[tokio::test]
async fn a_promotion_is_marked_also_when_it_happened_while_hurnix_was_away() -> Result<()> {
    let primary = watched().await?;
    let replica = primary.temporary_replica()?;
    let mut hurnix = Hurnix::start_with(&["--measures=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&replica, PASSWORD))).await?;
    hurnix
        .wait_for("instances/1/metrics", |metrics| {
            let recovering = metrics.as_array().unwrap().iter().find(|metric| metric["metric"] == "recovering");
            recovering.is_some_and(|metric| metric["values"][0]["value"] == 1.0)
        })
        .await?;
    hurnix.process.kill()?;
    hurnix.process.wait()?;
    primary.crash();
    replica.connect("postgres").await?.execute("SELECT pg_promote()").await?;

    let mut other = hurnix.another(&["--measures=1s"])?;
    let mut repository = hurnix.repository.connect("hurnix").await?;
    wait_until("the promotion is marked", async || {
        let sql = "SELECT count(*) FROM marker WHERE kind = 'failover' AND text LIKE '%replica%primary%'";
        Ok(sqlx::query_scalar::<_, i64>(sql).fetch_one(&mut repository).await? == 1)
    })
    .await?;
    other.kill()?;
    other.wait()?;
    Ok(())
}

#[tokio::test]
async fn primary_and_replica_are_one_chain_until_both_are_primaries() -> Result<()> {
    let primary = watched().await?;
    let replica = primary.temporary_replica()?;
    let hurnix = Hurnix::start_with(&["--measures=1s"]).await?;
    for (label, cluster) in [("passage-a", &primary), ("passage-b", &replica)] {
        let mut instance = connection(cluster, PASSWORD);
        instance["label"] = label.into();
        let (status, added) = hurnix.send(Method::POST, "instances", Some(instance)).await?;
        assert_eq!(status, StatusCode::CREATED, "{added}");
    }
    hurnix.wait_for("instances/2/part", |part| part["is_replica"] == true && part["primary"] == "passage-a").await?;
    assert_eq!(hurnix.get("instances/1/part").await?["primary"], json!(null));
    let chain =
        hurnix.wait_for("instances/2/replication", |told| told["servers"][1]["promotion"]["lost_bytes"] == 0).await?;
    let servers = chain["servers"].as_array().expect("a list");
    let names: Vec<_> =
        servers.iter().map(|one| (one["name"].clone(), one["part"].clone(), one["depth"].clone())).collect();
    assert_eq!(
        names,
        [(json!("passage-a"), json!("primary"), json!(0)), (json!("passage-b"), json!("replica"), json!(1))]
    );
    assert_eq!((&servers[1]["state"], &servers[1]["synchronous"]), (&json!("streaming"), &json!("async")));
    assert_eq!((&chain["primaries"], &chain["silent"]), (&json!(1), &json!([])));

    replica.connect("postgres").await?.execute("SELECT pg_promote()").await?;
    for (instance, text) in [(1, "passage-b: replica → primary"), (2, "the server's part: replica → primary")] {
        hurnix
            .wait_for(&format!("instances/{instance}/history"), |history| {
                let markers = history["markers"].as_array().unwrap();
                markers.iter().any(|marker| marker["kind"] == "failover" && marker["text"] == text)
            })
            .await?;
    }
    let split = hurnix.get("instances/1/replication").await?;
    assert_eq!((split["primaries"].clone(), split["servers"].as_array().unwrap().len()), (json!(2), 2), "{split}");
    primary.crash();
    let alone = hurnix.get("instances/2/replication").await?;
    assert_eq!((&alone["silent"][0]["label"], &alone["primaries"]), (&json!("passage-a"), &json!(1)), "{alone}");
    Ok(())
}
