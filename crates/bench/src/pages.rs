use std::path::Path;
use std::time::{Duration, Instant, UNIX_EPOCH};

use anyhow::{Context, Result};

use hurnix_core::findings::alarm::{Looked, Patience, Sign, Trouble};
use hurnix_core::findings::health::Health;
use hurnix_core::findings::robust::quantile;
use hurnix_core::instance::engine::Engine;
use hurnix_core::readings::activity::Session;
use hurnix_core::{Timestamp, WaitKind};
use hurnix_e2e::Browser;
use hurnix_server::backfill;
use hurnix_source::simulated::Model;
use hurnix_store::{ActivityRow, Store};
use serde_json::{Value, json};
use tokio::task::JoinSet;

use crate::machine::{self, add_reader, start_hurnix, working_folder};
use crate::{Measured, typical};

const INSTANCES: usize = 500;
/// Open alarms, of as many instances.
const ALARMS: usize = 300;
/// Instances that are collected meanwhile, so that there is news.
const COLLECTED: usize = 50;
const FAMILIES: usize = 20_000;
const SESSIONS: usize = 2_000;
/// Those of them that wait.
const WAITING: usize = 500;
const HISTORY_SECONDS: f64 = 21.0 * 86_400.0;
/// The other instances have as much history as their strip shows.
const STRIP_SECONDS: f64 = 3.0 * 3600.0;
/// Instances whose history is written at a time.
const AT_A_TIME: usize = 3;
const AT_MOST: Duration = Duration::from_secs(120);
/// From an interaction to the next frame that shows it, at the 95th percentile.
const MOST_MS: f64 = 100.0;
const MOST_BYTES: f64 = 350.0 * 1024.0;
const ESCAPE: &str = "\u{e00c}";

/// Pages at full size in a real browser: 500 instances with 300 open alarms on the first, 20,000 families in the list of statements,
/// three weeks on the time ruler, 2,000 sessions, and the palette over all of it.
pub async fn run() -> Result<()> {
    let (repository, store) = machine::repository().await?;
    fill(&store).await?;
    add_reader(&store).await?;
    let folder = working_folder()?;
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let (mut hurnix, _guard) = start_hurnix(&repository, &folder.join("key"), &format!("127.0.0.1:{port}"), &[])?;
    let base = format!("http://127.0.0.1:{port}");
    let client = crate::reads::signed_in(&format!("{base}/api/v1")).await?;
    let browser = Browser::start().await?;

    first_page(&browser, &base).await?;
    list_of_instances(&client, &base).await?;
    statements(&browser, &base).await?;
    ruler(&browser, &base).await?;
    sessions(&browser, &store, &base).await?;
    palette(&browser, &base).await?;
    hurnix.kill().await?;
    std::fs::remove_dir_all(Path::new(&folder))?;
    Ok(())
}

/// Writes what the pages show.
async fn fill(store: &Store) -> Result<()> {
    let begun = Instant::now();
    let now = Timestamp(machine::now().0 / 60_000_000 * 60_000_000);
    let mut writing = JoinSet::new();
    for n in 0..INSTANCES {
        let (label, past) = match n {
            0 => ("weeks".to_owned(), HISTORY_SECONDS),
            1 | 2 => (format!("wide-{n}"), STRIP_SECONDS),
            _ => (format!("deck-{n:03}"), STRIP_SECONDS),
        };
        let began_at = now.plus_seconds(-past);
        let model = match n {
            // Two servers with many families: the palette looks through those of both.
            1 | 2 => typical::wide(n as u64, began_at, FAMILIES),
            0 => typical::model(0, began_at),
            _ => small(n as u64, began_at),
        };
        let engine = if n < COLLECTED { Engine::Simulated } else { Engine::Bundle };
        let kept = (n < COLLECTED).then(|| serde_json::to_value(&model)).transpose()?;
        let id = store.add_unconnected(&label, engine, &json!({}), kept.as_ref()).await?;
        while writing.len() >= AT_A_TIME {
            writing.join_next().await.context("one is being written")???;
        }
        let store = store.clone();
        writing.spawn(async move {
            backfill(&store, id, model, now).await?;
            if n < COLLECTED { store.simulated_ready(id).await } else { Ok(()) }
        });
    }
    while let Some(ended) = writing.join_next().await {
        ended??;
    }
    while store.roll_up(now).await? > 0 {}
    for instance in store.instances().await?.iter().skip(COLLECTED).take(ALARMS) {
        alarm(store, instance.instance_id, now).await?;
    }
    eprintln!("{INSTANCES} instances written after {:.0} s", begun.elapsed().as_secs_f64());
    Ok(())
}

