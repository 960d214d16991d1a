use std::time::{Duration, Instant};

use anyhow::{Context, Result};

use hurnix_core::Timestamp;
use hurnix_core::instance::engine::Engine;
use hurnix_demo::{KnownStory, Truth, fleet};
use hurnix_server::backfill;
use hurnix_source::simulated::Model;
use hurnix_store::Store;
use reqwest::Client;
use serde_json::{Value, json};
use tokio::task::JoinSet;

use crate::Measured;
use crate::machine::{self, add_reader, start_hurnix, working_folder};
use crate::reads::signed_in;

/// Times that Skerry Line's three weeks are played, each with other noise.
const SEEDS: u64 = 10;
/// Instances whose history is written at a time.
const AT_A_TIME: usize = 3;
/// All instances are judged when nothing new was found for so long.
const SETTLED: Duration = Duration::from_secs(25);
const AT_MOST: Duration = Duration::from_secs(180);

/// What was told of all histories.
#[derive(Debug, Clone, Copy, Default)]
struct Told {
    stories: usize,
    found: usize,
    onset_inside: usize,
    with_cause: usize,
    cause_right: usize,
    statement_weeks: f64,
    invented: usize,
}

/// Lasting changes and their causes, of all seeds or of one only, over Skerry Line's history, through the whole of Hurnix: its stories must be found
/// and explained, and nothing else.
pub async fn run(only: Option<u64>) -> Result<()> {
    let mut told = Told::default();
    let seeds = only.map_or(0..SEEDS, |seed| seed..seed + 1);
    for seed in seeds.clone() {
        let begun = Instant::now();
        play(seed, &mut told).await?;
        let Told { stories, found, with_cause, cause_right, invented, .. } = told;
        eprintln!(
            "seed {seed} after {:.0} s; so far {found} of {stories} found, {cause_right} of {with_cause} causes right, {invented} invented",
            begun.elapsed().as_secs_f64()
        );
    }
    let share = |part: usize, of: usize| part as f64 / of.max(1) as f64;
    let figures = [
        ("stories found", share(told.found, told.stories), 0.9),
        ("their onset lies in its interval", share(told.onset_inside, told.found), 0.9),
        ("causes named right", share(told.cause_right, told.with_cause), 0.9),
        (
            "slower or faster statements invented in 100 weeks of one",
            100.0 * told.invented as f64 / told.statement_weeks,
            2.0,
        ),
    ];
    for (what, value, limit) in figures {
        let bench = format!("stories of {} histories: {what}", seeds.end - seeds.start);
        Measured { bench, value, unit: "", against: "what it must reach", ratio: value / limit }.print();
    }
    Ok(())
}

async fn play(seed: u64, told: &mut Told) -> Result<()> {
    let (repository, store) = machine::repository().await?;
    let now = machine::now();
    let models = fleet(now)?.into_iter().map(|(label, model)| (label.to_owned(), model)).collect();
    let instances = write_history(&store, seed, now, models).await?;
    add_reader(&store).await?;
    let folder = working_folder()?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let (mut hurnix, _guard) =
        start_hurnix(&repository, &folder.join("key"), &format!("127.0.0.1:{port}"), &[("HURNIX_ANALYSIS", "2s")])?;
    let api = format!("http://127.0.0.1:{port}/api/v1");
    let client = signed_in(&api).await?;

    let mut changes = Vec::new();
    let mut newest = Instant::now();
    let deadline = Instant::now() + AT_MOST;
    while newest.elapsed() < SETTLED && Instant::now() < deadline {
        tokio::time::sleep(Duration::from_secs(1)).await;
        let mut found = Vec::new();
        for (id, label) in &instances {
            let list = get(&client, &format!("{api}/instances/{id}/changes")).await?;
            let list = list.as_array().cloned().unwrap_or_default();
            found.extend(list.into_iter().map(|change| (label.clone(), *id, change)));
        }
        if found.is_empty() || found.len() != changes.len() {
            newest = Instant::now();
        }
        changes = found;
    }
    let truth = Truth::read()?;
    let mut is_told = vec![false; changes.len()];
    for story in truth.stories.iter().filter(|story| story.told.is_some()) {
        told.stories += 1;
        let of_story = |(label, _, change): &(String, i32, Value)| *label == story.instance && is_of(story, change);
        let places: Vec<usize> = (0..changes.len()).filter(|place| of_story(&changes[*place])).collect();
        let Some(first) = places.iter().copied().find(|place| changes[*place].2["change"]["until"].is_null()) else {
            println!("seed {seed}: {} was not found", story.name);
            continue;
        };
        places.iter().for_each(|place| is_told[*place] = true);
        told.found += 1;
        let (_, id, change) = &changes[first];
        told.onset_inside += usize::from(is_inside(story, &change["change"], now)?);
        judge_cause(&client, &api, *id, story, change, told).await?;
    }
    for ((label, _, change), is_told) in changes.iter().zip(is_told) {
        let what = &change["change"];
        if !is_told && what["measured"] == "time_per_call" && what["passed"] == false {
            told.invented += 1;
            println!(
                "seed {seed}: invented on {label}: {} since {}: {}",
                what["ratio"]["value"], what["onset"], change["text"]
            );
        }
    }
    told.statement_weeks += 3.0 * fleet(now)?.iter().map(|(_, model)| model.families.len() as f64).sum::<f64>();
    hurnix.kill().await?;
    std::fs::remove_dir_all(&folder)?;
    Ok(())
}

