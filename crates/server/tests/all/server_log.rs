//! The server's log from the watched server to the API: nothing twice, nothing lost, no literal kept.

use crate::common::{Hurnix, PASSWORD, connection, lately, wait_until, watched_with};
use anyhow::{Context, Result};
use hurnix_cluster::Cluster;
use hurnix_source::postgres::log_script;
use reqwest::{Method, StatusCode};
use serde_json::Value;
use sqlx::postgres::PgConnection;
use sqlx::{AssertSqlSafe, Executor};

/// A watched server whose log can be read, and what reads it.
async fn start() -> Result<(Hurnix, Cluster, PgConnection)> {
    let cluster = watched_with(&[("logging_collector", "on"), ("log_destination", "jsonlog")]).await?;
    let mut client = cluster.connect("postgres").await?;
    client.execute(AssertSqlSafe(log_script("hurnix_watch"))).await?;
    let hurnix = Hurnix::start().await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    Ok((hurnix, cluster, client))
}

fn errors(list: &Value) -> Vec<(String, i64)> {
    let entries = list["entries"].as_array().unwrap();
    entries
        .iter()
        .map(|entry| (entry["statement"].as_str().unwrap().to_owned(), entry["times"].as_i64().unwrap()))
        .collect()
}

/// Everything that the repository holds, as text.
async fn dump(hurnix: &Hurnix) -> Result<String> {
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let mut all = String::new();
    for table in ["server_log", "family", "name", "activity", "plan", "logged_plan"] {
        let sql = format!("SELECT coalesce(string_agg(t::text, E'\\n'), '') FROM {table} t");
        all.push_str(&sqlx::query_scalar::<_, String>(AssertSqlSafe(sql)).fetch_one(&mut repository).await?);
    }
    Ok(all)
}

#[tokio::test]
async fn plans_of_what_took_long_arrive_with_their_rows_and_without_literals() -> Result<()> {
    let ever = lately()?;
    let (hurnix, _cluster, mut client) = start().await?;
    client
        .execute(
            "CREATE TABLE buoy AS SELECT n AS buoy_id, 'driftwood' AS name FROM generate_series(1, 5000) n;
             LOAD 'auto_explain'; SET auto_explain.log_min_duration = 0; SET auto_explain.log_analyze = on;
             SET auto_explain.log_format = 'json'",
        )
        .await?;
    for _ in 0..3 {
        client.execute("SELECT count(*) FROM buoy WHERE name = 'driftwood' AND buoy_id > 17").await?;
    }
    let mut repository = hurnix.repository.connect("hurnix").await?;
    let logged = "SELECT family_id, sum(times)::bigint FROM logged_plan JOIN family f USING (family_id)
                  WHERE f.text LIKE 'select count(*) from buoy%' GROUP BY 1";
    let mut family = 0;
    wait_until("the plans are read", async || {
        let row: Option<(i64, i64)> = sqlx::query_as(logged).fetch_optional(&mut repository).await?;
        family = row.map_or(0, |(family, _)| family);
        Ok(row.is_some_and(|(_, times)| times == 3))
    })
    .await?;
    let page = hurnix.get(&format!("instances/1/statements/{family}?{ever}")).await?;
    let plan = &page["logged_plans"][0];
    assert_eq!((&plan["times"], plan["most_ms"].as_f64() >= plan["mean_ms"].as_f64()), (&3.into(), true), "{plan}");
    let scan = plan["tree"]["steps"].as_array().context("it is a tree")?.last().context("it has steps")?;
    assert_eq!((&scan["name"], &scan["rows"]), (&"Seq Scan on buoy".into(), &4983.0.into()), "{scan}");
    assert!(
        plan["text"].as_str().is_some_and(|text| text.contains("Filter: ((buoy_id > $1) AND (name = $2::text))")),
        "{plan}"
    );
    assert!(!dump(&hurnix).await?.contains("driftwood"), "no literal is kept");
    Ok(())
}

