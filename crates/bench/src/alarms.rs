use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use hurnix_core::findings::alarm::{Followed, Happening, Looked, Patience, Trouble, follow};
use hurnix_core::findings::figure_series::FigureSeries;
use hurnix_core::findings::lasting_change::{Observed, ServerSeries};
use hurnix_core::findings::normal_range::Unusual;
use hurnix_core::findings::threshold::{SetThreshold, Watching};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Named, Timestamp, Window};
use hurnix_demo::fleet;
use hurnix_source::simulated::{Event, Happening as Happens, Model, Shape};
use hurnix_store::{Store, ToObserve};
use serde_json::Value;

use crate::Measured;
use crate::machine::{self, add_reader, start_hurnix, working_folder};
use crate::reads::signed_in;
use crate::stories::{get, write_history};

const SEEDS: u64 = 10;
/// Days of history before the two weeks that are judged.
const LEARNT_DAYS: usize = 7;
const JUDGED_DAYS: usize = 14;
const BUCKET_SECONDS: i64 = 600;
/// Nothing new is found when the list of alarms was the same for so long.
const SETTLED: Duration = Duration::from_secs(40);
const AT_MOST: Duration = Duration::from_secs(240);

/// A story that goes on just now: its instance, and the alarm that it must be: its trouble, and what its text says.
struct Played {
    label: &'static str,
    model: Model,
    alarms: &'static [(Trouble, &'static str)],
}

#[derive(Debug, Clone, Copy, Default)]
struct Told {
    stories: usize,
    right: usize,
    twice: usize,
    besides: usize,
    quiet_weeks: f64,
    raised: usize,
    worst_a_week: f64,
    standing: usize,
    quiet_instances: usize,
}

/// Alarms over Skerry Line, through the whole of Hurnix: its stories are one alarm each, and quiet weeks raise none.
pub async fn run(only: Option<u64>) -> Result<()> {
    let mut told = Told::default();
    let seeds = only.map_or(0..SEEDS, |seed| seed..seed + 1);
    for seed in seeds.clone() {
        let begun = Instant::now();
        stories(seed, &mut told).await?;
        quiet(seed, &mut told).await?;
        eprintln!("seed {seed} after {:.0} s: {told:?}", begun.elapsed().as_secs_f64());
    }
    let count = |count: usize| count as f64;
    let figures = [
        ("stories that are one alarm with their cause", count(told.right) / count(told.stories), 1.0),
        ("alarms that tell a story again", count(told.twice) / count(told.stories), 0.1),
        ("other alarms on instances with a story", count(told.besides) / count(told.stories), 0.1),
        ("alarms of an instance in a quiet week", count(told.raised) / told.quiet_weeks, 1.0),
        ("the most of an instance in its two quiet weeks, by the week", told.worst_a_week, 1.0),
        ("alarms that stand on a quiet instance", count(told.standing) / count(told.quiet_instances), 1.0),
    ];
    for (what, value, limit) in figures {
        let bench = format!("alarms of {} histories: {what}", seeds.end - seeds.start);
        Measured { bench, value, unit: "", against: "what it must reach", ratio: value / limit }.print();
    }
    Ok(())
}

