//! The program as it is run, with a real repository and a real watched server.

use std::ops::{Deref, DerefMut};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use hurnix_cluster::{Cluster, Guard, Setup};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use reqwest::{Client, Method, RequestBuilder, StatusCode};
use serde_json::{Value, json};
use sqlx::postgres::PgConnection;
use sqlx::{Executor, Row};

/// So long is a connection to Hurnix used again.
const IDLE: Duration = Duration::from_secs(5);
/// Waiting long costs nothing where all is well, and machines that run tests side by side are slow.
pub const PATIENCE: Duration = Duration::from_secs(90);
pub const PASSWORD: &str = "secret-of-the-tide";

/// Options of the program, unless a test gives others.
const USUAL: [&str; 8] = [
    "--statements=1s",
    "--activity-write=1s",
    "--databases=1s",
    "--server-log=1s",
    "--analysis=1s",
    "--bucket=2s",
    // A machine that runs tests is slow to answer, and that must not stretch anything.
    "--budget-share=1",
    "--lease=1s",
];

/// The password that the first administrator sets.
pub const ADMIN_PASSWORD: &str = "a gull on every buoy";
/// The password that others set.
pub const SOMEBODYS_PASSWORD: &str = "fog over the narrows";

/// Somebody who is signed in beside the first administrator.
pub struct Person {
    pub client: Client,
    pub csrf_token: String,
}

impl Person {
    pub async fn send(
        &self,
        hurnix: &Hurnix,
        method: Method,
        path: &str,
        body: Option<Value>,
    ) -> Result<(StatusCode, Value)> {
        send(self.client.request(method, hurnix.url(path)).header("x-csrf-token", &self.csrf_token), body).await
    }
}

/// Sends a request, and answers with what came of it.
pub async fn send(request: RequestBuilder, body: Option<Value>) -> Result<(StatusCode, Value)> {
    let request = if let Some(body) = body { request.json(&body) } else { request };
    let answer = request.send().await?;
    let status = answer.status();
    let text = answer.text().await?;
    Ok((status, serde_json::from_str(&text).unwrap_or(Value::String(text))))
}

/// The program with its repository, signed in as the first administrator.
pub struct Hurnix {
    pub process: Process,
    pub address: String,
    pub client: Client,
    pub csrf_token: String,
    log: PathBuf,
    pub repository: Cluster,
    folder: tempfile::TempDir,
}

/// The program while it runs; it ends with the test, however that ends.
pub struct Process {
    child: Child,
    /// Where it listens, without a scheme.
    pub address: String,
    _guard: Guard,
}

impl Process {
    /// Ends it as an operator does: what was read is written first.
    pub fn end(&mut self) -> Result<()> {
        kill(Pid::from_raw(self.child.id().try_into()?), Signal::SIGTERM)?;
        self.child.wait()?;
        Ok(())
    }
}

impl Deref for Process {
    type Target = Child;

    fn deref(&self) -> &Child {
        &self.child
    }
}

impl DerefMut for Process {
    fn deref_mut(&mut self) -> &mut Child {
        &mut self.child
    }
}

impl Drop for Process {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Hurnix {
    pub async fn start() -> Result<Hurnix> {
        Hurnix::start_with(&[]).await
    }

    /// The same with further options.
    pub async fn start_with(options: &[&str]) -> Result<Hurnix> {
        let repository = Cluster::temporary(Setup::default())?;
        repository.ensure_database("hurnix").await?;
        let folder = tempfile::tempdir()?;
        let log = folder.path().join("log");
        let (process, port) = spawn(&repository, folder.path(), &log, options)?;
        let address = format!("http://127.0.0.1:{port}");
        // A test that ran a command meanwhile did not see that the server closed a connection nobody used.
        let client = Client::builder().cookie_store(true).pool_idle_timeout(IDLE).build()?;
        let mut hurnix = Hurnix { process, address, client, csrf_token: String::new(), log, repository, folder };
        let deadline = Instant::now() + PATIENCE;
        while !hurnix.client.get(hurnix.url("health")).send().await.is_ok_and(|answer| answer.status().is_success()) {
            if Instant::now() > deadline {
                bail!("the program did not start: {}", hurnix.log_text()?);
            }
            tokio::time::sleep(Duration::from_millis(50)).await;
        }
        let log = hurnix.log_text()?;
        let password = log.split("with the one-time password ").nth(1).and_then(|rest| rest.split_whitespace().next());
        let password = password.context("the first password was printed")?;
        hurnix.sign_in("admin", password).await?;
        let body = json!({ "current": password, "new": ADMIN_PASSWORD });
        let (status, problem) = hurnix.send(Method::PUT, "account/password", Some(body)).await?;
        anyhow::ensure!(status == StatusCode::NO_CONTENT, "{problem}");
        Ok(hurnix)
    }

