use std::io::{BufRead, BufReader};
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use fantoccini::wd::{Capabilities, TimeoutConfiguration, WebDriverCompatibleCommand};
use fantoccini::{Client, ClientBuilder, Locator};
use hurnix_cluster::Guard;
use nix::sys::signal::{Signal, killpg};
use nix::unistd::Pid;
use serde_json::{Value, json};

use crate::SOON;

/// Between two looks at a page that something is waited for on.
const LOOK_AGAIN: Duration = Duration::from_millis(200);

/// Times that a field is cleared again before it is typed into all the same.
const MOST_CLEARINGS: usize = 20;

/// Times that a driver is started before it is given up.
const MOST_STARTS: usize = 3;

/// A driver that was started, with the port that it listens on; without one where it ended at once.
struct Started {
    driver: Child,
    guard: Guard,
    port: Option<u16>,
}

fn start_driver() -> Result<Started> {
    // A group of its own, so that the browser that it starts ends with it.
    let mut driver = Command::new("/usr/bin/chromedriver")
        .arg("--port=0")
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .process_group(0)
        .spawn()
        .context("starting ChromeDriver; Debian's package is chromium-driver")?;
    let guard = Guard::ending_group(driver.id(), "KILL")?;
    let output = driver.stdout.take().context("the driver has an output")?;
    let mut lines = BufReader::new(output).lines();
    let port = lines.by_ref().map_while(Result::ok).find_map(|line| {
        let rest = line.split("started successfully on port ").nth(1)?;
        rest.trim_end_matches('.').trim().parse::<u16>().ok()
    });
    std::thread::spawn(move || lines.for_each(drop));
    Ok(Started { driver, guard, port })
}

/// A headless browser with its driver; both end when it is dropped.
pub struct Browser {
    client: Client,
    driver: Child,
    _guard: Guard,
    _profile: tempfile::TempDir,
}

impl Browser {
    /// Starts driver and browser with a page area of 1280 by 800.
    pub async fn start() -> Result<Browser> {
        let mut started = start_driver()?;
        // Drivers that are started at the same time may choose the same port; all but one of them end.
        for _ in 1..MOST_STARTS {
            if started.port.is_some() {
                break;
            }
            end(&mut started.driver);
            started = start_driver()?;
        }
        let Started { mut driver, guard, port } = started;
        let profile = tempfile::tempdir()?;
        let mut browser = match (port, client(port, profile.path()).await) {
            (Some(_), Ok(client)) => Browser { client, driver, _guard: guard, _profile: profile },
            (_, failed) => {
                end(&mut driver);
                bail!("the browser did not start: {:?}", failed.err());
            }
        };
        let size = json!({ "width": 1280, "height": 800, "deviceScaleFactor": 1, "mobile": false });
        browser.devtools("Emulation.setDeviceMetricsOverride", size).await?;
        Ok(browser)
    }

    /// Opens an address.
    pub async fn open(&self, address: &str) -> Result<()> {
        Ok(self.client.goto(address).await?)
    }

    /// Address of the page shown.
    pub async fn address(&self) -> Result<String> {
        Ok(self.client.current_url().await?.to_string())
    }

    /// Signs in on the sign-in page.
    pub async fn sign_in(&self, address: &str, account: &str, password: &str) -> Result<()> {
        self.open(address).await?;
        self.fill("input[name=name]", account).await?;
        self.fill("input[name=password]", password).await?;
        self.click("button[type=submit]").await
    }

    /// Types into a field, in place of what it holds.
    pub async fn fill(&self, field: &str, text: &str) -> Result<()> {
        let element = self.client.wait().at_most(SOON).for_element(Locator::Css(field)).await?;
        // By keyboard, as people do: of a field cleared by the driver its page hears too late, and may put back
        // what was there.
        let is_empty = format!("return document.querySelector({}).value === ''", json!(field));
        for _ in 0..MOST_CLEARINGS {
            if self.script(&is_empty).await? == json!(true) {
                break;
            }
            element.send_keys("\u{e009}a\u{e009}\u{e003}").await?;
        }
        Ok(element.send_keys(text).await?)
    }

