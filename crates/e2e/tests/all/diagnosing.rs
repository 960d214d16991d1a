//! Something hurts: from the first page in three steps to who, what and since when, and to what ends it.

use std::time::{Duration, Instant};

use anyhow::{Context, Result};
use hurnix_e2e::{BEFORE_LONG, Browser, Demo, PROMISED, SOON};

/// From the click that ends a holder to the page that shows it gone, on a machine of its own; the tests share theirs.
const GONE: Duration = Duration::from_secs(2);
const BESIDE_OTHERS: u32 = 10;

/// Opens the alarm of the first page whose sentence holds a text.
async fn open_alarm(browser: &Browser, demo: &Demo, text: &str) -> Result<()> {
    browser.open(&format!("{}/watch/instances", demo.address)).await?;
    browser.wait_until(&format!("return document.querySelector('main')?.innerText.includes({text:?}) || document.querySelector('button.fold') !== null"), PROMISED).await?;
    // Several troubles at once are folded below the worst.
    let folded = "return document.querySelector('button.fold[aria-expanded=false]') !== null";
    if browser.script(folded).await? == true {
        browser.click("button.fold[aria-expanded=false]").await?;
    }
    browser.wait_for("main", text, PROMISED).await?;
    browser.click_text(text).await?;
    browser.wait_for("[data-test=story]", "opened", SOON).await?;
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_hold_up_is_found_in_three_steps_and_its_holder_ended() -> Result<()> {
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let mut browser = Browser::start().await?;
    let at = |page: &str| format!("{}/{page}", demo.address);
    browser.sign_in(&at("watch/instances"), &demo.account, &demo.password).await?;
    browser.wait_for("main", "passage-a", SOON).await?;
    demo.play("hold-up")?;

    // The alarm, what to do, the lanes with the holder in front.
    open_alarm(&browser, &demo, "holds up").await?;
    browser.click("[data-test=next-page]").await?;
    browser.wait_for("h1", "blocking", SOON).await?;
    browser.wait_for("[data-test=hold-ups]", "gate desk", SOON).await?;
    browser.wait_for("[data-test=hold-ups] .lanes", "idle in transaction", SOON).await?;
    browser.wait_for(".repairs", "idle_in_transaction_session_timeout", SOON).await?;

    // What it holds is found by its table, and its line among the sessions by one click.
    browser.fill("[data-test=held-locks] input", "crossing").await?;
    browser.click("[data-test=held-locks] form button").await?;
    browser.wait_for("[data-test=held-locks] tbody", "public.crossing", SOON).await?;
    browser.click_text("sessions then").await?;
    browser.wait_for("[data-test=sessions] tbody tr:first-child", "gate desk", SOON).await?;
    browser.wait_for("[data-test=sessions] tbody tr:nth-child(2)", "behind", SOON).await?;
    browser.back().await?;

    // Ended with a reason: its waiters go on, and the page shows it.
    browser.wait_for("[data-test=hold-ups]", "end the holder", SOON).await?;
    browser.click_text("End the holder …").await?;
    browser.fill("#act-reason", "the gate is stuck").await?;
    browser.click(".ant-modal button[type=submit]").await?;
    browser.wait_for(".ant-modal", "the server did it", SOON).await?;
    let ended = Instant::now();
    let gone = "return fetch('/api/v1/instances').then(answer => answer.json())
        .then(all => fetch(`/api/v1/instances/${all[0].instance_id}/held-locks?search=public.crossing`)).then(answer => answer.json())
        .then(told => !told.locks.some(lock => lock.program === 'gate desk'))";
    browser.wait_until(gone, GONE * BESIDE_OTHERS).await?;
    browser.open(&at("on/passage-a/watch/sessions")).await?;
    let left = "const page = document.querySelector('[data-test=sessions], main .muted'); return !!page && !document.querySelector('main').textContent.includes('gate desk')";
    browser.wait_until(left, GONE * BESIDE_OTHERS).await?;
    eprintln!("the page showed it {:.1} s after the server did it", ended.elapsed().as_secs_f64());
    // What else runs on the host, by its own kernel: the program itself does.
    browser.wait_for("[data-test=host-processes]", "other processes of the host", SOON).await?;
    browser.wait_for("[data-test=host-processes] tbody", "hurnix", SOON).await?;
    browser.open(&at("audit-trail")).await?;
    browser.wait_for("main", "the gate is stuck", SOON).await?;

    // What happened is kept for those who were asleep, with what no figure tells.
    browser.open(&at("on/passage-a/diagnose/reports?kind=incident&last=15m")).await?;
    browser.wait_for("[data-test=timeline]", "first, at", SOON).await?;
    browser.click_text("Keep this report").await?;
    browser.wait_for("h1.title", "incident report: passage-a", SOON).await?;
    browser.click_text("Add words of your own").await?;
    browser.fill("#words", "The desk was called; nobody answered.").await?;
    browser.click("[data-test=words] button[type=submit]").await?;
    browser.wait_for("p.words", "nobody answered", SOON).await?;
    browser.click_text("All kept reports").await?;
    browser.wait_for("[data-test=kept]", "incident report: passage-a", SOON).await?;
    browser.wait_for("[data-test=kept]", "nobody answered", SOON).await?;

    // A reader sees why that is not offered.
    demo.play("quiet")?;
    let made = "return fetch('/api/v1/session').then(answer => answer.json()).then(session => fetch('/api/v1/accounts', {
        method: 'POST', body: JSON.stringify({ name: 'lookout', role: 'reader', groups: [] }),
        headers: { 'content-type': 'application/json', 'x-csrf-token': session.csrf_token } })).then(answer => answer.json())
        .then(made => made.password)";
    let one_time = browser.script(made).await?;
    let one_time = one_time.as_str().context("a password is told")?.to_owned();
    let reader = Browser::start().await?;
    reader.sign_in(&at("on/passage-a/watch/sessions"), "lookout", &one_time).await?;
    reader.fill("input[name=current]", &one_time).await?;
    reader.fill("input[name=new]", "a chart of every rock").await?;
    reader.fill("input[name=again]", "a chart of every rock").await?;
    reader.click("button[type=submit]").await?;
    reader.wait_for("h1", "sessions", SOON).await?;
    reader.wait_for("main", "an administrator may cancel statements and end sessions", SOON).await?;
    nothing_went_wrong(&mut browser).await
}