async fn stories(seed: u64, told: &mut Told) -> Result<()> {
    let now = machine::now();
    let played = played(now)?;
    let models = played.iter().map(|one| (one.label.to_owned(), one.model.clone())).collect();
    let (raised, open) = open_alarms(seed, now, models).await?;
    let noticed: usize = raised.iter().map(|(_, raised)| raised.len()).sum();
    eprintln!("seed {seed}: while stories went on, figures were out of range {noticed} times");
    for story in &played {
        let mine: Vec<&Value> = open.iter().filter(|alarm| alarm["instance"] == story.label).collect();
        for (trouble, text) in story.alarms {
            told.stories += 1;
            let of_trouble = mine.iter().filter(|alarm| alarm["trouble"] == trouble.name());
            let is_right = |alarm: &&&Value| {
                let says = alarm["text"].as_str().is_some_and(|told| told.to_lowercase().contains(text));
                says && alarm["step"].as_str().is_some_and(|step| !step.is_empty())
            };
            let right = of_trouble.clone().filter(is_right).count() == 1;
            if !right {
                of_trouble
                    .clone()
                    .for_each(|alarm| println!("seed {seed}: not {text} on {}: {}", story.label, alarm["text"]));
            }
            told.right += usize::from(right);
            told.twice += of_trouble.count().saturating_sub(1);
            if !mine.iter().any(|alarm| alarm["trouble"] == trouble.name()) {
                println!("seed {seed}: {} has no alarm of {}", story.label, trouble.name());
            }
        }
        for alarm in mine {
            if !story.alarms.iter().any(|(trouble, _)| alarm["trouble"] == trouble.name()) {
                told.besides += 1;
                println!("seed {seed}: besides on {}: {} {}", story.label, alarm["trouble"], alarm["text"]);
            }
        }
    }
    Ok(())
}

async fn quiet(seed: u64, told: &mut Told) -> Result<()> {
    let now = machine::now();
    let mut models: Vec<(String, Model)> =
        fleet(now)?.into_iter().map(|(label, model)| (label.to_owned(), model)).collect();
    for (_, model) in &mut models {
        model.events.clear();
    }
    let count = models.len();
    let (raised, open) = open_alarms(seed, now, models).await?;
    told.quiet_instances += count;
    told.quiet_weeks += count as f64 * JUDGED_DAYS as f64 / 7.0;
    for (label, raised) in raised {
        told.raised += raised.len();
        told.worst_a_week = told.worst_a_week.max(raised.len() as f64 * 7.0 / JUDGED_DAYS as f64);
        raised.iter().for_each(|text| println!("seed {seed}: quiet {label}: {text}"));
    }
    for alarm in &open {
        told.standing += 1;
        println!("seed {seed}: stands on quiet {}: {} {}", alarm["instance"], alarm["trouble"], alarm["text"]);
    }
    Ok(())
}

/// Instances of which one story each goes on just now.
fn played(now: Timestamp) -> Result<Vec<Played>> {
    let ago = |minutes: f64| now.plus_seconds(-minutes * 60.0);
    let of = |label: &str| -> Result<Model> {
        let found = fleet(now)?.into_iter().find(|(known, _)| *known == label);
        found.map(|(_, model)| model).with_context(|| format!("{label} is in the fleet"))
    };
    let with = |label: &str, keep: fn(&Happens) -> bool, from: Option<f64>| -> Result<Model> {
        let mut model = of(label)?;
        model.events.retain(|event| keep(&event.what));
        for event in &mut model.events {
            if let Some(minutes) = from {
                *event = Event { at: ago(minutes), until: event.until.map(|_| ago(-120.0)), what: event.what.clone() };
            }
        }
        Ok(model)
    };
    let mut deadlocks = with("freight", |what| matches!(what, Happens::Deadlock), None)?;
    for (event, minutes) in deadlocks.events.iter_mut().zip([50.0, 28.0, 6.0]) {
        event.at = ago(minutes);
    }
    // In the evening it lags by nature; at any hour of the day the same must be seen.
    let mut lag = with("passage-b", |what| matches!(what, Happens::Lag(_)), Some(90.0))?;
    if let Some(lag) = &mut lag.lag {
        lag.shape = Shape::steady();
    }
    let is_of_plan = |what: &Happens| matches!(what, Happens::Change(change) if change.plan.is_some());
    let held_up = with("gate-south", |what| matches!(what, Happens::HoldUp(_)), Some(6.0))?;
    let giant = with("archive", |what| matches!(what, Happens::Giant { .. }), Some(50.0))?;
    let mut giant_over = with("archive", |what| matches!(what, Happens::Giant { .. }), Some(100.0))?;
    for event in &mut giant_over.events {
        event.until = Some(ago(12.0));
    }
    let bloat = with("freight", |what| matches!(what, Happens::OldTransaction { .. }), Some(600.0))?;
    let played = |label, model, alarms| Played { label, model, alarms };
    Ok(vec![
        played("missing-index", with("passage-b", is_of_plan, None)?, &[(Trouble::SlowStatement, "passage_leg")]),
        played("plan-change", with("freight", is_of_plan, None)?, &[(Trouble::SlowStatement, "tariff")]),
        played("hold-up", held_up, &[(Trouble::HoldUp, "skerry_supervisor")]),
        played("deadlocks", deadlocks, &[(Trouble::Deadlocks, "deadlock")]),
        // What it writes is known once it is over; until then, who it is and what it does.
        played("giant-search", giant, &[(Trouble::OldTransaction, "temp space")]),
        played("giant-search-over", giant_over, &[(Trouble::TempFiles, "temp")]),
        played("connecting", of("gate-north")?, &[(Trouble::Connections, "180 sessions begin")]),
        played("slow-growth", with("tides", |_| false, None)?, &[(Trouble::Volume, "/data")]),
        played("bloat", bloat, &[(Trouble::OldTransaction, "freight")]),
        played(
            "setting-change",
            of("crew")?,
            &[(Trouble::SlowStatement, "s.sailor_id"), (Trouble::Index, "duty_sailor_start_old")],
        ),
        played("replica-lag", lag, &[(Trouble::Replication, "lag")]),
        played("transaction-ids", of("settle")?, &[(Trouble::PreparedTransaction, "prepared")]),
    ])
}