#[tokio::test]
async fn errors_arrive_once_without_their_literals_and_are_found_again() -> Result<()> {
    let ever = lately()?;
    let (mut hurnix, _cluster, mut client) = start().await?;
    let path = format!("instances/1/log?{ever}&kind=error");
    for secret in ["driftwood", "limpet"] {
        let failing = format!("SELECT 'the {secret} code'::int");
        assert!(client.execute(AssertSqlSafe(failing)).await.is_err());
    }
    let list = hurnix.wait_for(&path, |list| errors(list).iter().map(|(_, times)| times).sum::<i64>() == 2).await?;
    assert!(
        errors(&list).iter().all(|(statement, _)| statement == "select ? ::int" || statement == "select ?::int"),
        "{list}"
    );
    assert_eq!(list["entries"][0]["state"], "22P02");
    assert_eq!(list["entries"][0]["message"], "invalid input syntax for type integer: ?");
    let kinds = list["kinds"].as_array().context("they are counted")?;
    assert!(kinds.iter().any(|kind| kind["kind"] == "error" && kind["times"] == 2), "{list}");
    let family = list["entries"][0]["family_id"].as_str().context("it has a family")?;
    assert_eq!(hurnix.get(&format!("{path}&family_id={family}")).await?["matching"], list["matching"]);
    assert_eq!(hurnix.get(&format!("{path}&search=INVALID%20input")).await?["matching"], list["matching"]);
    assert_eq!(hurnix.get(&format!("{path}&search=%25")).await?["matching"], 0);
    let (status, problem) = hurnix.send(Method::GET, &format!("instances/1/log?{ever}&kind=storm"), None).await?;
    assert!(status == StatusCode::UNPROCESSABLE_ENTITY && problem.to_string().contains("deadlock"), "{problem}");

    // Another process reads on where the one that was killed had come to.
    hurnix.process.kill()?;
    hurnix.process.wait()?;
    assert!(client.execute("SELECT 1 / 0").await.is_err());
    let mut other = hurnix.another(&[])?;
    let count = "SELECT coalesce(sum(times), 0)::bigint FROM server_log WHERE kind = 'error'";
    let mut repository = hurnix.repository.connect("hurnix").await?;
    wait_until("the error during the pause is read", async || {
        Ok(sqlx::query_scalar::<_, i64>(count).fetch_one(&mut repository).await? >= 3)
    })
    .await?;
    assert!(client.execute("SELECT 2 / 0").await.is_err());
    wait_until("the next one is read", async || {
        Ok(sqlx::query_scalar::<_, i64>(count).fetch_one(&mut repository).await? >= 4)
    })
    .await?;
    assert_eq!(sqlx::query_scalar::<_, i64>(count).fetch_one(&mut repository).await?, 4);
    other.kill()?;
    other.wait()?;
    let all = dump(&hurnix).await?;
    assert!(!all.contains("driftwood") && !all.contains("limpet"), "no literal is kept");
    Ok(())
}

#[tokio::test]
async fn literals_are_kept_where_the_instance_says_so() -> Result<()> {
    let ever = lately()?;
    let (hurnix, cluster, mut client) = start().await?;
    hurnix.wait_for("instances/1", |instance| instance["collection"] == "collecting").await?;
    let mut changed = connection(&cluster, PASSWORD);
    changed["settings"] = serde_json::json!({ "keeps_literals": true });
    let (status, _) = hurnix.send(Method::PUT, "instances/1", Some(changed)).await?;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.get("instances/1").await?["settings"]["keeps_literals"], true);
    let path = format!("instances/1/log?{ever}&kind=error");
    // The connection is made anew with the new switch; errors before that are masked.
    let mut number = 0;
    wait_until("an error is kept with its literal", async || {
        number += 1;
        assert!(client.execute(AssertSqlSafe(format!("SELECT 'gangway {number}'::int"))).await.is_err());
        Ok(errors(&hurnix.get(&path).await?).iter().any(|(statement, _)| statement.contains("'gangway ")))
    })
    .await
}
