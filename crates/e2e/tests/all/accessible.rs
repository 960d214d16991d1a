//! Every page for everybody: by keyboard, by screen reader, in both themes, by the rules of WCAG 2.2 at level AA.

use anyhow::{Context, Result};
use fantoccini::key::Key;
use hurnix_e2e::{BEFORE_LONG, Browser, Demo, SOON};
use std::collections::BTreeSet;
use std::path::Path;

/// Looks over the page, and answers what breaks a rule, with where.
/// The package's own lists to choose from are left out: closed, they lack what the rules ask of them.
const LOOK_OVER: &str = "return axe.run({ exclude: ['.ant-select'] }, { runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa'] })
    .then(found => found.violations.map(rule => rule.id + ': ' + rule.nodes.map(node => node.html.slice(0, 160)).slice(0, 3).join(' | ')))";

/// A page has its heading, and nothing that it still waits for.
const READY: &str = "return document.querySelector('main h1') !== null
    && ![...document.querySelectorAll('main .muted')].some(one => /^(Loading|Checking) …$/.test(one.textContent.trim()))";
/// Pages that an account may go to, as the frame shows them: those of each part, and those of the menu.
const ENTRIES: &str =
    "return [...document.querySelectorAll('header .pages a, .ant-dropdown-menu a')].map(one => one.href)";
/// A single thing of the list shown.
const FIRST_OF_LIST: &str = "return [...document.querySelectorAll('main table a')].map(one => one.href)
    .find(one => one.startsWith(location.origin + location.pathname + '/')) ?? null";

/// Addresses of all pages that the navigation leads to, and of a single thing of each list.
async fn every_page(browser: &Browser, address: &str) -> Result<Vec<String>> {
    let mut pages: BTreeSet<String> = BTreeSet::new();
    let mut collect = async || -> Result<()> {
        let found = browser.script(ENTRIES).await?;
        pages.extend(found.as_array().into_iter().flatten().filter_map(|one| one.as_str().map(str::to_owned)));
        Ok(())
    };
    browser.open(&format!("{address}/on/passage-a/diagnose/load?last=5m")).await?;
    browser.wait_for("header .pages", "load", SOON).await?;
    let parts =
        browser.script("return [...document.querySelectorAll('header .parts nav a')].map(one => one.text)").await?;
    for part in parts.as_array().into_iter().flatten().filter_map(|part| part.as_str()) {
        browser.click_text(part.trim()).await?;
        browser.wait_for("header .parts nav a.current", part.trim(), SOON).await?;
        collect().await?;
    }
    browser.open_menu().await?;
    collect().await?;
    assert!(pages.len() >= 14, "{pages:?}");
    for list in pages.clone() {
        browser.open(&list).await?;
        browser.wait_until(READY, SOON).await?;
        if let Some(single) = browser.script(FIRST_OF_LIST).await?.as_str() {
            pages.insert(single.to_owned());
        }
    }
    // A link of a page leads there, not the navigation.
    pages.insert(format!("{address}/diagnose/plan"));
    Ok(pages.into_iter().collect())
}

#[tokio::test(flavor = "multi_thread")]
async fn every_page_can_be_used_by_everybody() -> Result<()> {
    let rules = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../web/node_modules/axe-core/axe.min.js");
    let rules = std::fs::read_to_string(&rules).context("the front end's packages are installed")?;
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let browser = Browser::start().await?;
    let at = |page: &str| format!("{}/{page}", demo.address);
    browser.open(&at("sign-in")).await?;
    browser.wait_for("form", "sign in", SOON).await?;
    let mut broken = look_over(&browser, &rules, "sign-in").await?;
    browser.sign_in(&at("on/passage-a/diagnose/first-look"), &demo.account, &demo.password).await?;
    browser.wait_for("[data-test=check-security]", "proof", BEFORE_LONG).await?;
    for theme in ["light", "dark"] {
        if theme == "dark" {
            browser.menu("Dark theme").await?;
        }
        for page in every_page(&browser, &demo.address).await? {
            browser.open(&page).await?;
            browser.wait_until(READY, SOON).await?;
            broken.extend(look_over(&browser, &rules, &format!("{page} ({theme})")).await?);
        }
    }
    assert!(broken.is_empty(), "{}", broken.join("\n"));

    // What is chosen by mouse is reached by keyboard: from the top of a page to the menu, and out of it again.
    browser.open(&at("on/passage-a/diagnose/databases?last=5m")).await?;
    browser.wait_for("[data-test=databases]", "passage", SOON).await?;
    browser.press("[data-test=who]", Key::Enter).await?;
    browser.wait_for(".ant-dropdown-menu", "sign out", SOON).await?;
    browser.press("[data-test=databases] th:nth-child(5) button", Key::Enter).await?;
    browser.wait_for("th[aria-sort=descending]", "commits", SOON).await?;
    let unreachable =
        "return [...document.querySelectorAll('main a, main button, main input, main summary, main [role=slider]')]
        .filter(one => one.offsetParent && !one.disabled && one.tabIndex < 0 && !one.closest('.ant-select')).length";
    assert_eq!(browser.script(unreachable).await?, 0);
    Ok(())
}

/// What breaks a rule on the page shown.
async fn look_over(browser: &Browser, rules: &str, page: &str) -> Result<Vec<String>> {
    browser.script(rules).await?;
    let found = browser.script(LOOK_OVER).await?;
    let found = found.as_array().cloned().unwrap_or_default();
    Ok(found.iter().map(|rule| format!("{page}: {}", rule.as_str().unwrap_or_default())).collect())
}