/// Alarms that were raised in the judged weeks, by instance.
type Raised = Vec<(String, Vec<String>)>;

/// Writes the history of instances and lets Hurnix judge it. Answers with what usual ranges and thresholds raised in the
/// last weeks, and with the alarms that are open in the end.
async fn open_alarms(seed: u64, now: Timestamp, models: Vec<(String, Model)>) -> Result<(Raised, Vec<Value>)> {
    let (repository, store) = machine::repository().await?;
    let instances = write_history(&store, seed, now, models).await?;
    let mut raised = Vec::new();
    for (id, label) in &instances {
        raised.push((label.clone(), raised_in_the_past(&store, *id, now).await?));
    }
    add_reader(&store).await?;
    let folder = working_folder()?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let pace = [("HURNIX_ANALYSIS", "2s"), ("HURNIX_ALARMS", "5s")];
    let (mut hurnix, _guard) = start_hurnix(&repository, &folder.join("key"), &format!("127.0.0.1:{port}"), &pace)?;
    let api = format!("http://127.0.0.1:{port}/api/v1");
    let client = signed_in(&api).await?;
    let mut open: Vec<Value> = Vec::new();
    let mut newest = Instant::now();
    let deadline = Instant::now() + AT_MOST;
    while newest.elapsed() < SETTLED && Instant::now() < deadline {
        tokio::time::sleep(Duration::from_secs(1)).await;
        let list = get(&client, &format!("{api}/alarms?state=open&page_size=200")).await?;
        let list = list["alarms"].as_array().cloned().unwrap_or_default();
        let judged = judged(&client, &api, &instances).await?;
        if !judged || list.len() != open.len() {
            newest = Instant::now();
        }
        open = list;
    }
    hurnix.kill().await?;
    std::fs::remove_dir_all(&folder)?;
    Ok((raised, open))
}

/// Whether what is usual was learnt of all instances.
async fn judged(client: &reqwest::Client, api: &str, instances: &[(i32, String)]) -> Result<bool> {
    let now = std::time::SystemTime::now();
    let [from, to] = [now - Duration::from_secs(3600), now].map(|at| humantime::format_rfc3339_seconds(at).to_string());
    for (id, _) in instances {
        let asked = format!("figure=load&from={from}&to={to}&cell_seconds=3600");
        let ranges = get(client, &format!("{api}/instances/{id}/usual-ranges?{asked}")).await?;
        if ranges.as_array().is_none_or(Vec::is_empty) {
            return Ok(false);
        }
    }
    Ok(true)
}

