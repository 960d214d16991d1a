//! The frame around all pages, by keyboard alone: palette, keys, typed times, the way back, and links for others.

use anyhow::Result;
use fantoccini::key::Key;
use hurnix_e2e::{BEFORE_LONG, Browser, Demo, SOON};

const ENTER: &str = "\u{e007}";
const ESCAPE: &str = "\u{e00c}";
const DOWN: &str = "\u{e015}";

/// A dialog that closes keeps the focus for a moment, and keys belong to it until then.
const FREE: &str = "return !document.activeElement.closest('input, [role=dialog]')";

#[tokio::test(flavor = "multi_thread")]
async fn one_gets_anywhere_by_keyboard_and_back_and_others_see_the_same() -> Result<()> {
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let mut browser = Browser::start().await?;
    let load = format!("{}/on/passage-a/diagnose/load?last=5m", demo.address);
    browser.sign_in(&load, &demo.account, &demo.password).await?;
    browser.wait_for("[data-test=score] .choose", "", BEFORE_LONG).await?;

    // Five steps, each by another way.
    browser.wait_until(FREE, SOON).await?;
    browser.keys("gq").await?;
    browser.wait_for("h1", "statements", SOON).await?;
    browser.wait_until(FREE, SOON).await?;
    browser.keys(".").await?;
    browser.wait_until("return document.activeElement.id === 'palette'", SOON).await?;
    // A typing error in the name of a page.
    browser.keys("databsaes").await?;
    browser.wait_for("[data-test=goals]", "databases", SOON).await?;
    browser.keys(ENTER).await?;
    browser.wait_for("h1", "databases of passage-a", SOON).await?;
    browser.wait_until(FREE, SOON).await?;
    browser.keys(".").await?;
    browser.wait_until("return document.activeElement.id === 'palette'", SOON).await?;
    browser.keys("gate_scan").await?;
    browser.wait_for("[data-test=goals]", "public.gate_scan", SOON).await?;
    browser.wait_for("[data-test=goals]", "insert into gate_scan", SOON).await?;
    let chosen = "return document.querySelector('[aria-selected=true]').textContent.includes('insert into gate_scan')";
    while browser.script(chosen).await? != true {
        browser.keys(DOWN).await?;
    }
    browser.keys(ENTER).await?;
    browser.wait_for("main", "insert into gate_scan", SOON).await?;
    browser.wait_until(FREE, SOON).await?;
    browser.keys("go").await?;
    browser.wait_for("h1", "log", SOON).await?;
    browser.wait_until(FREE, SOON).await?;
    browser.keys("gf").await?;
    browser.wait_for("h1", "first look at passage-a", SOON).await?;

    // And back, over all of them.
    for shown in ["log", "statement", "databases of passage-a", "statements", "load"] {
        browser.back().await?;
        browser.wait_for("h1", shown, SOON).await?;
    }
    assert_eq!(browser.address().await?, load);

    // The keys are told, and nothing fires while somebody types.
    browser.wait_until(FREE, SOON).await?;
    browser.keys("?").await?;
    browser.wait_for(".ant-modal", "go to a page", SOON).await?;
    browser.keys(ESCAPE).await?;
    browser.wait_until("return !document.querySelector('.ant-modal-wrap:not([style*=none])')", SOON).await?;
    browser.fill("input[name=time]", "next gale.").await?;
    browser.keys(ENTER).await?;
    browser.wait_for("#time-fault", "“next gale.” is no time", SOON).await?;
    let kept = "return document.querySelector('input[name=time]').value === 'next gale.'";
    assert_eq!(browser.script(kept).await?, true, "what was typed is still there");
    assert_eq!(browser.address().await?, load);
    browser.fill("input[name=time]", "last 20m").await?;
    browser.keys(ENTER).await?;
    browser.wait_until("return location.search.includes('last=20m')", SOON).await?;

    // Compared with an earlier window, which has a handle of its own on the ruler, once the history reaches back so far.
    browser.wait_until("return document.querySelector('.ruler rect') !== null", SOON).await?;
    browser.fill("input[name=time]", "then 1m").await?;
    browser.keys(ENTER).await?;
    browser.wait_for("[data-test=score]", "then", SOON).await?;
    // It comes and goes as long as the history is hardly longer than a minute.
    let stays = "return parseFloat(document.querySelector('.band.then')?.style.width ?? 0) > 8";
    browser.wait_until(stays, BEFORE_LONG).await?;
    // Found and pressed at once: news may draw the ruler anew between a focus and a key.
    browser.press(".band.then", Key::Right).await?;
    browser.wait_until("return /then=[0-9]{4}-/.test(location.search)", SOON).await?;

    // Narrowed to one account, in UTC: a link shows the same to somebody else.
    browser.click_text("Accounts").await?;
    browser.wait_for("[data-test=score] .choose", "skerry_", SOON).await?;
    browser.click_text("skerry_").await?;
    browser.wait_for(".chip", "account skerry_", SOON).await?;
    let link = browser.address().await?;
    let mut second = Browser::start().await?;
    second.sign_in(&link, &demo.account, &demo.password).await?;
    second.wait_for(".chip", "account skerry_", SOON).await?;
    assert_eq!(second.address().await?, link);
    let windows =
        "return [...document.querySelectorAll('.ruler [role=slider]')].map(s => s.getAttribute('aria-valuetext'))";
    let (first, other) = (browser.script(windows).await?, second.script(windows).await?);
    assert_eq!((&first[1], first.as_array().map(Vec::len)), (&other[1], Some(2)), "now and then: {first} {other}");
    for browser in [&mut browser, &mut second] {
        let errors = browser.console_errors().await?;
        let unexpected: Vec<&String> = errors.iter().filter(|error| !error.contains("401")).collect();
        assert!(unexpected.is_empty(), "{unexpected:?}");
    }
    Ok(())
}
