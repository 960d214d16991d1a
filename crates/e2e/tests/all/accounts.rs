//! Somebody gets an account, sets a password, sees what it is limited to, and all of it is in the audit trail.

use anyhow::Result;
use hurnix_e2e::{Browser, Demo, SOON};

#[tokio::test(flavor = "multi_thread")]
async fn an_account_is_made_limited_and_recorded() -> Result<()> {
    let demo = Demo::start(&["--live-only", "--gentle"]).await?;
    let mut browser = Browser::start().await?;
    let at = |page: &str| format!("{}/{page}", demo.address);
    browser.sign_in(&at("watch/instances"), &demo.account, &demo.password).await?;
    browser.wait_for("h1", "instances", SOON).await?;

    // The instance is put into a group.
    browser.click_text("no group").await?;
    browser.fill(".ant-popover input", "sea").await?;
    browser.click(".ant-popover button[type=submit]").await?;
    browser.wait_for("main table", "sea", SOON).await?;

    // An account that sees another group only.
    browser.menu("Accounts").await?;
    browser.click_text("Create account").await?;
    browser.fill("#a-name", "lighthouse").await?;
    // Enter takes the group; a click elsewhere closes the list below it.
    browser.fill("#a-groups", "shore\u{e007}").await?;
    browser.click(".ant-modal-title").await?;
    let list = "return [...document.querySelectorAll('.ant-select-dropdown')].every(list => getComputedStyle(list).display === 'none')";
    browser.wait_until(list, SOON).await?;
    browser.click(".ant-modal-footer .ant-btn-primary").await?;
    let told = browser.wait_for("[data-test=told-once] code", "", SOON).await?;
    let one_time = told.trim().to_owned();
    assert_eq!(one_time.len(), 16, "{told}");
    browser.wait_for("[data-test=accounts]", "has a one-time password", SOON).await?;
    browser.menu("Sign out").await?;

    // With the one-time password it gets nowhere but to another one.
    browser.sign_in(&at("accounts"), "lighthouse", &one_time).await?;
    browser.wait_for("form", "set a password of your own", SOON).await?;
    browser.open(&at("watch/instances")).await?;
    browser.wait_for("form", "set a password of your own", SOON).await?;
    browser.fill("input[name=current]", &one_time).await?;
    browser.fill("input[name=new]", "twelve white flashes").await?;
    browser.fill("input[name=again]", "twelve white flashes").await?;
    browser.click("button[type=submit]").await?;
    browser.wait_for("h1", "instances", SOON).await?;
    browser.wait_for("main", "no instance", SOON).await?;
    browser.wait_for("header", "lighthouse", SOON).await?;
    let menu = browser.open_menu().await?;
    assert!(!menu.contains("Accounts") && !menu.contains("Audit trail"), "{menu}");

    // Its own page tells where it is signed in.
    browser.click_text("Your account").await?;
    browser.wait_for("[data-test=sessions]", "this session", SOON).await?;
    browser.fill("input[name=token]", "harbour board").await?;
    browser.click_text("Create token").await?;
    browser.wait_for("[data-test=told-once] code", "hurnix_", SOON).await?;
    browser.menu("Sign out").await?;

    // The administrator lets it see all, by keyboard, and finds everything in the trail.
    browser.sign_in(&at("audit-trail"), &demo.account, &demo.password).await?;
    let trail = browser.wait_for("[data-test=audit]", "make token", SOON).await?;
    for done in ["add account", "lighthouse: reader of shore", "change password", "set group", "harbour board, reader"]
    {
        assert!(trail.contains(done), "{done} is not in {trail}");
    }
    browser.click_text("lighthouse").await?;
    browser
        .wait_until(
            "return !(document.querySelector('[data-test=audit]')?.textContent ?? 'set group').includes('set group')",
            SOON,
        )
        .await?;
    let address = browser.address().await?;
    assert!(address.contains("account=lighthouse"), "{address}");
    // What is shown is exported.
    let keep = "const make = URL.createObjectURL; URL.createObjectURL = file => {
        file.text().then(text => { window.exported = text }); return make(file) }";
    browser.script(keep).await?;
    browser.click_text("Export").await?;
    let menu = ".ant-dropdown:not(.ant-dropdown-hidden) .ant-dropdown-menu-item";
    browser.wait_for(menu, "csv", SOON).await?;
    browser.click(menu).await?;
    let exported = "return /^time,account,signed in by.*lighthouse/s.test(window.exported ?? '')
        && !window.exported.includes('set_group')";
    browser.wait_until(exported, SOON).await?;

    let errors = browser.console_errors().await?;
    let unexpected: Vec<&String> =
        errors.iter().filter(|error| !error.contains("401") && !error.contains("403")).collect();
    assert!(unexpected.is_empty(), "{unexpected:?}");
    Ok(())
}