/// What usual ranges, learnt each day from what was there by then, and the default thresholds would have raised in the
/// last two weeks: the alarms as they were opened.
async fn raised_in_the_past(store: &Store, id: i32, now: Timestamp) -> Result<Vec<String>> {
    let to = now.bucket(BUCKET_SECONDS);
    let days = (LEARNT_DAYS + JUDGED_DAYS) as f64;
    let window = Window { from: to.plus_seconds(-days * SECONDS_PER_DAY), to };
    let pieces = async |group| store.pieces(id, &[group], window, Detail::TenMinutes, now).await;
    let of = ToObserve {
        statements: pieces(RetentionGroup::Statements).await?,
        activity: pieces(RetentionGroup::Activity).await?,
        databases: pieces(RetentionGroup::Databases).await?,
        measures: pieces(RetentionGroup::Measures).await?,
        bucket_seconds: BUCKET_SECONDS,
    };
    let observed = store.observed_series(id, &of, &[]).await?;
    let thresholds: Vec<SetThreshold> = store.thresholds().await?;
    let figures: Vec<_> = thresholds.iter().map(|set| set.threshold.figure).collect();
    let series = store.figure_series(id, &figures, window, (BUCKET_SECONDS, Detail::TenMinutes), now).await?;
    Ok(tokio::task::spawn_blocking(move || replayed(&observed, &series, thresholds, window)).await?)
}

fn replayed(
    observed: &Observed,
    series: &[FigureSeries],
    thresholds: Vec<SetThreshold>,
    window: Window,
) -> Vec<String> {
    let mut unusual = Unusual::default();
    let mut watching = Watching::default();
    watching.judged_to(thresholds);
    let all: Vec<Trouble> = Trouble::all().collect();
    let mut alarms: Vec<Followed> = Vec::new();
    for day in LEARNT_DAYS..LEARNT_DAYS + JUDGED_DAYS {
        let begins = window.from.plus_seconds(day as f64 * SECONDS_PER_DAY);
        unusual.learn(&between(observed, Window { from: window.from, to: begins }), |at| at);
        for bucket in 0..86_400 / BUCKET_SECONDS {
            let from = begins.plus_seconds((bucket * BUCKET_SECONDS) as f64);
            let within = Window { from, to: from.plus_seconds(BUCKET_SECONDS as f64) };
            let mut signs = unusual.judge(&between(observed, within), |at| at);
            let seen: Vec<FigureSeries> = series.iter().map(|one| figure_between(one, within)).collect();
            signs.extend(watching.judge(&seen, within.to));
            let looked = Looked { at: within.to, looked_for: &all, signs };
            alarms = follow(alarms, looked, &Patience::default());
        }
    }
    let opened = |followed: &Followed| {
        let story = followed.alarm.story.iter();
        let opened = story.filter(|entry| matches!(entry.what, Happening::Opened | Happening::Reopened));
        opened.map(|entry| entry.text.clone()).collect::<Vec<_>>()
    };
    alarms.iter().flat_map(opened).collect()
}

/// What was seen of a server within a window.
fn between(observed: &Observed, window: Window) -> Observed {
    let within = |series: &ServerSeries| ServerSeries {
        values: part(&series.values, |(at, ..)| *at, window).to_vec(),
        object: series.object.clone(),
        ..*series
    };
    Observed {
        start: observed.start,
        bucket_seconds: observed.bucket_seconds,
        families: Vec::new(),
        others: part(&observed.others, |bucket| bucket.at, window).to_vec(),
        server: observed.server.iter().map(within).collect(),
    }
}

fn figure_between(series: &FigureSeries, window: Window) -> FigureSeries {
    let buckets = part(&series.buckets, |seen| seen.at, window).to_vec();
    FigureSeries {
        figure: series.figure,
        object: series.object.clone(),
        bucket_seconds: series.bucket_seconds,
        buckets,
    }
}

/// The part of what is in order of time that lies within a window.
fn part<T>(all: &[T], at: impl Fn(&T) -> Timestamp, window: Window) -> &[T] {
    let before = |end: Timestamp| all.partition_point(|one| at(one) < end);
    &all[before(window.from)..before(window.to)]
}