/// Opens an alarm of an instance that is not looked at, so that it stays open.
async fn alarm(store: &Store, instance_id: i32, now: Timestamp) -> Result<()> {
    let verdict = if instance_id % 3 == 0 { Health::Act } else { Health::Look };
    let text = format!("The volume /data-{instance_id} is full in about 12 days at the present rate of 2.7 GB a day.");
    let signs = vec![Sign::new(Trouble::Volume, "/data", verdict, text)];
    store
        .follow_alarms(instance_id, Looked { at: now, looked_for: &[Trouble::Volume], signs }, &Patience::default())
        .await?;
    Ok(())
}

/// A server of which the list shows no more than its load.
fn small(seed: u64, began_at: Timestamp) -> Model {
    let mut model = typical::model(seed, began_at);
    model.tables.truncate(1);
    model.families.truncate(4);
    for family in &mut model.families {
        family.touches.clear();
        family.waits = vec![(WaitKind::StorageRead, "IO:DataFileRead".into(), 0.2)];
    }
    model
}

fn print(bench: String, value: f64, unit: &'static str, limit: f64) {
    Measured { bench, value, unit, against: "the limit", ratio: value / limit }.print();
}

/// Watches how long the page takes from each interaction to the next frame. The browser tells nothing of those
/// shorter than 16 ms: they count as 16.
const WATCH: &str = "window.interactions = new Map();
    new PerformanceObserver((list) => {
        for (const entry of list.getEntries())
            if (entry.interactionId)
                window.interactions.set(entry.interactionId,
                    Math.max(window.interactions.get(entry.interactionId) ?? 0, entry.duration));
    }).observe({ type: 'event', durationThreshold: 16 });
    return true";

/// Keys that are pressed for a text: signs above others need the shift key as well.
fn presses(text: &str) -> usize {
    text.chars().map(|sign| if "+_".contains(sign) { 2 } else { 1 }).sum()
}

/// A page that does next to nothing when its button is pressed.
const BARE: &str = "data:text/html,<button onclick='this.textContent=performance.now()'>Press</button>";
const BARE_PRESSES: usize = 40;

/// What any interaction takes on this machine just now, whatever the page does: at the 95th percentile. Where the
/// machine's processors are taken by others, that is much of what is measured.
async fn bare(browser: &Browser) -> Result<f64> {
    browser.open(BARE).await?;
    browser.script(WATCH).await?;
    for _ in 0..BARE_PRESSES {
        browser.click("button").await?;
    }
    interactions(browser, "a bare page", BARE_PRESSES).await
}

/// Tells how `done` interactions went, and how much longer they took than those of a bare page.
async fn tell_interactions(browser: &Browser, what: &str, done: usize) -> Result<()> {
    let value = interactions(browser, what, done).await?;
    print(format!("pages: {what}, interaction to next paint, 95th percentile of {done}"), value, "ms", MOST_MS);
    let more = value - bare(browser).await?;
    print(format!("pages: {what}, longer than a bare page just after it"), more, "ms", MOST_MS);
    Ok(())
}

