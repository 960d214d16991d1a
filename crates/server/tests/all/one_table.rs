//! One table in full over HTTP: what it is, what the server counted of it, and which statements use it how.

use anyhow::Result;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};
use sqlx::Executor;

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};

const TABLES: &str = "instances/1/databases/postgres/tables";

fn named<'a>(list: &'a Value, name: &str) -> &'a Value {
    let mut found = list.as_array().into_iter().flatten().filter(|one| one["name"] == name);
    found.next().unwrap_or(&Value::Null)
}

fn uses(column: &Value) -> Vec<&str> {
    column["uses"].as_array().into_iter().flatten().filter_map(|one| one["does"].as_str()).collect()
}

#[tokio::test]
async fn a_table_is_told_with_its_columns_in_use_its_index_map_and_its_statements() -> Result<()> {
    let cluster = watched().await?;
    let mut client = cluster.connect("postgres").await?;
    sqlx::raw_sql(
        "CREATE TABLE pier (pier_id int PRIMARY KEY, state text);
         INSERT INTO pier SELECT n, 'open' FROM generate_series(1, 40) n;
         CREATE TABLE mooring (mooring_id int PRIMARY KEY, pier_id int NOT NULL REFERENCES pier, seen_at int, note text);
         INSERT INTO mooring SELECT n, n % 40 + 1, n, 'note' FROM generate_series(1, 20000) n;
         CREATE INDEX mooring_pier ON mooring (pier_id);
         CREATE INDEX mooring_pier_seen ON mooring (pier_id, seen_at) INCLUDE (note);
         CREATE TABLE tide (at int, level int) PARTITION BY RANGE (at);
         CREATE TABLE tide_old PARTITION OF tide FOR VALUES FROM (0) TO (1000);
         CREATE TABLE tide_new PARTITION OF tide FOR VALUES FROM (1000) TO (5000);
         INSERT INTO tide SELECT n, n % 7 FROM generate_series(1, 3000) n;",
    )
    .execute(&mut client)
    .await?;
    client.execute("VACUUM ANALYZE").await?;
    let hurnix = Hurnix::start_with(&["--catalog=1s", "--tables=1s", "--statements=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let path = format!("{TABLES}/public/mooring");
    wait_until("its statements are told", async || {
        client.execute("SELECT note FROM mooring WHERE pier_id = 7 AND seen_at > 19000").await?;
        client.execute("SELECT state FROM pier JOIN mooring USING (pier_id) WHERE mooring_id = 5").await?;
        client.execute("UPDATE mooring SET note = 'seen' WHERE mooring_id = 9").await?;
        let (status, table) = hurnix.send(Method::GET, &path, None).await?;
        let is_counted = table["work"]["index_reads"].as_f64() > Some(0.0);
        Ok(status == StatusCode::OK && table["statement_count"] == 3 && is_counted)
    })
    .await?;
    let table = hurnix.get(&path).await?;
    assert_eq!((&table["rows"], &table["part_of"]), (&json!(20_000.0), &Value::Null), "{table}");
    assert_eq!(uses(named(&table["columns"], "pier_id")), ["equality", "join"], "{table}");
    assert_eq!(uses(named(&table["columns"], "seen_at")), ["range"]);
    assert_eq!(uses(named(&table["columns"], "note")), ["set"]);
    // The planner's statistics are told once the account may read them.
    let distinct = |table: &Value| named(&table["columns"], "pier_id")["distinct_values"].as_f64();
    assert_eq!(distinct(&table), None);
    client.execute("GRANT pg_read_all_data TO hurnix_watch").await?;
    hurnix.wait_for(&path, |table| distinct(table) == Some(40.0)).await?;
    let writing: Vec<bool> =
        table["statements"].as_array().into_iter().flatten().filter_map(|one| one["writes"].as_bool()).collect();
    assert_eq!(writing.iter().filter(|writes| **writes).count(), 1, "{table}");
    assert_eq!(table["refers_to"][0]["table"], "public.pier");

    // The short index is the beginning of the long one: they share a step, and are told as what they are.
    let map = &table["map"];
    let end = |index: &str| {
        let paths = map["paths"].as_array().into_iter().flatten();
        paths.filter(|path| path["index"] == index).find_map(|path| path["end"].as_u64())
    };
    let (short, long) = (end("mooring_pier"), end("mooring_pier_seen"));
    let step = |place: Option<u64>| &map["steps"][place.unwrap_or(u64::MAX) as usize];
    assert_eq!(step(long)["after"].as_u64(), short, "{map}");
    assert_eq!(map["columns"][step(long)["column"].as_u64().unwrap_or(9) as usize]["name"], "seen_at", "{map}");
    assert_eq!(table["findings"][0]["kind"], "contained", "{table}");
    let index = named(&table["indexes"], "mooring_pier_seen");
    assert_eq!((&index["carried"], &index["unique"]), (&json!(["note"]), &json!(false)));

    // Who refers to it, and what lies in its partitions.
    let pier = hurnix.get(&format!("{TABLES}/public/pier")).await?;
    assert_eq!(pier["referred_by"][0]["table"], "public.mooring");
    let tide = hurnix.get(&format!("{TABLES}/public/tide")).await?;
    assert_eq!((&tide["rows"], &tide["partition_keys"]), (&json!(3000.0), &json!(["at"])), "{tide}");
    assert_eq!((&tide["partition_count"], &tide["partitions"][0]["table"]), (&json!(2), &json!("tide_new")));
    assert_eq!(hurnix.get(&format!("{TABLES}/public/tide_old")).await?["part_of"], "public.tide");

    for (path, field) in
        [("instances/1/databases/nowhere/tables/public/pier", "name"), (&format!("{TABLES}/public/quay"), "table")]
    {
        let (status, problem) = hurnix.send(Method::GET, path, None).await?;
        assert_eq!((status, &problem["errors"][0]["field"]), (StatusCode::NOT_FOUND, &json!(field)), "{problem}");
    }
    Ok(())
}
