//! What is found by a few letters, by whom, and what whoever looks has chosen for the pages.

use crate::common::{Hurnix, PASSWORD, connection, watched};
use anyhow::Result;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

/// What was found, as kind and title.
fn told(found: &Value) -> Vec<(&str, &str)> {
    let all = found.as_array().map(Vec::as_slice).unwrap_or_default();
    all.iter()
        .map(|one| (one["kind"].as_str().unwrap_or_default(), one["title"].as_str().unwrap_or_default()))
        .collect()
}

#[tokio::test]
async fn statements_tables_and_accounts_are_found_also_with_a_typing_error() -> Result<()> {
    let (hurnix, cluster) = (Hurnix::start_with(&["--catalog=1s", "--statements=1s"]).await?, watched().await?);
    let mut client = cluster.connect("postgres").await?;
    hurnix.send(Method::POST, "instances", Some(connection(&cluster, PASSWORD))).await?;
    sqlx::query("SELECT count(*) FROM deck WHERE vessel_id = 3").execute(&mut client).await?;
    hurnix.wait_for("search?text=from%20deck", |found| told(found).iter().any(|one| one.0 == "statement")).await?;
    hurnix.wait_for("search?text=public.deck", |found| told(found).contains(&("table", "public.deck"))).await?;
    // A letter too few, two letters swapped.
    for typed in ["vesel_id", "vessle_id"] {
        let found = hurnix.get(&format!("search?text={typed}")).await?;
        assert!(told(&found).iter().any(|(_, title)| title.contains("vessel_id")), "{typed}: {found}");
    }
    let found = hurnix.get("search?text=of%20no%20such%20thing").await?;
    assert_eq!(told(&found), [], "{found}");

    // Accounts are for administrators; instances of other groups, and what is on them, for nobody else.
    let reader = hurnix.somebody("lookout", "reader", &[]).await?;
    let outsider = hurnix.somebody("outsider", "reader", &["harbour"]).await?;
    assert_eq!(told(&hurnix.get("search?text=lookout").await?), [("account", "lookout")]);
    assert_eq!(told(&reader.send(&hurnix, Method::GET, "search?text=lookout", None).await?.1), []);
    assert!(!told(&reader.send(&hurnix, Method::GET, "search?text=public.deck", None).await?.1).is_empty());
    assert_eq!(told(&outsider.send(&hurnix, Method::GET, "search?text=public.deck", None).await?.1), []);

    let (status, problem) = hurnix.send(Method::GET, "search?text=%20ab%20", None).await?;
    assert_eq!(status, StatusCode::UNPROCESSABLE_ENTITY);
    assert_eq!(problem["errors"][0]["field"], "text");
    Ok(())
}

#[tokio::test]
async fn what_is_chosen_for_the_pages_follows_the_account() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let usual = json!({ "pinned": [], "folded_groups": [], "order": "urgency", "boards": [] });
    assert_eq!(hurnix.get("session").await?["preferences"], usual);
    let chosen = json!({ "pinned": [7, 3], "folded_groups": ["sea"], "order": "label", "boards": [{ "name": "gates", "figures": [{ "instance": "gate-north", "figure": "load", "object": "" }] }] });
    let (status, _) = hurnix.send(Method::PUT, "session/preferences", Some(chosen.clone())).await?;
    assert_eq!(status, StatusCode::NO_CONTENT);
    assert_eq!(hurnix.get("session").await?["preferences"], chosen);
    // Everybody has their own.
    let other = hurnix.somebody("lookout", "reader", &[]).await?;
    assert_eq!(other.send(&hurnix, Method::GET, "session", None).await?.1["preferences"], usual);

    let too_many = json!({ "pinned": (0..201).collect::<Vec<i32>>(), "folded_groups": [], "order": "label" });
    let (status, problem) = hurnix.send(Method::PUT, "session/preferences", Some(too_many)).await?;
    assert_eq!((status, problem["errors"][0]["field"].as_str()), (StatusCode::UNPROCESSABLE_ENTITY, Some("pinned")));
    assert_eq!(hurnix.get("session").await?["preferences"], chosen);
    Ok(())
}