/// How long `done` interactions took, at the 95th percentile.
async fn interactions(browser: &Browser, what: &str, done: usize) -> Result<f64> {
    // The last ones are told a little later.
    tokio::time::sleep(Duration::from_millis(500)).await;
    let told = browser.script("return [...window.interactions.values()]").await?;
    let mut times: Vec<f64> = told.as_array().into_iter().flatten().filter_map(Value::as_f64).collect();
    // A press that is held a little longer may be told as two.
    anyhow::ensure!(times.len() <= done + done / 5, "{what}: {} interactions told, {done} made", times.len());
    times.resize(done.max(times.len()), 16.0);
    Ok(quantile(&times, 0.95).unwrap_or_default())
}

/// The first page with all instances: what comes over the line, and when something is seen.
async fn first_page(browser: &Browser, base: &str) -> Result<()> {
    browser.sign_in(&format!("{base}/watch/instances"), "bench", "bench").await?;
    browser.wait_for("tbody tr", "deck-", AT_MOST).await?;
    let mut paints = Vec::new();
    for _ in 0..5 {
        browser.open(&format!("{base}/watch/instances")).await?;
        browser.wait_for("tbody tr", "deck-", AT_MOST).await?;
        let paint = "return performance.getEntriesByName('first-contentful-paint')[0]?.startTime ?? 0";
        paints.extend(browser.script(paint).await?.as_f64());
    }
    let paint = quantile(&paints, 0.5).unwrap_or_default();
    print(format!("pages: {INSTANCES} instances, first paint, median of {}", paints.len()), paint, "ms", 1000.0);
    // Anew, without what the browser keeps.
    let fresh = Browser::start().await?;
    fresh.sign_in(&format!("{base}/watch/instances"), "bench", "bench").await?;
    fresh.wait_for("tbody tr", "deck-", AT_MOST).await?;
    let sizes =
        "const all = { program: performance.getEntriesByType('navigation')[0].encodedBodySize, fonts: 0, figures: 0 };
        for (const one of performance.getEntriesByType('resource')) {
            const kind = one.name.includes('/api/') ? 'figures' : /woff2?$/.test(one.name) ? 'fonts' : 'program';
            all[kind] += one.encodedBodySize;
        }
        return all";
    let sizes = fresh.script(sizes).await?;
    let size = |kind: &str| sizes[kind].as_f64().unwrap_or_default();
    print(
        "pages: first page, program and styles over the line".into(),
        size("program") / 1024.0,
        "kB",
        MOST_BYTES / 1024.0,
    );
    print("pages: first page, fonts over the line".into(), size("fonts") / 1024.0, "kB", MOST_BYTES / 1024.0);
    print(
        format!("pages: first page, figures of {INSTANCES} instances over the line"),
        size("figures") / 1024.0,
        "kB",
        MOST_BYTES / 1024.0,
    );

    browser.script(WATCH).await?;
    let filter = "input[type=search]";
    let mut done = 0;
    for text in ["deck-1", "deck-49", "weeks"] {
        browser.click(filter).await?;
        for letter in text.chars() {
            browser.keys(&letter.to_string()).await?;
        }
        browser.keys("\u{e009}a\u{e009}\u{e003}").await?;
        done += text.len() + 3;
    }
    for _ in 0..12 {
        browser.click("th:nth-child(2) button").await?;
        done += 1;
    }
    tell_interactions(browser, &format!("{INSTANCES} instances"), done).await
}

