//! The story of the missing index, from the first figures to the verdict, on a real server and in a
//! real browser.

use anyhow::{Context, Result, bail};
use fantoccini::key::Key;
use hurnix_demo::INDEX_THAT_HELPS;
use hurnix_e2e::{Browser, Demo, PROMISED, SOON};

/// Quiet traffic before the story, so that there is something to compare with.
const QUIET_CELLS: usize = 8;

/// The report from the release on against the minutes before it, of which it is the address.
const REPORT_SINCE_RELEASE: &str = "
    const asked = path => fetch(`/api/v1/instances${path}`).then(answer => answer.json());
    return asked('').then(([{ instance_id }]) => asked(`/${instance_id}/history`)).then(({ markers, span }) => {
        const release = markers.find(({ text }) => text.includes('gate list by state')).at;
        const query = new URLSearchParams({ kind: 'period', from: release, to: new Date().toISOString(),
            then: span.from, then_to: release });
        return `/on/passage-a/diagnose/reports?${query}`;
    });";

/// What the gate list was measured at: calls and microseconds of each cell, and the changes that are told of it.
const GATE_LIST_MEASURED: &str = "
    const to = new Date(), window = `from=${new Date(to - 900000).toISOString()}&to=${to.toISOString()}`;
    const asked = path => fetch(`/api/v1/instances${path}`).then(answer => answer.json());
    return asked('').then(async ([{ instance_id }]) => {
        const list = await asked(`/${instance_id}/statements?search=passage_leg where crossing_id&${window}`);
        return Promise.all(list.families.map(async ({ family_id, text }) => {
            const family = await asked(`/${instance_id}/statements/${family_id}?${window}`);
            const cells = family.cells.map(({ at, figures }) => `${at} ${figures.calls} ${figures.exec_us}`);
            return { text, cells, changes: family.changes };
        }));
    });";

