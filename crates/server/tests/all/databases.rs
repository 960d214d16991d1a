//! From a server to one of its databases: figures that agree with the server's own.

use crate::common::{Hurnix, PASSWORD, connection, lately, wait_until, watched};
use anyhow::Result;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::Executor;

fn named<'a>(list: &'a Value, name: &str) -> &'a Value {
    list["databases"].as_array().unwrap().iter().find(|database| database["name"] == name).unwrap_or(&Value::Null)
}

#[tokio::test]
async fn a_database_is_told_with_its_work_its_settings_and_its_largest_tables() -> Result<()> {
    let ever = lately()?;
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    for sql in [
        "CREATE DATABASE tides CONNECTION LIMIT 9",
        "ALTER DATABASE tides SET work_mem = '32MB'",
        "CREATE INDEX deck_vessel ON deck (vessel_id)",
        "CREATE TABLE tide_reading AS SELECT n, repeat('x', 100) AS note FROM generate_series(1, 20000) n",
        "ANALYZE",
    ] {
        admin.execute(sql).await?;
    }
    let hurnix = Hurnix::start_with(&["--settings=1s", "--catalog=1s", "--space=1s", "--tables=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let list =
        hurnix.wait_for(&format!("instances/1/databases?{ever}"), |list| list["seconds"].as_f64() > Some(1.0)).await?;
    assert!(
        named(&list, "template1")["is_template"] == true && named(&list, "postgres")["is_connected"] == true,
        "{list}"
    );

    // What is done in the other database is counted for it, to the unit, and its statements are its own.
    let mut client = cluster.connect("tides").await?;
    let before = named(&list, "tides")["work"]["commits"].as_i64().unwrap();
    for _ in 0..50 {
        client.execute("SELECT 'ebb' AS tide").await?;
    }
    drop(client);
    let path = format!("instances/1/databases/tides?{ever}");
    let tides =
        hurnix.wait_for(&path, |tides| tides["figures"]["work"]["commits"].as_i64() >= Some(before + 50)).await?;
    let cells = tides["cells"].as_array().unwrap();
    let in_cells: i64 = cells.iter().map(|cell| cell["work"]["commits"].as_i64().unwrap()).sum();
    assert_eq!(in_cells, tides["figures"]["work"]["commits"].as_i64().unwrap(), "{tides}");
    assert_eq!(tides["properties"]["connection_limit"], 9);
    assert_eq!(tides["settings"], json!([{ "account": null, "name": "work_mem", "value": "32MB" }]));
    assert_eq!((&tides["tables"], &tides["last_backup"]), (&Value::Null, &Value::Null));
    assert!(tides["figures"]["size_bytes"].as_f64() > Some(1e6), "{tides}");
    let statements = hurnix
        .wait_for(&format!("instances/1/statements?{ever}&database=tides"), |list| list["matching"].as_i64() >= Some(1))
        .await?;
    let texts: Vec<&str> =
        statements["families"].as_array().unwrap().iter().map(|family| family["text"].as_str().unwrap()).collect();
    assert!(
        texts.iter().any(|text| text.contains("as tide")) && texts.iter().all(|text| !text.contains("tide_reading")),
        "{texts:?}"
    );
    let elsewhere = hurnix.get(&format!("instances/1/statements?{ever}&database=nowhere")).await?;
    assert_eq!(elsewhere["matching"], 0);

    // Of the one that Hurnix connects to its tables are known, the largest first.
    let here = hurnix
        .wait_for(&format!("instances/1/databases/postgres?{ever}"), |here| {
            here["tables"][0]["table"] == "public.tide_reading" && here["index_count"].as_i64() >= Some(1)
        })
        .await?;
    assert!(here["tables"][0]["size_bytes"].as_i64() > Some(2_000_000), "{here}");
    assert_eq!(here["tables"][1]["indexes"], 1);

    let told = json!({ "kind": "backup", "text": "full backup to the vault" });
    assert_eq!(hurnix.send(Method::POST, "instances/1/markers", Some(told)).await?.0, StatusCode::CREATED);
    assert_eq!(hurnix.get(&path).await?["last_backup"]["text"], "full backup to the vault");
    let (status, problem) = hurnix.send(Method::GET, &format!("instances/1/databases/nowhere?{ever}"), None).await?;
    assert!(status == StatusCode::NOT_FOUND && problem["detail"].as_str().unwrap().contains("nowhere"), "{problem}");
    Ok(())
}

#[tokio::test]
async fn catalogs_of_more_databases_are_read_when_asked_and_what_cannot_be_read_is_told() -> Result<()> {
    let ever = lately()?;
    let cluster = watched().await?;
    cluster.ensure_database("archive").await?;
    let mut archive = cluster.connect("archive").await?;
    archive.execute("CREATE TABLE deck AS SELECT n AS deck_id FROM generate_series(1, 70) n").await?;
    archive.execute("ANALYZE").await?;
    let hurnix = Hurnix::start_with(&["--catalog=1s"]).await?;
    let mut asked = connection(&cluster, PASSWORD);
    for (names, remedy) in [
        (json!(["postgres"]), "it is read anyway"),
        (json!(["archive", "archive"]), "Name each database once"),
        (json!([""]), "1 to 63 bytes"),
    ] {
        asked["settings"]["more_databases"] = names;
        let (status, problem) = hurnix.send(Method::POST, "instances", Some(asked.clone())).await?;
        assert_eq!(
            (status, &problem["errors"][0]["field"]),
            (StatusCode::UNPROCESSABLE_ENTITY, &"more_databases".into())
        );
        assert!(problem["errors"][0]["remedy"].as_str().unwrap().contains(remedy), "{problem}");
    }
    asked["settings"]["more_databases"] = json!(["archive", "nowhere"]);
    hurnix.send(Method::POST, "instances", Some(asked.clone())).await?;
    let of = |name: &str| format!("instances/1/databases/{name}?{ever}");
    hurnix.wait_for(&format!("instances/1/databases?{ever}"), |list| !named(list, "archive").is_null()).await?;
    let told =
        hurnix.wait_for(&of("archive"), |told| told["tables"].as_array().is_some_and(|all| !all.is_empty())).await?;
    assert_eq!(
        (&told["tables"][0]["table"], told["tables"].as_array().unwrap().len()),
        (&json!("public.deck"), 1),
        "{told}"
    );
    let here =
        hurnix.wait_for(&of("postgres"), |told| told["tables"].as_array().is_some_and(|all| !all.is_empty())).await?;
    assert_eq!(told["tables"][0]["dead_rows"], Value::Null, "that is read where Hurnix is connected");
    assert_ne!(told["tables"][0]["rows"], here["tables"][0]["rows"], "tables of one name in two databases");
    let limit = |instance: &Value| {
        let limits = instance["limits"].as_array().unwrap();
        limits.iter().find(|limit| limit["figures"] == "catalog of nowhere").cloned()
    };
    let instance = hurnix.wait_for("instances/1", |instance| limit(instance).is_some()).await?;
    assert_eq!(instance["collection"], "collecting", "it holds up nothing else");
    assert!(limit(&instance).unwrap()["reason"].as_str().unwrap().contains("There is no database nowhere"));

    // A table that is made there is a marker that names its database; what is not asked for any more is forgotten.
    archive.execute("CREATE TABLE berth (berth_id int)").await?;
    let mut repository = hurnix.repository.connect("hurnix").await?;
    wait_until("the marker is there", async || {
        let sql = "SELECT EXISTS (SELECT FROM marker WHERE text = 'archive: table public.berth made')";
        Ok(sqlx::query_scalar(sql).fetch_one(&mut repository).await?)
    })
    .await?;
    asked["settings"]["more_databases"] = json!([]);
    hurnix.send(Method::PUT, "instances/1", Some(asked)).await?;
    hurnix.wait_for(&of("archive"), |told| told["tables"].as_array().is_none_or(Vec::is_empty)).await?;
    Ok(())
}
