//! Skerry Line's three weeks: what happened in them, from the first page down to the step of the plan, or the index.

use anyhow::Result;
use hurnix_e2e::{Browser, Demo, HISTORY, PROMISED, SOON};

use crate::diagnosing::nothing_went_wrong;

/// Whether the past was looked through: both slow statements are known.
const LOOKED_THROUGH: &str = "
    const asked = path => fetch(`/api/v1/instances${path}`).then(answer => answer.json());
    const slow = (all, label, start) => {
        const { instance_id } = all.find(one => one.label === label);
        return asked(`/${instance_id}/changes?measured=time_per_call`)
            .then(changes => changes.some(({ text }) => text.startsWith(start)));
    };
    return asked('').then(all => Promise.all([slow(all, 'freight', 'select tariff_id'), slow(all, 'crew', 'select s.sailor_id')]))
        .then(known => known.every(Boolean))";

/// From the first page to the page of a statement that is slower: the instance, its lasting changes, the statement.
async fn open_slower(browser: &Browser, demo: &Demo, instance: &str, statement: &str) -> Result<String> {
    browser.open(&format!("{}/watch/instances", demo.address)).await?;
    browser.click_text(instance).await?;
    browser.click_text("Diagnose").await?;
    browser.click_text("Lasting changes").await?;
    browser.wait_for("main", statement, SOON).await?;
    browser.click_text(statement).await?;
    browser.wait_for("[data-test=change]", "slower since", SOON).await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_became_slow_weeks_ago_is_found_down_to_the_step_of_its_plan() -> Result<()> {
    let demo = Demo::start_alone(&["--only=freight,crew,settle", "--gentle"]).await?;
    let mut browser = Browser::start().await?;
    browser.sign_in(&format!("{}/watch/instances", demo.address), &demo.account, &demo.password).await?;
    browser.wait_for("main", "freight", SOON).await?;
    browser.wait_until(LOOKED_THROUGH, HISTORY).await?;

    // Another plan: which one, what it brought, and the step that took the place of another.
    open_slower(&browser, &demo, "freight", "select tariff_id").await?;
    browser.wait_for("[data-test=causes]", "another plan", PROMISED).await?;
    browser.wait_for("[data-test=plan-changed]", "it is worse", SOON).await?;
    browser.wait_for("[data-test=merged]", "seq scan on tariff", SOON).await?;

    // A setting: what a call does since then that it did not before.
    open_slower(&browser, &demo, "crew", "select s.sailor_id").await?;
    let causes = browser.wait_for("[data-test=causes]", "work_mem", PROMISED).await?;
    assert!(causes.to_lowercase().contains("temp"), "{causes}");
    browser.wait_for(".plan", "sort", SOON).await?;

    // A flood of literals: among the statements, and on the page of its own.
    browser.open(&format!("{}/watch/instances", demo.address)).await?;
    browser.click_text("settle").await?;
    browser.click_text("Diagnose").await?;
    browser.click_text("Statements").await?;
    browser.wait_for("[data-test=floods] summary", "settle_dues", SOON).await?;
    browser.click("[data-test=floods] summary").await?;
    browser.click("[data-test=floods] td a").await?;
    browser.wait_for("[data-test=flood]", "times in the server", SOON).await?;

    // Indexes that serve nothing: of two that say the same one is named, and what was not watched for a month end is
    // not called unused, least of all the one that settlement reads then.
    browser.open(&format!("{}/watch/instances", demo.address)).await?;
    browser.click_text("crew").await?;
    browser.click_text("Tune").await?;
    browser.click_text("Indexes").await?;
    let found = browser.wait_for("[data-test=indexes]", "duty_sailor_start_old", SOON).await?;
    assert!(!found.contains("duty_settlement"), "{found}");
    browser.wait_for("main", "not read so far", SOON).await?;
    browser.click("[data-test=finding-duplicate]").await?;
    browser.wait_for("[data-test=index-finding]", "watched for 35 days", SOON).await?;
    // Both stand side by side on the map of their table, beside the one of the settlement.
    browser.click_text("public.duty_sheet").await?;
    let map = browser.wait_for("[data-test=index-map]", "duty_sailor_start_old", SOON).await?;
    assert!(map.contains("duplicate") && map.contains("duty_settlement"), "{map}");
    browser.wait_for("[data-test=table-statements]", "from duty_sheet where sailor_id", SOON).await?;

    nothing_went_wrong(&mut browser).await
}