    /// Signs in, in place of whoever was.
    pub async fn sign_in(&mut self, name: &str, password: &str) -> Result<()> {
        let body = json!({ "name": name, "password": password });
        let (status, answer) = self.send(Method::POST, "session", Some(body)).await?;
        anyhow::ensure!(status == StatusCode::OK, "{answer}");
        self.csrf_token = answer["csrf_token"].as_str().context("there is a token")?.to_owned();
        Ok(())
    }

    /// Makes an account that has set its password, and answers with a browser that it is signed in with.
    pub async fn somebody(&self, name: &str, role: &str, groups: &[&str]) -> Result<Person> {
        let new = json!({ "name": name, "role": role, "groups": groups });
        let (status, made) = self.send(Method::POST, "accounts", Some(new)).await?;
        anyhow::ensure!(status == StatusCode::CREATED, "{made}");
        let one_time = made["password"].as_str().context("it is told")?;
        let mut person = Person { client: Client::builder().cookie_store(true).build()?, csrf_token: String::new() };
        let body = json!({ "name": name, "password": one_time });
        let signed_in = person.send(self, Method::POST, "session", Some(body)).await?.1;
        person.csrf_token = signed_in["csrf_token"].as_str().context("there is a token")?.to_owned();
        let body = json!({ "current": one_time, "new": SOMEBODYS_PASSWORD });
        let (status, problem) = person.send(self, Method::PUT, "account/password", Some(body)).await?;
        anyhow::ensure!(status == StatusCode::NO_CONTENT, "{problem}");
        Ok(person)
    }

    /// Starts another process on the same repository.
    pub fn another(&self, options: &[&str]) -> Result<Process> {
        Ok(spawn(&self.repository, self.folder.path(), &self.another_log(), options)?.0)
    }

    /// Where that writes its log.
    pub fn another_log(&self) -> PathBuf {
        self.folder.path().join("another.log")
    }

    /// Starts the program again, in place of one that was killed; whoever was signed in stays it.
    pub async fn restart(&mut self, options: &[&str]) -> Result<()> {
        let (process, port) = spawn(&self.repository, self.folder.path(), &self.log, options)?;
        (self.process, self.address) = (process, format!("http://127.0.0.1:{port}"));
        let address = self.url("health");
        wait_until("the program answers again", async || {
            Ok(self.client.get(&address).send().await.is_ok_and(|answer| answer.status().is_success()))
        })
        .await
    }

    pub fn key_file(&self) -> PathBuf {
        self.folder.path().join("key")
    }

    /// The last lines of the log, for whoever has to find out what went wrong.
    pub fn log_end(&self) -> String {
        let text = self.log_text().unwrap_or_default();
        let lines: Vec<&str> = text.lines().collect();
        lines[lines.len().saturating_sub(5)..].join("\n")
    }

    pub fn log_text(&self) -> Result<String> {
        Ok(std::fs::read_to_string(&self.log)?)
    }

    pub fn url(&self, path: &str) -> String {
        format!("{}/api/v1/{path}", self.address)
    }

    pub async fn send(&self, method: Method, path: &str, body: Option<Value>) -> Result<(StatusCode, Value)> {
        send(self.client.request(method, self.url(path)).header("x-csrf-token", &self.csrf_token), body).await
    }

    pub async fn get(&self, path: &str) -> Result<Value> {
        let (status, body) = self.send(Method::GET, path, None).await?;
        anyhow::ensure!(status == StatusCode::OK, "{path}: {status} {body}");
        Ok(body)
    }