    /// Clicks what the selector finds first.
    pub async fn click(&self, selector: &str) -> Result<()> {
        self.click_found(Locator::Css(selector)).await.with_context(|| format!("clicking {selector}"))
    }

    /// Clicks the link or button with this text.
    pub async fn click_text(&self, text: &str) -> Result<()> {
        let path = format!("//*[self::a or self::button][contains(normalize-space(.), {})]", xpath_text(text));
        self.click_found(Locator::XPath(&path)).await.with_context(|| format!("clicking {text}"))
    }

    /// Clicks what is found; finds it anew where the page drew it again between finding and clicking, as people do.
    async fn click_found(&self, what: Locator<'_>) -> Result<()> {
        let deadline = Instant::now() + SOON;
        loop {
            let element = self.client.wait().at_most(SOON).for_element(what).await?;
            match element.click().await {
                Err(problem) if problem.is_stale_element_reference() && Instant::now() < deadline => {}
                done => return Ok(done?),
            }
        }
    }

    /// Opens the menu of whoever is signed in; answers what it offers.
    pub async fn open_menu(&self) -> Result<String> {
        self.click("[data-test=who]").await?;
        self.wait_for(".ant-dropdown:not(.ant-dropdown-hidden) .ant-dropdown-menu", "sign out", SOON).await
    }

    /// Chooses from that menu.
    pub async fn menu(&self, text: &str) -> Result<()> {
        self.open_menu().await?;
        let path = format!("//li[@role='menuitem'][contains(normalize-space(.), {})]", xpath_text(text));
        let element = self.client.wait().at_most(SOON).for_element(Locator::XPath(&path)).await?;
        // A page is a link within its entry.
        match element.find(Locator::Css("a")).await {
            Ok(link) => link.click().await,
            Err(_) => element.click().await,
        }
        .with_context(|| format!("choosing {text}"))
    }

    /// Waits until what the selector finds contains the text, whatever its case; answers its whole text.
    pub async fn wait_for(&self, selector: &str, text: &str, at_most: Duration) -> Result<String> {
        let deadline = Instant::now() + at_most;
        let wanted = text.to_lowercase();
        let mut last = String::new();
        loop {
            if let Ok(elements) = self.client.find_all(Locator::Css(selector)).await {
                for element in elements {
                    if let Ok(seen) = element.text().await {
                        if seen.to_lowercase().contains(&wanted) {
                            return Ok(seen);
                        }
                        last = seen;
                    }
                }
            }
            if Instant::now() > deadline {
                let page = self.address().await.unwrap_or_default();
                bail!("{selector} on {page} did not show {text:?} within {at_most:?}; it showed {last:?}");
            }
            tokio::time::sleep(LOOK_AGAIN).await;
        }
    }

    /// Waits until a script of the page returns true.
    pub async fn wait_until(&self, script: &str, at_most: Duration) -> Result<()> {
        let deadline = Instant::now() + at_most;
        while self.script(script).await? != true {
            if Instant::now() > deadline {
                bail!("{script} did not become true within {at_most:?} on {}", self.address().await?);
            }
            tokio::time::sleep(LOOK_AGAIN).await;
        }
        Ok(())
    }

    /// Presses a key combination on what the selector finds.
    pub async fn press(&self, selector: &str, key: fantoccini::key::Key) -> Result<()> {
        let element = self.client.find(Locator::Css(selector)).await?;
        Ok(element.send_keys(&String::from(char::from(key))).await?)
    }

    /// Types on the keyboard, wherever the focus is.
    pub async fn keys(&self, keys: &str) -> Result<()> {
        Ok(self.client.active_element().await?.send_keys(keys).await?)
    }

