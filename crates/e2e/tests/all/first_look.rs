//! A hold-up at the gate: the first look names who holds up whom, the page of sessions ends it, and with the rule of
//! the second person nobody does so alone.

use std::time::Duration;

use anyhow::{Context, Result};
use hurnix_e2e::{BEFORE_LONG, Browser, Demo, SOON};

#[tokio::test(flavor = "multi_thread")]
async fn a_hold_up_is_named_ended_and_approved_by_a_second_person() -> Result<()> {
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let mut browser = Browser::start().await?;
    let at = |page: &str| format!("{}/{page}", demo.address);
    browser.sign_in(&at("on/passage-a/diagnose/first-look"), &demo.account, &demo.password).await?;
    browser.wait_for("h1", "first look at passage-a", SOON).await?;
    browser.wait_for("[data-test=check-security]", "without proof", BEFORE_LONG).await?;
    demo.play("hold-up")?;
    let deadline = std::time::Instant::now() + BEFORE_LONG;
    while !browser.wait_for("[data-test=check-locks]", "", SOON).await?.contains("skerry_supervisor") {
        anyhow::ensure!(std::time::Instant::now() < deadline, "the first look never named the supervisor");
        browser.click_text("Refresh").await?;
        tokio::time::sleep(Duration::from_secs(1)).await;
    }
    browser.wait_for("[data-test=urgent]", "skerry_supervisor (gate desk", SOON).await?;

    // The report to be handed over says the same.
    let report = "return fetch(document.querySelector('a[href*=\"form=text\"]').href).then(file => file.text())";
    let report = browser.script(report).await?;
    let report = report.as_str().context("a text")?;
    assert!(report.contains("First look: passage-a") && report.contains("skerry_supervisor (gate desk"), "{report}");

    // A second person is asked for from now on, and there must be one.
    browser.open(&at("actions")).await?;
    browser.fill("form input", "four eyes see more").await?;
    browser.click_text("Require a second person").await?;
    browser.wait_for("form [role=alert]", "make a second administrator first", SOON).await?;
    let made = "return fetch('/api/v1/session').then(answer => answer.json()).then(session => fetch('/api/v1/accounts', {
        method: 'POST', body: JSON.stringify({ name: 'pilot', role: 'administrator', groups: [] }),
        headers: { 'content-type': 'application/json', 'x-csrf-token': session.csrf_token } })).then(answer => answer.json())
        .then(made => made.password)";
    let one_time = browser.script(made).await?;
    let one_time = one_time.as_str().context("a password is told")?.to_owned();
    let mut second = Browser::start().await?;
    second.sign_in(&at("actions"), "pilot", &one_time).await?;
    second.fill("input[name=current]", &one_time).await?;
    second.fill("input[name=new]", "a chart of every rock").await?;
    second.fill("input[name=again]", "a chart of every rock").await?;
    second.click("button[type=submit]").await?;
    second.wait_for("h1", "actions and approvals", SOON).await?;
    browser.click_text("Require a second person").await?;
    browser.wait_for("form.rule", "a second person must approve", SOON).await?;

    // Who holds up the others stands first; ending it says what is lost and asks why.
    browser.open(&at("on/passage-a/watch/sessions")).await?;
    browser.wait_for("[data-test=sessions] tbody tr:first-child", "gate desk", BEFORE_LONG).await?;
    browser.click("[data-test=sessions] tbody tr:first-child .acts button:last-child").await?;
    browser.wait_for(".ant-modal", "its open transaction is rolled back", SOON).await?;
    browser.wait_for(".ant-modal", "a second administrator must approve it first", SOON).await?;
    browser.click(".ant-modal button[type=submit]").await?;
    browser.wait_for(".ant-modal", "say why", SOON).await?;
    browser.fill("#act-reason", "37 scanners wait behind it").await?;
    browser.click(".ant-modal button[type=submit]").await?;
    browser.wait_for(".ant-modal", "proposed", SOON).await?;
    browser.open(&at("actions")).await?;
    browser.wait_for("[data-test=actions]", "37 scanners wait behind it", SOON).await?;
    let own = browser.wait_for("[data-test=actions] .acts", "withdraw", SOON).await?;
    assert!(!own.contains("Approve"), "nobody approves what they proposed: {own}");

    second.open(&at("actions")).await?;
    second.wait_for("[data-test=actions]", "37 scanners wait behind it", SOON).await?;
    second.click_text("Approve").await?;
    second.click(".ant-popconfirm .ant-btn-primary").await?;
    second.wait_for("[data-test=actions]", "the server did it", SOON).await?;
    browser.open(&at("on/passage-a/watch/sessions")).await?;
    let gone = "const page = document.querySelector('main'); return !!page && !page.textContent.includes('gate desk')";
    browser.wait_until(gone, SOON).await?;

    for errors in [browser.console_errors().await?, second.console_errors().await?] {
        let unexpected: Vec<&String> =
            errors.iter().filter(|error| !["401", "403", "422"].iter().any(|code| error.contains(code))).collect();
        assert!(unexpected.is_empty(), "{unexpected:?}");
    }
    Ok(())
}
