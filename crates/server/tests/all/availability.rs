//! What an instance can tell, and asking for all of it at once, through the program as it is run.

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};
use anyhow::Result;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::Executor;

fn of<'a>(told: &'a Value, figures: &str) -> &'a Value {
    told.as_array().unwrap().iter().find(|told| told["figures"] == figures).unwrap()
}

#[tokio::test]
async fn each_kind_of_figures_tells_how_it_stands_and_all_come_when_asked_for() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start_with(&["--tables=1h", "--settings=1h"]).await?, watched().await?);
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let collected =
        |told: &Value| of(told, "settings")["availability"] == "collected" && of(told, "plans")["read"] != 0;
    let told = hurnix.wait_for("instances/1/figures", collected).await?;
    assert_eq!(told.as_array().unwrap().len(), hurnix_core::readings::figures::Figures::ALL.len());
    let statements = of(&told, "statements");
    // Of the counters by statement only what this version cannot tell is missing.
    let limits = statements["obstacles"].as_array().unwrap();
    assert!(limits.len() == 1 && limits[0]["remedy"].as_str().unwrap().contains("version 17"), "{statements}");
    let databases = of(&told, "databases");
    assert_eq!((&databases["availability"], &databases["obstacles"]), (&json!("collected"), &json!([])));
    assert!(statements["mean_read_ms"].as_f64() > Some(0.0) && statements["cost_share"].as_f64() > Some(0.0));
    assert_eq!(of(&told, "io")["read"], 0, "this version has nothing of it, and is not asked for it");
    for (figures, availability) in [
        ("host", "absent"),
        ("log", "absent"),
        ("io", "absent"),
        ("plans", "limited"),
        ("catalog", "limited"),
        ("inventory", "limited"),
    ] {
        let told = of(&told, figures);
        assert_eq!(told["availability"], availability, "{told}");
        let obstacle = &told["obstacles"][0];
        assert!(obstacle["reason"].as_str().unwrap().len() > 20 && !obstacle["remedy"].as_str().unwrap().is_empty());
    }

    // The next reading of tables is an hour away; asked for, it comes now.
    let mut admin = cluster.connect("postgres").await?;
    admin.execute("GRANT pg_read_all_data TO hurnix_watch").await?;
    let before = of(&told, "tables")["last_read_at"].clone();
    let (status, _) = hurnix.send(Method::POST, "instances/1/snapshot", None).await?;
    assert_eq!(status, StatusCode::ACCEPTED);
    let told = hurnix
        .wait_for("instances/1/figures", |told| {
            of(told, "tables")["last_read_at"].as_str() > before.as_str()
                && of(told, "catalog")["availability"] == "collected"
        })
        .await?;
    assert_eq!(of(&told, "catalog")["obstacles"], json!([]), "what was granted meanwhile is seen");
    let reader = hurnix.somebody("mate", "reader", &[]).await?;
    let refused = reader.send(&hurnix, Method::POST, "instances/1/snapshot", None).await?;
    assert_eq!(refused.0, StatusCode::FORBIDDEN);

    // A server that is gone is overdue before long, and nothing is invented for it.
    cluster.crash();
    hurnix.wait_for("instances/1", |instance| instance["collection"] == "failing").await?;
    // What was read last may be written yet: time is turned back until it is.
    let sql = "UPDATE collection_tally SET last_read_at = last_read_at - interval '2 minutes' WHERE last_read_at > now() - interval '1 minute'";
    let mut repository = hurnix.repository.connect("hurnix").await?;
    wait_until("activity is overdue", async || {
        sqlx::query(sql).execute(&mut repository).await?;
        Ok(of(&hurnix.get("instances/1/figures").await?, "activity")["availability"] == "overdue")
    })
    .await?;
    Ok(())
}

#[tokio::test]
async fn the_script_for_an_account_is_told_and_bad_names_are_refused() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let script = hurnix.get("account-script?version=15&account=hurnix_watch&database=passage&host=true").await?;
    let script = script.as_str().unwrap();
    assert!(script.contains("GRANT pg_monitor TO hurnix_watch;") && script.contains("hurnix_host_file"), "{script}");
    assert!(!script.contains("hurnix_log_piece") && !script.contains("GRANT SELECT"), "{script}");
    let (status, problem) =
        hurnix.send(Method::GET, "account-script?version=15&account=a&database=a%0Ab", None).await?;
    assert_eq!((status, &problem["errors"][0]["field"]), (StatusCode::UNPROCESSABLE_ENTITY, &"database".into()));
    let long = format!("account-script?version=9&account=&database={}", "x".repeat(64));
    let (status, problem) = hurnix.send(Method::GET, &long, None).await?;
    let fields: Vec<&Value> = problem["errors"].as_array().unwrap().iter().map(|error| &error["field"]).collect();
    assert_eq!((status, fields.len()), (StatusCode::UNPROCESSABLE_ENTITY, 3), "{problem}");
    Ok(())
}