    /// Goes back to the page before.
    pub async fn back(&self) -> Result<()> {
        Ok(self.client.back().await?)
    }

    /// Runs a script in the page.
    pub async fn script(&self, script: &str) -> Result<Value> {
        Ok(self.client.execute(script, Vec::new()).await?)
    }

    /// Keeps a picture of the page, once fonts are loaded and drawn.
    pub async fn picture(&self, file: &Path) -> Result<()> {
        self.client
            .execute_async(
                "const done = arguments[0];
                 document.fonts.ready.then(() => requestAnimationFrame(() => requestAnimationFrame(() => done(true))))",
                Vec::new(),
            )
            .await?;
        let picture = self.client.screenshot().await?;
        std::fs::write(file, picture).with_context(|| format!("writing {}", file.display()))
    }

    /// Errors that the browser logged since the last call.
    pub async fn console_errors(&mut self) -> Result<Vec<String>> {
        let log = self.client.issue_cmd(Own { path: "se/log", body: json!({ "type": "browser" }) }).await?;
        let entries = log.as_array().cloned().unwrap_or_default();
        let severe = entries.iter().filter(|entry| entry["level"] == "SEVERE");
        Ok(severe.map(|entry| entry["message"].as_str().unwrap_or_default().to_owned()).collect())
    }

    async fn devtools(&mut self, command: &str, parameters: Value) -> Result<Value> {
        let body = json!({ "cmd": command, "params": parameters });
        Ok(self.client.issue_cmd(Own { path: "goog/cdp/execute", body }).await?)
    }
}

impl Drop for Browser {
    fn drop(&mut self) {
        end(&mut self.driver);
    }
}

fn end(driver: &mut Child) {
    let _ = killpg(Pid::from_raw(driver.id() as i32), Signal::SIGKILL);
    let _ = driver.wait();
}

async fn client(port: Option<u16>, profile: &Path) -> Result<Client> {
    let port = port.context("the driver did not print its port")?;
    let arguments = [
        "--headless=new",
        "--no-sandbox",
        "--disable-gpu",
        "--disable-quic",
        "--no-first-run",
        "--disable-background-networking",
        "--disable-component-update",
        "--disable-sync",
        "--disable-dev-shm-usage",
        "--hide-scrollbars",
        "--force-device-scale-factor=1",
        "--window-size=1280,800",
    ];
    let mut arguments: Vec<String> = arguments.iter().map(ToString::to_string).collect();
    arguments.push(format!("--user-data-dir={}", profile.display()));
    let capabilities: Capabilities = serde_json::from_value(json!({
        "goog:chromeOptions": { "args": arguments },
        "goog:loggingPrefs": { "browser": "ALL" },
    }))?;
    let mut builder = ClientBuilder::new(hyper_util::client::legacy::connect::HttpConnector::new());
    let client = builder.capabilities(capabilities).connect(&format!("http://127.0.0.1:{port}")).await?;
    // Scripts wait for answers of Hurnix, as pages do.
    client.update_timeouts(TimeoutConfiguration::new(Some(SOON), None, None)).await?;
    Ok(client)
}

/// A text as XPath writes it, whatever quotes it holds.
fn xpath_text(text: &str) -> String {
    let parts: Vec<String> = text.split('\'').map(|part| format!("'{part}'")).collect();
    if parts.len() == 1 { parts[0].clone() } else { format!("concat({})", parts.join(", \"'\", ")) }
}

/// A command of the driver's own.
#[derive(Debug)]
struct Own {
    path: &'static str,
    body: Value,
}

impl WebDriverCompatibleCommand for Own {
    fn endpoint(&self, base: &url::Url, session: Option<&str>) -> Result<url::Url, url::ParseError> {
        base.join(&format!("session/{}/{}", session.unwrap_or_default(), self.path))
    }

    fn method_and_body(&self, _: &url::Url) -> (http::Method, Option<String>) {
        (http::Method::POST, Some(self.body.to_string()))
    }
}
