//! Takes the pictures for `docs/screenshots/` from a fresh demo that plays its story to the end.

use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context, Result};
use hurnix_demo::INDEX_THAT_HELPS;
use hurnix_e2e::{Browser, Demo};

/// Quiet traffic before the story begins, so that there is something to compare with.
const QUIET: Duration = Duration::from_secs(90);
const PATIENCE: Duration = Duration::from_secs(180);

#[tokio::main]
async fn main() -> Result<()> {
    let folder = PathBuf::from(std::env::args().nth(1).context("usage: shots FOLDER")?);
    std::fs::create_dir_all(&folder)?;
    let demo = Demo::start(&[])?;
    let browser = Browser::start().await?;
    let on = |page: &str| format!("{}/on/passage-a/{page}", demo.address);
    let shot = |name: &str| folder.join(format!("{name}.png"));

    browser.open(&demo.address).await?;
    browser.wait_for("form", "sign in", PATIENCE).await?;
    browser.picture(&shot("sign-in")).await?;
    browser.sign_in(&demo.address, &demo.account, &demo.password).await?;
    browser.wait_for("main", "passage-a", PATIENCE).await?;

    tokio::time::sleep(QUIET).await;
    browser.open(&on("diagnose/load?last=5m")).await?;
    browser.click_text("Note a marker").await?;
    browser.fill("input[name=marker]", "release: gate list by state").await?;
    browser.click_text("Set the marker").await?;
    demo.play("gate-list")?;
    browser.wait_for(".findings", "slower since", PATIENCE).await?;
    browser.wait_for(".findings", "advice", PATIENCE).await?;
    browser.open(&format!("{}/watch/instances", demo.address)).await?;
    browser.wait_for("main", "slower", PATIENCE).await?;
    picture(&browser, &shot("instances")).await?;
    browser.open(&format!("{}/on/passage-b/diagnose/load?last=21d", demo.address)).await?;
    browser.wait_for("main", "sums over an hour", PATIENCE).await?;
    picture(&browser, &shot("load-history")).await?;
    browser.open(&on("diagnose/statements?last=5m")).await?;
    browser.wait_for("[data-test=statements]", "slower", PATIENCE).await?;
    picture(&browser, &shot("statements")).await?;
    browser.click_text("from passage_leg where crossing_id").await?;
    browser.wait_for("[data-test=change]", "slower", PATIENCE).await?;
    picture(&browser, &shot("statement")).await?;
    browser.open(&on("tune/advice?last=5m")).await?;
    browser.click_text("passage_leg").await?;
    browser.wait_for("[data-test=statement-open]", "create index", PATIENCE).await?;
    picture(&browser, &shot("advice-open")).await?;

    let advice = browser.address().await?;
    browser.open(&on("diagnose/load?last=5m")).await?;
    browser.wait_for(".findings", "advice", PATIENCE).await?;
    picture(&browser, &shot("load")).await?;

    browser.open(&advice).await?;
    demo.run_on_watched(INDEX_THAT_HELPS).await?;
    browser.wait_for("[data-test=verdict]", "confirmed", PATIENCE).await?;
    picture(&browser, &shot("advice-measured")).await?;
    browser.open(&on("tune/advice?last=5m")).await?;
    browser.wait_for("[data-test=advice-book]", "confirmed", PATIENCE).await?;
    picture(&browser, &shot("advice-book")).await?;
    browser.open(&on("diagnose/load?last=15m")).await?;
    browser.wait_for("main", "busy sessions", PATIENCE).await?;
    browser.click_text("Dark").await?;
    picture(&browser, &shot("load-dark")).await
}

/// Waits for two rounds of live news to be drawn, so that a page is shown settled.
async fn picture(browser: &Browser, file: &Path) -> Result<()> {
    tokio::time::sleep(Duration::from_secs(2)).await;
    browser.picture(file).await
}
