//! A server is taken under care by the form, gets lost, and comes back; and the ways in and out of the pages.

use anyhow::{Context, Result};
use hurnix_e2e::{BEFORE_LONG, Browser, Demo, SOON};

/// Opens the form of an instance's connection.
async fn edit(browser: &Browser, label: &str) -> Result<()> {
    let row = format!("[...document.querySelectorAll('main tr')].find(row => row.textContent.includes('{label}'))");
    let actions = format!("{row}?.querySelector('[aria-label^=\"Actions\"]')");
    browser.wait_until(&format!("return !!{actions}"), SOON).await?;
    browser.script(&format!("{actions}.click()")).await?;
    let button =
        format!("[...({row}?.querySelectorAll('button') ?? [])].find(one => one.textContent.includes('Connection'))");
    browser.wait_until(&format!("return !!{button}"), SOON).await?;
    browser.script(&format!("{button}.click()")).await?;
    browser.wait_for(".ant-modal-title", label, SOON).await?;
    Ok(())
}

async fn save(browser: &Browser) -> Result<()> {
    browser.click(".ant-modal-footer .ant-btn-primary").await?;
    browser.wait_until("return !document.querySelector('.ant-modal-wrap:not([style*=\"none\"])')", SOON).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_is_connected_by_the_form_gets_lost_and_comes_back() -> Result<()> {
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let mut browser = Browser::start().await?;
    let port = demo.watched.rsplit(':').next().and_then(|rest| rest.split('/').next()).context("a port")?;
    let instances = format!("{}/watch/instances", demo.address);
    browser.sign_in(&instances, &demo.account, &demo.password).await?;
    browser.wait_for("h1", "instances", SOON).await?;

    // A trial names what stands in the way; with that mended it tells of the server.
    browser.click_text("Add instance").await?;
    for (field, text) in
        [("label", "copy"), ("host", "127.0.0.1"), ("port", "1"), ("database", "passage"), ("account", "postgres")]
    {
        browser.fill(&format!("#c-{field}"), text).await?;
    }
    browser.click_text("Test connection").await?;
    browser.wait_for("[data-test=form-problem]", ".", SOON).await?;
    browser.fill("#c-port", port).await?;
    browser.click_text("Test connection").await?;
    browser.wait_for(".ant-modal [role=status]", "the connection works: postgresql", SOON).await?;
    save(&browser).await?;
    browser.wait_for(".rail", "copy", SOON).await?;
    browser.open(&format!("{}/on/copy/diagnose/load?last=5m", demo.address)).await?;
    browser.wait_for("[data-test=score]", "passage", BEFORE_LONG).await?;

    // The roster finds it among the others, by keyboard.
    browser.fill(".rail input[type=search]", "COP").await?;
    browser.wait_until("return document.querySelectorAll('.rail .entry').length === 1", SOON).await?;
    browser.fill(".rail input[type=search]", "no such").await?;
    browser.wait_for(".rail", "no label contains “no such”", SOON).await?;

    // Its server gets lost: what to do is told, and what was collected stays.
    browser.open(&instances).await?;
    edit(&browser, "copy").await?;
    browser.fill("#c-port", "1").await?;
    save(&browser).await?;
    browser.open(&format!("{}/on/copy/diagnose/load?last=15m", demo.address)).await?;
    browser.wait_for("main [role=alert]", "no figures from copy", BEFORE_LONG).await?;
    browser.wait_for("main [role=alert]", "what was collected before is shown below", SOON).await?;
    browser.wait_for("[data-test=score]", "passage", BEFORE_LONG).await?;

    // It comes back, without losing its history, under another label.
    browser.open(&instances).await?;
    edit(&browser, "copy").await?;
    browser.fill("#c-port", port).await?;
    browser.fill("#c-label", "twin").await?;
    save(&browser).await?;
    browser.open(&format!("{}/on/twin/diagnose/load?last=15m", demo.address)).await?;
    browser.wait_for("[data-test=score]", "passage", BEFORE_LONG).await?;
    let lost = "return [...document.querySelectorAll('main [role=alert]')].length === 0";
    browser.wait_until(lost, BEFORE_LONG).await?;

    // Addresses that lead nowhere say so.
    browser.open(&format!("{}/on/copy/diagnose/load", demo.address)).await?;
    browser.wait_for("main", "there is no instance “copy”", SOON).await?;
    browser.open(&format!("{}/on/the/way", demo.address)).await?;
    browser.wait_for("main", "there is no such page", SOON).await?;

    // The theme is kept; signing out closes every page.
    browser.menu("Dark theme").await?;
    browser.open(&instances).await?;
    browser.wait_until("return document.documentElement.dataset.theme === 'dark'", SOON).await?;
    browser.menu("Sign out").await?;
    browser.wait_for("form", "sign in", SOON).await?;
    browser.open(&format!("{}/on/twin/diagnose/statements", demo.address)).await?;
    browser.wait_for("form", "sign in", SOON).await?;
    assert!(browser.address().await?.contains("/sign-in?next="), "{}", browser.address().await?);

    // The browser logs by itself what the server has refused.
    let errors = browser.console_errors().await?;
    let unexpected: Vec<&String> =
        errors.iter().filter(|error| !error.contains("401") && !error.contains("422")).collect();
    assert!(unexpected.is_empty(), "{unexpected:?}");
    Ok(())
}
