//! The review of indexes over HTTP: what the rules find is tested in core, and on a whole schema with its source.

use anyhow::{Context, Result};
use reqwest::{Method, StatusCode};
use serde_json::Value;
use sqlx::Executor;

use crate::common::{Hurnix, PASSWORD, connection, wait_until, watched};

const REVIEW: &str = "instances/1/index-review";

fn indexes(review: &Value) -> Vec<&str> {
    let findings = review["findings"].as_array().into_iter().flatten();
    findings.filter_map(|finding| finding["index"].as_str()).collect()
}

#[tokio::test]
async fn findings_are_told_by_worth_narrowed_and_paged_and_no_drop_is_shown_before_a_cycle_is_over() -> Result<()> {
    let cluster = watched().await?;
    let mut admin = cluster.connect("postgres").await?;
    sqlx::raw_sql(
        "CREATE TABLE tide_reading AS SELECT n AS reading_id, n % 500 AS level FROM generate_series(1, 300000) n;
         CREATE INDEX tide_level ON tide_reading (level); CREATE INDEX tide_level_again ON tide_reading (level);
         CREATE INDEX deck_vessel ON deck (vessel_id); CREATE INDEX deck_vessel_again ON deck (vessel_id)",
    )
    .execute(&mut admin)
    .await?;
    admin.execute("VACUUM ANALYZE").await?;
    let hurnix = Hurnix::start_with(&["--catalog=1s", "--tables=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let counted = |review: &Value| review["counted"]["seconds"].as_f64() > Some(1.0) && review["matching"] == 1;
    let review = hurnix.wait_for(REVIEW, counted).await?;
    let finding = &review["findings"][0];
    assert_eq!((&finding["kind"], &finding["certainty"]), (&"duplicate".into(), &"likely".into()), "{finding}");
    assert_eq!((&finding["index"], &finding["beside"]), (&"tide_level_again".into(), &"tide_level".into()));
    assert!(finding["statement"].as_array().is_some_and(Vec::is_empty), "one of them may be new: {finding}");
    assert!(finding["held_back"].as_str().is_some_and(|why| why.contains("35 days")), "{finding}");
    assert_eq!(review["freed_bytes"], finding["freed_bytes"]);
    assert_eq!((&review["counted"]["servers"], &review["counted"]["unwatched_servers"]), (&1.into(), &0.into()));
    let kinds = review["kinds"].as_array().context("a list")?;
    let duplicates = kinds.iter().find(|kind| kind["kind"] == "duplicate").context("its kind is told")?;
    assert_eq!(duplicates["found"], 2, "small ones count there: {duplicates}");
    assert_eq!(review["small"], 1);

    // The business cycle of the instance is what is asked for.
    let mut asked = connection(&cluster, PASSWORD);
    asked["settings"]["cycle_days"] = "95".into();
    let changed = hurnix.send(Method::PUT, "instances/1", Some(asked)).await?;
    assert_eq!(changed.0, StatusCode::NO_CONTENT, "{changed:?}");
    assert_eq!(hurnix.get(REVIEW).await?["counted"]["cycle_days"], 95);

    let all = hurnix.get(&format!("{REVIEW}?small=true&sort=name&ascending=true")).await?;
    assert_eq!(indexes(&all), ["deck_vessel_again", "tide_level_again"]);
    let reversed = hurnix.get(&format!("{REVIEW}?small=true&sort=name")).await?;
    assert_eq!(indexes(&reversed), ["tide_level_again", "deck_vessel_again"]);
    let second = hurnix.get(&format!("{REVIEW}?small=true&page=2&page_size=1")).await?;
    assert_eq!((indexes(&second), &second["matching"]), (vec!["deck_vessel_again"], &2.into()));
    assert_eq!(indexes(&hurnix.get(&format!("{REVIEW}?small=true&search=DECK")).await?), ["deck_vessel_again"]);
    assert_eq!(hurnix.get(&format!("{REVIEW}?small=true&kind=invalid")).await?["matching"], 0);
    for (query, status) in [("database=nowhere", StatusCode::NOT_FOUND), ("kind=odd", StatusCode::UNPROCESSABLE_ENTITY)]
    {
        let refused = hurnix.send(Method::GET, &format!("{REVIEW}?{query}"), None).await?;
        assert_eq!(refused.0, status, "{refused:?}");
    }
    Ok(())
}

#[tokio::test]
async fn statements_that_no_index_is_looked_for_say_why() -> Result<()> {
    let cluster = watched().await?;
    let mut client = cluster.connect("postgres").await?;
    let table = "CREATE TABLE berth_note AS SELECT n AS berth, 'note ' || n AS note FROM generate_series(1, 2000) n";
    client.execute(table).await?;
    let hurnix = Hurnix::start_with(&["--catalog=1s", "--statements=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let of = |list: &Value, note: &str| {
        let statements = list["statements"].as_array().into_iter().flatten();
        let mut found = statements.filter(|row| row["text"].as_str().is_some_and(|text| text.contains(note)));
        found.next().cloned()
    };
    let path = "instances/1/statements-not-understood";
    wait_until("the pattern is told", async || {
        client.execute("SELECT berth FROM berth_note WHERE note LIKE 'note 7%'").await?;
        client.execute("SELECT note FROM berth_note WHERE berth = 7").await?;
        Ok(of(&hurnix.get(path).await?, "LIKE").is_some())
    })
    .await?;
    let list = hurnix.get(path).await?;
    let row = of(&list, "LIKE").context("it is there")?;
    assert!(row["why"].as_str().is_some_and(|why| why.contains("pattern")), "{row}");
    let (share, all) = (row["share"].as_f64().context("a share")?, list["share"].as_f64().context("a share")?);
    assert!(share > 0.0 && share <= all && all <= 1.0, "{list}");
    assert!(of(&list, "berth = ").is_none(), "what is understood is not told: {list}");
    Ok(())
}

#[tokio::test]
async fn predicted_costs_are_held_against_the_planner_on_each_plan_that_was_read() -> Result<()> {
    let cluster = watched().await?;
    let mut client = cluster.connect("postgres").await?;
    sqlx::raw_sql(
        "GRANT pg_read_all_data TO hurnix_watch;
         CREATE TABLE mooring (mooring_id int PRIMARY KEY, pier_id int, note text);
         INSERT INTO mooring SELECT n, n % 500, repeat('note', 20) FROM generate_series(1, 50000) n;
         CREATE INDEX mooring_pier ON mooring (pier_id);
         CREATE TABLE pier (pier_id int PRIMARY KEY, name text);
         INSERT INTO pier SELECT n, 'pier ' || n FROM generate_series(0, 499) n;",
    )
    .execute(&mut client)
    .await?;
    client.execute("VACUUM ANALYZE").await?;
    let hurnix = Hurnix::start_with(&["--catalog=1s", "--statements=1s", "--plans=1s"]).await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    let path = "instances/1/cost-model";
    wait_until("plans are compared", async || {
        for statement in [
            "SELECT note FROM mooring WHERE mooring_id = 7",
            "SELECT note FROM mooring WHERE pier_id = 7",
            "SELECT count(*) FROM mooring",
            "SELECT name, note FROM pier JOIN mooring USING (pier_id) WHERE pier_id = 7",
            "SELECT name FROM pier WHERE pier_id = 9",
            "SELECT note FROM mooring ORDER BY mooring_id LIMIT 5",
        ] {
            client.execute(statement).await?;
        }
        Ok(hurnix.get(path).await?["plans"].as_u64() >= Some(6))
    })
    .await?;
    let check = hurnix.get(path).await?;
    let (factor, middle) = (check["factor"].as_f64(), check["middle"].as_f64());
    assert!(factor.is_some_and(|factor| (1.0..2.0).contains(&factor)), "{check}");
    assert!(middle.is_some_and(|middle| (0.5..2.0).contains(&middle)), "{check}");
    // The planner's cost is what EXPLAIN says.
    let statements = check["statements"].as_array().context("a list")?;
    let apart = |row: &Value| row["ratio"].as_f64().map(|ratio| ratio.max(1.0 / ratio));
    assert!(statements.windows(2).all(|pair| apart(&pair[0]) >= apart(&pair[1])), "the furthest apart first: {check}");
    let all = statements.iter().find(|row| row["text"].as_str().is_some_and(|text| text.contains("count(*)")));
    let explained: Value =
        sqlx::query_scalar("EXPLAIN (FORMAT JSON) SELECT count(*) FROM mooring").fetch_one(&mut client).await?;
    let cost = explained[0]["Plan"]["Total Cost"].as_f64().context("it has a cost")?;
    let told = all.and_then(|row| row["planner_cost"].as_f64()).context("it is told")?;
    assert!((told - cost).abs() < 0.02 * cost, "{told} by Hurnix, {cost} by the server");
    Ok(())
}