/// The list of all instances over the API, all of it and what changed.
async fn list_of_instances(client: &reqwest::Client, base: &str) -> Result<()> {
    let address = format!("{base}/api/v1/roster");
    let (mut whole, mut changed, mut sent) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..31 {
        let begun = Instant::now();
        let all: Value = client.get(&address).send().await?.error_for_status()?.json().await?;
        whole.push(begun.elapsed().as_secs_f64() * 1e3);
        tokio::time::sleep(Duration::from_secs(1)).await;
        let since = all["as_of"].as_str().context("a moment")?;
        let begun = Instant::now();
        let answer = client.get(&address).query(&[("since", since)]).send().await?.error_for_status()?;
        let part: Value = answer.json().await?;
        changed.push(begun.elapsed().as_secs_f64() * 1e3);
        sent.push(part["changed"].as_array().map_or(0, Vec::len) as f64);
    }
    let median = |times: &[f64]| quantile(times, 0.5).unwrap_or_default();
    print(format!("pages: the list of {INSTANCES} instances, all of it, median"), median(&whole), "ms", 30.0);
    print(format!("pages: the list of {INSTANCES} instances, what changed, median"), median(&changed), "ms", 30.0);
    print("pages: lines that changed, median".into(), median(&sent), "lines", INSTANCES as f64);
    Ok(())
}

/// What the list of statements shows.
const ROWS: &str = "document.querySelector('[data-test=statements] tbody')?.innerText";

/// The list of statements of the server with many.
async fn statements(browser: &Browser, base: &str) -> Result<()> {
    browser.open(&format!("{base}/on/wide-1/diagnose/statements?last=1h")).await?;
    browser.wait_for("[data-test=statements] tbody tr", "select", AT_MOST).await?;
    browser.script(WATCH).await?;
    let mut done = 0;
    let mut answers = Vec::new();
    for head in 1..=5 {
        for _ in 0..2 {
            let before = browser.script(&format!("return {ROWS}")).await?;
            let begun = Instant::now();
            browser.click(&format!("[data-test=statements] th:nth-child({head}) button")).await?;
            done += 1;
            // While nothing is there, nothing is seen.
            browser.wait_until(&format!("return ({ROWS} ?? {before}) !== {before}"), AT_MOST).await?;
            answers.push(begun.elapsed().as_secs_f64() * 1e3);
        }
    }
    for page in 2..12 {
        browser.click(".ant-pagination-next").await?;
        done += 1;
        browser.wait_for(".ant-pagination-item-active", &page.to_string(), AT_MOST).await?;
    }
    tell_interactions(browser, &format!("{FAMILIES} families"), done).await?;
    let value = quantile(&answers, 0.5).unwrap_or_default();
    print(format!("pages: {FAMILIES} families of an hour sorted anew, seen, median"), value, "ms", 1000.0);
    Ok(())
}

/// A busy server's sessions, many of which wait: sorted, filtered, in line, and counted.
async fn sessions(browser: &Browser, store: &Store, base: &str) -> Result<()> {
    let instances = store.instances().await?;
    let crowded = instances.last().context("there are instances")?;
    let id = crowded.instance_id;
    let words: Vec<String> = ["crew", "gate scanner", "10.4.9.7", "passage"].map(Into::into).to_vec();
    let names = store.names(id, &words, machine::now()).await?;
    let name = |at: usize| names[&words[at]];
    let at = machine::now();
    let seen: Vec<Session> = (1..=SESSIONS as i32).map(|process| session(process, at)).collect();
    let row = |session| ActivityRow {
        session,
        event_id: None,
        family_id: None,
        account_id: name(0),
        program_id: name(1),
        client_id: name(2),
        database_id: name(3),
        awaited: None,
    };
    let look = (at, SESSIONS as i32, seen.iter().map(row).collect());
    store.write_activity(id, &[look]).await?;
    let moment = humantime::format_rfc3339_micros(UNIX_EPOCH + Duration::from_micros(at.0.unsigned_abs()));
    browser.open(&format!("{base}/on/{}/watch/sessions?at={moment}", crowded.label)).await?;
    browser.wait_for("[data-test=sessions] tbody tr", "gate scanner", AT_MOST).await?;
    browser.script(WATCH).await?;
    let mut done = 0;
    for head in [1, 6, 7, 8] {
        for _ in 0..3 {
            browser.click(&format!("[data-test=sessions] th:nth-child({head}) button")).await?;
            done += 1;
        }
    }
    for _ in 0..4 {
        browser.click(".page-head input[type=checkbox]").await?;
        done += 1;
    }
    for _ in 0..8 {
        browser.click(".ant-pagination-next").await?;
        done += 1;
    }
    tell_interactions(browser, &format!("{SESSIONS} sessions, {WAITING} waiting"), done).await
}