/// Writes three weeks of instances, with noise of this seed; answers with their numbers.
pub async fn write_history(
    store: &Store,
    seed: u64,
    now: Timestamp,
    models: Vec<(String, Model)>,
) -> Result<Vec<(i32, String)>> {
    let pace = json!({ "intervals": {
        "activity": 10, "activity_write": 10, "statements": 60, "databases": 60, "tables": 600, "catalog": 600,
        "measures": 60, "space": 600, "settings": 3600, "plans": 600, "bucket": 600,
    }});
    let mut instances = Vec::new();
    let mut writing = JoinSet::new();
    for (label, mut model) in models {
        model.seed += 7_919 * seed;
        let kept = serde_json::to_value(&model)?;
        let id = store.add_unconnected(&label, Engine::Simulated, &pace, Some(&kept)).await?;
        instances.push((id, label));
        while writing.len() >= AT_A_TIME {
            writing.join_next().await.context("one is written")???;
        }
        let store = store.clone();
        writing.spawn(async move { backfill(&store, id, model, now).await });
    }
    while let Some(written) = writing.join_next().await {
        written??;
    }
    while store.roll_up(now).await? > 0 {}
    for (id, _) in &instances {
        store.simulated_ready(*id).await?;
    }
    Ok(instances)
}

/// Whether a change is what a story tells.
fn is_of(story: &KnownStory, change: &Value) -> bool {
    let Some(told) = &story.told else { return false };
    let what = &change["change"];
    let of_statement = told.statement.as_ref().is_some_and(|start| {
        what["measured"] == "time_per_call" && change["text"].as_str().is_some_and(|text| text.starts_with(start))
    });
    of_statement || told.metric.as_ref().is_some_and(|metric| what["object"] == metric.as_str())
}

/// Whether the onset of a story lies between which a change is told to have begun, or within a bucket of it.
fn is_inside(story: &KnownStory, change: &Value, now: Timestamp) -> Result<bool> {
    let onset = story.began_at(now)?;
    let moment = |text: &Value| -> Result<Timestamp> {
        let text = text.as_str().context("a time")?;
        let parsed = humantime::parse_rfc3339_weak(text.trim_end_matches('Z'))?;
        Ok(Timestamp(parsed.duration_since(std::time::UNIX_EPOCH)?.as_micros() as i64))
    };
    let between = &change["onset_between"];
    let (from, to) = (moment(&between["from"])?, moment(&between["to"])?);
    Ok(onset >= from.plus_seconds(-600.0) && onset <= to.plus_seconds(600.0))
}

/// Whether the likeliest cause is the right one.
async fn judge_cause(
    client: &Client,
    api: &str,
    id: i32,
    story: &KnownStory,
    change: &Value,
    told: &mut Told,
) -> Result<()> {
    let (Some(known), Some(family)) = (&story.told, change["family_id"].as_str()) else { return Ok(()) };
    told.with_cause += 1;
    let now = humantime::format_rfc3339_seconds(std::time::SystemTime::now());
    let before = humantime::format_rfc3339_seconds(std::time::SystemTime::now() - Duration::from_secs(3600));
    let page = get(client, &format!("{api}/instances/{id}/statements/{family}?from={before}&to={now}")).await?;
    let same = page["changes"].as_array().into_iter().flatten();
    let mut same = same.filter(|one| one["change_id"] == change["change"]["change_id"]);
    let causes = same.next().map_or(Value::Null, |one| one["causes"].clone());
    let is_right = causes[0]["kind"].as_str().is_some_and(|kind| known.causes.iter().any(|cause| cause == kind));
    told.cause_right += usize::from(is_right);
    if !is_right {
        println!("{}: {} is told as {causes}", story.name, story.cause);
    }
    Ok(())
}

/// What an address of the API answers.
pub async fn get(client: &Client, url: &str) -> Result<Value> {
    let answer = client.get(url).send().await?;
    let status = answer.status();
    anyhow::ensure!(status.is_success(), "{url}: {status}");
    Ok(answer.json().await?)
}
