//! A past that is brought in is searched as a whole: Skerry Line's three weeks.

use std::process::Command;

use anyhow::{Context, Result};
use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use hurnix_core::instance::engine::Engine;
use hurnix_core::keeping::retention::Retention;
use hurnix_demo::{KnownStory, Truth, fleet};
use hurnix_server::backfill;
use hurnix_store::Store;
use serde_json::{Value, json};

use crate::common::{Hurnix, lately};

/// Statements of an instance that are played: those of its stories, and some of every day.
const FAMILIES: usize = 26;
/// How far an onset may be from the truth, in seconds: one bucket.
const NEAR: f64 = 600.0;

/// What changed on an instance after its weeks were brought in.
async fn judged(hurnix: &Hurnix, store: &Store, label: &str, now: Timestamp) -> Result<(i32, Vec<Value>)> {
    let (_, mut model) = fleet(now)?.into_iter().find(|(known, _)| *known == label).context("it is there")?;
    model.families.truncate(FAMILIES);
    let pace = json!({ "intervals": { "bucket": 600 } });
    let id = store.add_unconnected(label, Engine::Simulated, &pace, Some(&serde_json::to_value(&model)?)).await?;
    backfill(store, id, model, now).await?;
    while store.roll_up(now).await? > 0 {}
    store.simulated_ready(id).await?;
    let path = format!("instances/{id}/changes");
    let found = hurnix.wait_for(&path, |changes| changes.as_array().is_some_and(|all| !all.is_empty())).await?;
    Ok((id, found.as_array().cloned().unwrap_or_default()))
}

/// What the report of a moment's day says first.
async fn first_section(hurnix: &Hurnix, id: i32, at: DateTime<Utc>) -> Result<Vec<String>> {
    let day = at.date_naive();
    let report =
        hurnix.get(&format!("instances/{id}/report?kind=period&from={day}T00:00:00Z&to={day}T23:59:00Z")).await?;
    let sentences = report["sections"][0]["sentences"].as_array().context("it has a first section")?;
    Ok(sentences.iter().filter_map(|sentence| Some(sentence.as_str()?.to_owned())).collect())
}

/// Thousands of texts of one family, since when they were seen, and what they cost; the report of a day names it first.
async fn a_flood_of_literals_is_told(hurnix: &Hurnix, store: &Store, story: &KnownStory, now: Timestamp) -> Result<()> {
    let (_, mut model) = fleet(now)?.into_iter().find(|(label, _)| *label == story.instance).context("it is there")?;
    model.families.truncate(8);
    model.began_at = now.bucket(86_400).plus_seconds(-3.0 * 86_400.0);
    let id = store.add_unconnected(&story.instance, Engine::Bundle, &json!({}), None).await?;
    backfill(store, id, model, now).await?;
    while store.roll_up(now).await? > 0 {}
    let yesterday = DateTime::from_timestamp_micros(now.0).context("a time")? - chrono::TimeDelta::days(1);
    // It runs at night.
    let window = format!(
        "from={}T00:00:00Z&to={}T00:00:00Z",
        (yesterday - chrono::TimeDelta::days(1)).date_naive(),
        (yesterday + chrono::TimeDelta::days(2)).date_naive()
    );
    let floods = hurnix.get(&format!("instances/{id}/literal-floods?{window}")).await?;
    let flood = &floods[0];
    assert!(flood["text"].as_str().is_some_and(|text| text.contains(&story.object)), "{floods}");
    assert_eq!(flood["texts"].as_f64(), Some(story.after), "{floods}");
    assert!(flood["share"].as_f64() > Some(0.9) && flood["text_bytes"].as_f64() > Some(story.after), "{floods}");
    assert!(flood["figures"]["calls"].as_i64() > Some(0), "{floods}");
    assert_eq!(floods.as_array().map(Vec::len), Some(1), "the others are no flood");
    let family = flood["family_id"].as_str().context("a number")?;
    let page = hurnix.get(&format!("instances/{id}/statements/{family}?{window}")).await?;
    assert_eq!(page["flood"]["texts"], flood["texts"]);
    let told = first_section(hurnix, id, yesterday).await?;
    assert!(
        told.iter().any(|sentence| sentence.contains(&story.object) && sentence.contains("2400 times")),
        "{told:?}"
    );
    Ok(())
}