    /// Asks until the answer satisfies, and fails with the last answer when it never does.
    pub async fn wait_for(&self, path: &str, good: impl Fn(&Value) -> bool) -> Result<Value> {
        let deadline = Instant::now() + PATIENCE;
        loop {
            let answer = self.get(path).await?;
            if good(&answer) {
                return Ok(answer);
            }
            if Instant::now() > deadline {
                bail!("{path} never became what it should; last: {answer}");
            }
            tokio::time::sleep(Duration::from_millis(100)).await;
        }
    }
}

pub async fn watched() -> Result<Cluster> {
    watched_with(&[]).await
}

/// The same with further settings.
pub async fn watched_with(settings: &[(&str, &str)]) -> Result<Cluster> {
    let usual = [("shared_preload_libraries", "pg_stat_statements"), ("autovacuum", "off")];
    let settings: Vec<_> = usual.iter().chain(settings).copied().collect();
    let cluster =
        Cluster::temporary(Setup { settings: &settings, password_accounts: &["hurnix_watch"], version: None })?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE EXTENSION pg_stat_statements;
             CREATE ROLE hurnix_watch LOGIN PASSWORD 'secret-of-the-tide';
             GRANT pg_monitor TO hurnix_watch;
             CREATE TABLE deck AS SELECT n AS deck_id, n % 5 AS vessel_id FROM generate_series(1, 2000) n",
        )
        .await?;
    Ok(cluster)
}

pub fn connection(cluster: &Cluster, password: &str) -> Value {
    json!({
        "label": "passage-a", "host": "127.0.0.1", "port": cluster.port(), "database": "postgres",
        "account": "hurnix_watch", "password": password, "tls": "off",
    })
}

/// Starts the program; answers with it and the port that it listens on.
fn spawn(repository: &Cluster, folder: &Path, log: &Path, options: &[&str]) -> Result<(Process, u16)> {
    let port = std::net::TcpListener::bind("127.0.0.1:0")?.local_addr()?.port();
    let name = |option: &str| option.split('=').next().map(str::to_owned);
    let usual = USUAL.iter().filter(|usual| options.iter().all(|option| name(option) != name(usual)));
    let child = Command::new(env!("CARGO_BIN_EXE_hurnix"))
        .arg("serve")
        .args(usual)
        .args(options)
        .env("HURNIX_REPOSITORY", repository.url("hurnix"))
        .env("HURNIX_LISTEN", format!("127.0.0.1:{port}"))
        .env("HURNIX_KEY_FILE", folder.join("key"))
        .stdin(Stdio::null())
        .stderr(std::fs::File::create(log)?)
        .spawn()?;
    let guard = Guard::ending(child.id(), "KILL")?;
    Ok((Process { child, address: format!("127.0.0.1:{port}"), _guard: guard }, port))
}

/// Waits until something holds.
pub async fn wait_until(what: &str, mut holds: impl AsyncFnMut() -> Result<bool>) -> Result<()> {
    let deadline = Instant::now() + PATIENCE;
    while !holds().await? {
        anyhow::ensure!(Instant::now() < deadline, "it never came to pass that {what}");
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Ok(())
}

/// The server's time, as addresses carry it.
pub async fn moment(client: &mut PgConnection) -> Result<String> {
    let text = "SELECT to_char(clock_timestamp() AT TIME ZONE 'UTC', 'YYYY-MM-DD\"T\"HH24:MI:SS.US\"Z\"')";
    Ok(client.fetch_one(text).await?.get(0))
}

/// The bytes of a text as PostgreSQL shows them.
pub fn hex(text: &str) -> String {
    text.bytes().map(|byte| format!("{byte:02x}")).collect()
}

/// The last hours and the next, as addresses carry them.
pub fn lately() -> Result<String> {
    let hours = chrono::TimeDelta::try_hours(2).context("a length")?;
    let moment = |at: chrono::DateTime<chrono::Utc>| at.to_rfc3339_opts(chrono::SecondsFormat::Secs, true);
    let now = chrono::Utc::now();
    Ok(format!("from={}&to={}", moment(now - hours), moment(now + hours)))
}