/// A session that works, or waits behind the first one or one that waits itself.
fn session(process: i32, at: Timestamp) -> Session {
    let waits = process > 1 && process as usize <= WAITING + 1;
    Session {
        process,
        started_at: at.plus_seconds(-3600.0),
        wait_kind: Some(if waits { WaitKind::Lock } else { WaitKind::Running }),
        transaction_started_at: Some(at.plus_seconds(-f64::from(process))),
        statement_started_at: Some(at.plus_seconds(-f64::from(process) / 2.0)),
        blocked_by: if waits { vec![1 + (process - 2) % 4] } else { Vec::new() },
        ..Session::default()
    }
}

/// Three weeks on the ruler, moved along by keys.
async fn ruler(browser: &Browser, base: &str) -> Result<()> {
    browser.open(&format!("{base}/on/weeks/diagnose/load?last=7d&then=7d")).await?;
    browser.wait_for("[data-test=score] .choose", "", AT_MOST).await?;
    browser.script(WATCH).await?;
    browser.script("document.querySelector('.ruler [role=slider]').focus(); return true").await?;
    let mut done = 0;
    for key in ["\u{e012}", "\u{e012}", "+", "\u{e012}", "-", "\u{e014}"].iter().cycle().take(48) {
        browser.keys(key).await?;
        done += presses(key);
    }
    tell_interactions(browser, "three weeks on the ruler", done).await
}

/// The palette over all instances and statements: each letter, and how soon what was found is seen.
async fn palette(browser: &Browser, base: &str) -> Result<()> {
    browser.open(&format!("{base}/on/weeks/diagnose/load?last=1h")).await?;
    browser.wait_for("[data-test=score] .choose", "", AT_MOST).await?;
    browser.script(WATCH).await?;
    let (mut done, mut answers) = (0, Vec::new());
    for text in ["deck-31", "leg_77", "statements"] {
        browser.keys(".").await?;
        browser.wait_until("return document.activeElement.id === 'palette'", AT_MOST).await?;
        // From the letter typed to the last change of what is found.
        browser
            .script(
                "window.last = {};
                 const input = document.getElementById('palette');
                 let typed = 0;
                 // Before the page itself hears of it.
                 input.addEventListener('input', () => (typed = performance.now()), { capture: true });
                 window.watching?.disconnect();
                 window.watching = new MutationObserver(() => {
                     const at = typed;
                     // What the palette shows before a letter is typed answers none.
                     if (at) requestAnimationFrame(() => (window.last[at] = performance.now() - at));
                 });
                 window.watching.observe(document.getElementById('goals'), { childList: true, subtree: true, characterData: true });
                 return true",
            )
            .await?;
        for letter in text.chars() {
            browser.keys(&letter.to_string()).await?;
            done += presses(letter.encode_utf8(&mut [0; 4]));
            tokio::time::sleep(Duration::from_millis(400)).await;
        }
        let told = browser.script("return Object.values(window.last)").await?;
        answers.extend(told.as_array().into_iter().flatten().filter_map(Value::as_f64));
        browser.keys(ESCAPE).await?;
        done += 1;
        browser.wait_until("return document.activeElement.id !== 'palette'", AT_MOST).await?;
    }
    // The key that opens it each time is an interaction as well.
    tell_interactions(browser, "the palette", done + 3).await?;
    let value = quantile(&answers, 0.95).unwrap_or_default();
    print(
        format!("pages: the palette, found and seen after a letter, 95th percentile of {}", answers.len()),
        value,
        "ms",
        100.0,
    );
    Ok(())
}