#[tokio::test(flavor = "multi_thread")]
async fn the_gate_list_gets_slow_the_index_is_advised_made_and_confirmed() -> Result<()> {
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let mut browser = Browser::start().await?;

    // Signing in leads to where one wanted to go; a wrong password is told and loses nothing.
    let load = format!("{}/on/passage-a/diagnose/load?last=5m", demo.address);
    browser.sign_in(&load, &demo.account, "wrong").await?;
    browser.wait_for("[role=alert]", "no account with this name and password", SOON).await?;
    browser.fill("input[name=password]", &demo.password).await?;
    browser.click("button[type=submit]").await?;
    browser.wait_for("h1", "load", SOON).await?;
    assert!(browser.address().await?.ends_with("/on/passage-a/diagnose/load?last=5m"));

    // Load of quiet traffic; a column of time narrows the statements below, by keyboard too.
    browser.wait_for("[data-test=score]", "passage", PROMISED).await?;
    browser.press("[role=slider][aria-valuetext='none chosen']", Key::Left).await?;
    browser.wait_for(".chip", "–", SOON).await?;
    assert!(browser.address().await?.contains("cell="), "the chosen column is part of the address");
    browser.click(".chip button").await?;
    let rows = "document.querySelectorAll('[data-test=score] .press.choose').length";
    browser.wait_until(&format!("return !location.search.includes('cell=') && {rows} > 0"), PROMISED).await?;

    // Statements: sorted and filtered by the server.
    browser.open(&format!("{}/on/passage-a/diagnose/statements?last=5m", demo.address)).await?;
    browser.wait_for("[data-test=statements]", "insert into gate_scan", SOON).await?;
    browser.fill("input[type=search].search", "vehicle_slot").await?;
    browser.wait_for(".tools", "4 families", SOON).await?;
    browser.click_text("calls").await?;
    browser.wait_for("th[aria-sort=descending]", "calls", SOON).await?;
    assert!(browser.address().await?.contains("statements.is.text=vehicle_slot"));

    // Enough of quiet for a comparison: as many stretches of time as the rule asks for, and some more.
    let quiet = format!(
        "return fetch('/api/v1/instances').then(r => r.json()).then(all => all[0].instance_id).then(id => {{
           const to = new Date(), from = new Date(to - 600000);
           return fetch(`/api/v1/instances/${{id}}/statements?from=${{from.toISOString()}}&to=${{to.toISOString()}}`)
         }}).then(r => r.json()).then(list => list.coverage.seconds >= {})",
        QUIET_CELLS * 10
    );
    browser.wait_until(&quiet, PROMISED).await?;

    // The release: within three minutes the regression with its onset, and the advice.
    // It is noted, too, and stands on the time axis.
    browser.open(&load).await?;
    browser.click_text("Add marker").await?;
    browser.fill("input[name=marker]", "release: gate list by state").await?;
    browser.click(".ant-popover button[type=submit]").await?;
    let flags =
        "return [...document.querySelectorAll('.flag')].some(flag => flag.title.includes('gate list by state'))";
    browser.wait_until(flags, SOON).await?;
    demo.play("gate-list")?;
    if let Err(missing) = browser.wait_for(".findings", "from passage_leg where crossing_id", PROMISED).await {
        bail!("{missing}; it was measured as {}", browser.script(GATE_LIST_MEASURED).await?);
    }
    browser.wait_for(".findings", "slower since", SOON).await?;
    // Whether somebody should act at once hangs on how fast the machine reads the table.
    let not_quiet = "return /act|look/.test(document.querySelector('.rail .health').textContent)";
    browser.wait_until(not_quiet, PROMISED).await?;
    // From the first page to the cause in three steps: the alarm, what to do, the statement with its cause.
    browser.open(&format!("{}/watch/instances", demo.address)).await?;
    // A machine that is slow meanwhile may have a worse trouble: all of them are shown.
    browser.wait_until("return document.querySelector('button.fold') !== null", PROMISED).await?;
    browser.click("button.fold").await?;
    browser.wait_for("main", "from passage_leg where crossing_id", PROMISED).await?;
    browser.click_text("from passage_leg where crossing_id").await?;
    browser.wait_for("h1", "slow statement", SOON).await?;
    browser.wait_for("[data-test=story]", "opened", SOON).await?;
    browser.click("[data-test=next-page]").await?;
    let change = browser.wait_for("[data-test=change]", "slower since", SOON).await?;
    assert!(change.contains("times as long") && change.contains("onset"), "{change}");
    browser.wait_for("[data-test=causes]", "likely missing index", PROMISED).await?;
    browser.wait_for(".plan", "seq scan on passage_leg", PROMISED).await?;
    // The report of that time names it first, too.
    let statement = browser.address().await?;
    let report = browser.script(REPORT_SINCE_RELEASE).await?;
    browser.open(&format!("{}{}", demo.address, report.as_str().context("an address")?)).await?;
    let told = browser
        .wait_for("section:first-of-type[data-test=changed]", "from passage_leg where crossing_id", PROMISED)
        .await?;
    assert!(told.contains("s/s more") && told.contains("a call"), "{told}");
    browser.open(&statement).await?;
    browser.wait_for("main", "index on public.passage_leg (crossing_id, state)", PROMISED).await?;
    browser.click_text("index on public.passage_leg (crossing_id, state)").await?;

    // The statement cannot be copied before its questions are answered.
    browser
        .wait_for("[data-test=statement-open]", "on public.passage_leg using btree (crossing_id, state)", SOON)
        .await?;
    browser.click("fieldset input[type=radio]").await?;
    browser.click_text("use passage_leg_crossing_id_state").await?;
    browser.wait_for(".statement pre", "CREATE INDEX CONCURRENTLY passage_leg_crossing_id_state", SOON).await?;
    browser.wait_for("main", "fewer rows are left for each", SOON).await?;

    // The index is made: the effect is measured and the verdict given within three minutes.
    demo.run_on_watched(INDEX_THAT_HELPS).await?;
    browser.wait_for("[data-test=state]", "applied", PROMISED).await?;
    browser.wait_for("[data-test=verdict]", "confirmed", PROMISED).await?;
    browser.wait_for("[data-test=measured]", "busy sessions", SOON).await?;
    browser.click_text("advice book").await?;
    browser.wait_for("[data-test=advice-book]", "confirmed", SOON).await?;

    let errors: Vec<String> = browser.console_errors().await?;
    // The wrong password of the beginning is logged by the browser itself.
    let unexpected: Vec<&String> = errors.iter().filter(|error| !error.contains("401")).collect();
    assert!(unexpected.is_empty(), "{unexpected:?}");
    Ok(())
}