/// Whoever is not signed in yet is asked to, and nothing else is refused.
pub async fn nothing_went_wrong(browser: &mut Browser) -> Result<()> {
    let errors = browser.console_errors().await?;
    let unexpected: Vec<String> = errors.into_iter().filter(|error| !error.contains("401")).collect();
    assert!(unexpected.is_empty(), "{unexpected:?}");
    Ok(())
}

#[tokio::test(flavor = "multi_thread")]
async fn deadlocks_and_a_giant_search_are_found_in_three_steps() -> Result<()> {
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let mut browser = Browser::start().await?;
    browser.sign_in(&format!("{}/watch/instances", demo.address), &demo.account, &demo.password).await?;
    browser.wait_for("main", "passage-a", SOON).await?;
    demo.play("deadlocks")?;
    open_alarm(&browser, &demo, "deadlock").await?;
    browser.click("[data-test=next-page]").await?;
    browser.wait_for("[data-test=deadlocks] li", "held by process", BEFORE_LONG).await?;
    browser
        .wait_until("return document.querySelectorAll('[data-test=deadlocks] svg circle').length >= 2", SOON)
        .await?;

    // Temporary files: the strips of that hour, with those in which they were written.
    demo.play("giant-search")?;
    browser.open(&format!("{}/on/passage-a/diagnose/resources?last=15m", demo.address)).await?;
    browser.wait_for("[data-test=resources]", "temp bytes", BEFORE_LONG).await?;
    browser.wait_for("[data-test=resources]", "cache hit ratio", SOON).await?;
    browser.wait_for("[data-test=resources]", "cpu used user", BEFORE_LONG).await?;
    browser.wait_for("[data-test=moved]", "", SOON).await?;
    // Chosen figures stand on a board, which its address keeps.
    browser.click_text("Temp bytes").await?;
    browser.click_text("Cache hit ratio").await?;
    browser.click_text("Open 2 figures as a board").await?;
    browser.wait_for("[data-test=board]", "passage-a: temp bytes", SOON).await?;
    browser.fill("#b-name", "night watch").await?;
    browser.click_text("Save").await?;
    browser.wait_for(".boards", "night watch", SOON).await?;
    browser.open(&format!("{}/on/passage-a/diagnose/board?last=15m", demo.address)).await?;
    browser.wait_for("[data-test=board]", "nothing stands on this board yet", SOON).await?;
    browser.click_text("night watch").await?;
    browser.wait_for("[data-test=board]", "passage-a: cache hit ratio", SOON).await?;

    // What goes on for long, and what autovacuum takes next.
    browser.open(&format!("{}/on/passage-a/watch/operations", demo.address)).await?;
    browser.wait_for("[data-test=upkeep]", "public.gate_scan", SOON).await?;
    nothing_went_wrong(&mut browser).await
}