#[tokio::test]
async fn what_changed_in_a_past_that_is_brought_in_is_told_with_its_cause_and_nothing_else() -> Result<()> {
    let hurnix = Hurnix::start().await?;
    let store = Store::open(&hurnix.repository.url("hurnix"), Retention::default()).await?;
    let now = Timestamp(Utc::now().timestamp_micros());
    let truth = Truth::read()?;
    let is_slower = |change: &&Value| change["change"]["measured"] == "time_per_call";
    let reset = truth.story("reset")?;
    let mut told_of = Vec::new();
    for name in ["plan-change", "setting-change"] {
        let story = truth.story(name)?;
        let told = story.told.as_ref().context("it is told")?;
        let (id, found) = judged(&hurnix, &store, &story.instance, now).await?;
        let slower: Vec<&Value> = found.iter().filter(is_slower).collect();
        assert_eq!(slower.len(), 1, "{name}: {slower:?}");
        told_of.push((id, 1));
        let start = told.statement.as_deref().unwrap_or_default();
        assert!(slower[0]["text"].as_str().is_some_and(|text| text.starts_with(start)), "{name}: {slower:?}");
        let change = &slower[0]["change"];
        let moment =
            |field: &Value| anyhow::Ok(field.as_str().context("a time")?.parse::<DateTime<Utc>>()?.timestamp_micros());
        let (from, to) = (moment(&change["onset_between"]["from"])?, moment(&change["onset_between"]["to"])?);
        let onset = story.began_at(now)?;
        assert!(Timestamp(from).plus_seconds(-NEAR) <= onset && onset <= Timestamp(to).plus_seconds(NEAR), "{change}");
        let family = slower[0]["family_id"].as_str().context("a number")?;
        let page = hurnix.get(&format!("instances/{id}/statements/{family}?{}", lately()?)).await?;
        let cause = page["changes"][0]["causes"][0]["kind"].as_str().unwrap_or_default().to_owned();
        assert!(told.causes.contains(&cause), "{name}: {}", page["changes"][0]["causes"]);
        // The week since then, as far as it goes, against the week before: the same statement comes first, with a reason.
        let week = 7.0 * 86_400.0;
        let span =
            |at: Timestamp| DateTime::from_timestamp_micros(at.0).unwrap_or_default().format("%Y-%m-%dT%H:%M:%SZ");
        let (since, mut until) = (onset.plus_seconds(NEAR), onset.plus_seconds(week).min(now));
        // On some days of the week, counters were reset meanwhile: then it goes as far as that.
        let reset_at = reset.began_at(now)?;
        if reset.instance == story.instance && (since..until).contains(&reset_at) {
            until = reset_at.plus_seconds(-NEAR);
        }
        let spans = format!(
            "from={}&to={}&then_from={}&then_to={}",
            span(since),
            span(until),
            span(onset.plus_seconds(-week)),
            span(onset.plus_seconds(-NEAR))
        );
        let both = hurnix.get(&format!("instances/{id}/then-and-now?{spans}")).await?;
        let first = &both["statements"][0];
        assert_eq!(first["family_id"], family, "{name}: {first}");
        assert!(first["moved"]["by"].as_f64() > Some(0.0), "{name}: {first}");
        let of_story = if name == "plan-change" { "times the pages" } else { "temp files" };
        assert!(first["why"].to_string().contains(of_story), "{name}: {first}");
        // A pipeline that holds the same work against then is told that it takes longer, by a status of its own.
        if name == "plan-change" {
            let given = |option: &str, at: Timestamp| [option.to_owned(), span(at).to_string()];
            let spans = [
                given("--from", since),
                given("--to", until),
                given("--then-from", onset.plus_seconds(-week)),
                given("--then-to", onset.plus_seconds(-NEAR)),
            ];
            let command = Command::new(env!("CARGO_BIN_EXE_hurnix"))
                .args([
                    "report",
                    &story.instance,
                    "--repository",
                    &hurnix.repository.url("hurnix"),
                    "--sections",
                    "changed",
                ])
                .args(spans.concat())
                .args(["--tolerance", "2%"])
                .output()?;
            let (out, error) = (String::from_utf8_lossy(&command.stdout), String::from_utf8_lossy(&command.stderr));
            assert_eq!(command.status.code(), Some(3), "{error}");
            assert!(error.contains("worse: the same work takes") && out.contains(start), "{error}{out}");
        }
        // So does the report of the day on which it was first seen, in its first section.
        let told = first_section(
            &hurnix,
            id,
            DateTime::parse_from_rfc3339(change["onset_between"]["to"].as_str().context("a time")?)?.into(),
        )
        .await?;
        assert!(told.iter().any(|sentence| sentence.contains(start) && sentence.contains("more")), "{name}: {told:?}");
    }
    // Of the gate lists, the report of the day on which they became slow.
    let story = truth.story("missing-index")?;
    let (id, found) = judged(&hurnix, &store, &story.instance, now).await?;
    let slower: Vec<&Value> = found.iter().filter(is_slower).collect();
    assert_eq!(slower.len(), 1, "{slower:?}");
    told_of.push((id, 1));
    let start = story.told.as_ref().and_then(|told| told.statement.as_deref()).context("it is told")?;
    let day = DateTime::from_timestamp_micros(story.began_at(now)?.0).context("a time")?;
    let told = first_section(&hurnix, id, day).await?;
    assert!(told.iter().any(|sentence| sentence.contains(start) && sentence.contains("more")), "{told:?}");
    a_flood_of_literals_is_told(&hurnix, &store, truth.story("literal-flood")?, now).await?;
    let story = truth.story("connecting")?;
    let (quiet, found) = judged(&hurnix, &store, &story.instance, now).await?;
    assert_eq!(found.iter().filter(is_slower).count(), 0, "its weekends and evenings are its own: {found:?}");
    let sessions = found.iter().find(|change| change["change"]["object"] == "sessions").context("sessions begun")?;
    assert!(sessions["change"]["ratio"]["value"].as_f64().is_some_and(|ratio| ratio > 10.0), "{sessions}");
    // What is found later, by a look at the last days, is nothing else.
    told_of.push((quiet, 0));
    for (id, slower) in told_of {
        let found = hurnix.get(&format!("instances/{id}/changes?measured=time_per_call")).await?;
        assert_eq!(found.as_array().map(Vec::len), Some(slower), "{found}");
    }
    Ok(())
}
