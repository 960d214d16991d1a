//! Takes the pictures for `docs/screenshots/` from a fresh demo that plays its story to the end.

use std::path::{Path, PathBuf};
use std::time::Duration;

use anyhow::{Context, Result};
use hurnix_demo::INDEX_THAT_HELPS;
use hurnix_e2e::{Browser, Demo, HISTORY};

/// Quiet traffic before the story begins, so that there is something to compare with.
const QUIET: Duration = Duration::from_secs(90);
const PATIENCE: Duration = Duration::from_secs(180);

#[tokio::main]
async fn main() -> Result<()> {
    let folder = PathBuf::from(std::env::args().nth(1).context("usage: shots FOLDER")?);
    std::fs::create_dir_all(&folder)?;
    let demo = Demo::start(&[]).await?;
    let browser = Browser::start().await?;
    let on = |page: &str| format!("{}/on/passage-a/{page}", demo.address);
    let shot = |name: &str| folder.join(format!("{name}.png"));

    browser.open(&demo.address).await?;
    browser.wait_for("form", "sign in", PATIENCE).await?;
    browser.sign_in(&demo.address, &demo.account, &demo.password).await?;
    browser.wait_for("main", "passage-a", PATIENCE).await?;

    tokio::time::sleep(QUIET).await;
    browser.open(&on("diagnose/load?last=5m")).await?;
    browser.click_text("Add marker").await?;
    browser.fill("input[name=marker]", "release: gate list by state").await?;
    browser.click(".ant-popover button[type=submit]").await?;
    demo.play("gate-list")?;
    browser.wait_for(".findings", "slower since", PATIENCE).await?;
    browser.wait_for(".findings", "recommendation", PATIENCE).await?;
    browser.open(&format!("{}/watch/instances", demo.address)).await?;
    browser.wait_for("main", "from passage_leg where crossing_id", PATIENCE).await?;
    // The others are looked over only once their history is written.
    browser.wait_for("main", "the volume /data is full", HISTORY).await?;
    picture(&browser, &shot("instances")).await?;
    browser.open(&format!("{}/on/passage-b/diagnose/changes", demo.address)).await?;
    browser.wait_for("[data-test=changes]", "passage_leg", PATIENCE).await?;
    picture(&browser, &shot("lasting-changes")).await?;
    browser.open(&format!("{}/on/freight/diagnose/resources?last=24h", demo.address)).await?;
    browser.wait_for("[data-test=resources]", "cache hit ratio", PATIENCE).await?;
    picture(&browser, &shot("resources")).await?;
    browser.open(&on("diagnose/first-look")).await?;
    browser.wait_for("[data-test=urgent]", "an index is missing", PATIENCE).await?;
    picture(&browser, &shot("first-look")).await?;
    browser.open(&format!("{}/on/passage-b/diagnose/replication?last=7d", demo.address)).await?;
    browser.wait_for("[data-test=replication]", "passage.skerry.example", PATIENCE).await?;
    browser.wait_for("[data-test=lag]", "replay lag", PATIENCE).await?;
    picture(&browser, &shot("replication")).await?;
    browser.open(&format!("{}/on/freight/diagnose/then-and-now?last=7d&then=7d", demo.address)).await?;
    browser.wait_for("[data-test=statements-moved]", "times the", PATIENCE).await?;
    picture(&browser, &shot("then-and-now")).await?;
    browser.open(&format!("{}/on/crew/diagnose/reports?last=24h&then=7d", demo.address)).await?;
    browser.wait_for("[data-test=report]", "statements took", PATIENCE).await?;
    browser.click_text("Keep this report").await?;
    browser.click_text("Add words of your own").await?;
    browser
        .fill("#words", "The duty report spills to disk since working memory was lowered; the office knows.")
        .await?;
    browser.click("[data-test=words] button[type=submit]").await?;
    browser.wait_for("p.words", "the office knows", PATIENCE).await?;
    picture(&browser, &shot("report")).await?;
    browser.open(&on("diagnose/log?last=1h")).await?;
    browser.wait_for("[data-test=log]", "temp file", PATIENCE).await?;
    picture(&browser, &shot("log")).await?;
    browser.open(&format!("{}/watch/thresholds", demo.address)).await?;
    browser.click_text("Create threshold").await?;
    browser.wait_for("[data-test=trial]", "would have raised", PATIENCE).await?;
    picture(&browser, &shot("thresholds")).await?;
    browser.open(&on("diagnose/statements?last=5m")).await?;
    browser.wait_for("[data-test=statements]", "slower", PATIENCE).await?;
    picture(&browser, &shot("statements")).await?;
    browser.click_text("from passage_leg where crossing_id").await?;
    browser.wait_for("[data-test=change]", "slower", PATIENCE).await?;
    picture(&browser, &shot("statement")).await?;
    browser.open(&on("tune/advice?last=5m")).await?;
    browser.click_text("passage_leg").await?;
    browser.wait_for("[data-test=statement-open]", "create index", PATIENCE).await?;

    let advice = browser.address().await?;
    browser.open(&on("diagnose/load?last=5m")).await?;
    browser.wait_for(".findings", "recommendation", PATIENCE).await?;
    picture(&browser, &shot("load")).await?;

    browser.open(&advice).await?;
    demo.run_on_watched(INDEX_THAT_HELPS).await?;
    browser.wait_for("[data-test=verdict]", "confirmed", PATIENCE).await?;
    picture(&browser, &shot("advice-measured")).await?;
    browser.open(&on("tune/advice?last=5m")).await?;
    browser.wait_for("[data-test=advice-book]", "confirmed", PATIENCE).await?;
    picture(&browser, &shot("advice-book")).await?;
    demo.play("hold-up")?;
    browser.open(&on("watch/sessions")).await?;
    browser.wait_for("[data-test=sessions]", "gate desk", PATIENCE).await?;
    tokio::time::sleep(Duration::from_secs(20)).await;
    picture(&browser, &shot("sessions")).await?;
    browser.open(&on("diagnose/blocking?last=5m")).await?;
    browser.wait_for("[data-test=hold-ups]", "gate desk", PATIENCE).await?;
    picture(&browser, &shot("blocking")).await?;
    browser.open(&format!("{}/watch/alarms", demo.address)).await?;
    browser.wait_for("[data-test=alarms]", "holds up", PATIENCE).await?;
    picture(&browser, &shot("alarms")).await?;
    demo.play("quiet")?;
    browser.open(&format!("{}/on/crew/tune/tables/crew/public/duty_sheet", demo.address)).await?;
    browser.wait_for("[data-test=said]", "duplicate index", PATIENCE).await?;
    picture(&browser, &shot("table")).await?;
    browser.open(&format!("{}/on/crew/tune/indexes?kind=duplicate", demo.address)).await?;
    browser.wait_for("[data-test=indexes]", "duty_sailor_start_old", PATIENCE).await?;
    browser.click("[data-test=finding-duplicate]").await?;
    browser.wait_for("[data-test=index-finding]", "what it costs", PATIENCE).await?;
    browser.menu("Dark theme").await?;
    picture(&browser, &shot("indexes")).await
}

/// Waits for two rounds of live news to be drawn, so that a page is shown settled.
async fn picture(browser: &Browser, file: &Path) -> Result<()> {
    tokio::time::sleep(Duration::from_secs(2)).await;
    browser.picture(file).await
}
