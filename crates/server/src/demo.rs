//! The demo: repository and watched server as two private clusters, traffic, and Hurnix itself.
//!
//! Hurnix runs as a process of its own, started exactly as on a real machine, so that what is measured
//! on it holds there too.

mod history;

use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::Stdio;
use std::time::{Duration, Instant};

use anyhow::{Context, Result, bail};
use clap::Args;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::access::role::Role;
use hurnix_core::keeping::retention::Retention;
use hurnix_demo::{
    Pace, Stage, Story, Traffic, WATCH_ACCOUNT, load_passage, passage_settings, set_watch_password, stories_of,
};
use hurnix_store::{NewAccount, NewInstance, Store};
use tokio::process::{Child, Command};

use crate::options::Intervals;
use crate::passwords;
use crate::secrets::{Sealer, random_text};
use crate::serve::stop_signal;

/// Label of the watched server.
const LABEL: &str = "passage-a";
/// The demo's account: made-up, on loopback only.
const ACCOUNT: &str = "harbourmaster";
const PASSWORD: &str = "lantern-and-tide";
/// Where Hurnix listens unless that is taken.
const USUAL_PORT: u16 = 8470;

/// Where the demo lives.
#[derive(Debug, Clone, Args)]
pub struct DemoHome {
    /// Folder for everything that the demo makes.
    #[arg(long = "home", env = "HURNIX_HOME", default_value = ".hurnix")]
    folder: PathBuf,
}

/// How to run the demo.
#[derive(Debug, Clone, Args)]
pub struct DemoOptions {
    #[command(flatten)]
    home: DemoHome,
    /// Throw away what an earlier demo made, and begin anew.
    #[arg(long)]
    fresh: bool,
    /// Only the live server, without the simulated ones and their history.
    #[arg(long)]
    live_only: bool,
    /// Only these simulated servers, with commas between them.
    #[arg(long, value_delimiter = ',', conflicts_with = "live_only")]
    only: Vec<String>,
    /// Little traffic on the live server, for tests that share a machine.
    #[arg(long)]
    gentle: bool,
    /// Port to listen on; 8470 when left out, or a free one where that is taken.
    #[arg(long)]
    port: Option<u16>,
}

/// The file that names the stories being played; it is there while a demo runs.
fn story_file(home: &Path) -> PathBuf {
    home.join("story")
}

/// Plays stories on the running demo, all at the same time and in place of those before; `list` says which there are.
pub fn play(home: &DemoHome, names: &[String]) -> Result<()> {
    if names == ["list"] {
        for story in Story::ALL {
            println!("{story}\n  {}\n  Shown on: {}", story.meaning(), story.shows_on());
        }
        return Ok(());
    }
    let line = names.join(" ");
    let stories = stories_of(&line).map_err(anyhow::Error::msg)?;
    let file = story_file(&home.folder);
    if !file.exists() {
        bail!("no demo is running in {}: start one with ./run demo", home.folder.display());
    }
    std::fs::write(&file, line)?;
    let quiet = [Story::Quiet];
    for story in if stories.is_empty() { &quiet } else { stories.as_slice() } {
        println!("Now playing {story}: {} Shown on: {}.", story.meaning(), story.shows_on());
    }
    Ok(())
}

/// Runs the demo until it is told to stop.
pub async fn up(options: DemoOptions) -> Result<()> {
    let start = Instant::now();
    std::fs::create_dir_all(&options.home.folder)?;
    let home = options.home.folder.canonicalize()?;
    let story_file = story_file(&home);
    let _only = lock(&home)?;
    if options.fresh {
        throw_away(&home)?;
    }

    let (repository, passage) = start_clusters(&home).await?;
    repository.ensure_database("hurnix").await?;
    if load_passage(&passage).await? {
        println!("The passage database is loaded ({:.0} s).", start.elapsed().as_secs_f64());
    }
    let key_file = home.join("hurnix.key");
    let (meter, metering) = hurnix_demo::serve_meter(([127, 0, 0, 1], 0).into()).await?;
    tokio::spawn(metering);
    let store = register(&repository, &passage, &key_file, format!("http://{meter}/metrics")).await?;

    let port = options.port.map_or_else(usual_port, Ok)?;
    let mut hurnix = start_hurnix(&repository, &key_file, port)?;
    let traffic = Traffic::start(passage.port(), if options.gentle { Pace::Gentle } else { Pace::Paced }, 1);
    let mut stage = Stage::new(passage.port());
    wait_until_ready(port, &mut hurnix).await?;

    std::fs::write(&story_file, Story::Quiet.to_string())?;
    if !options.live_only {
        history::add_fleet(&store, &options.only).await?;
    }
    let writing_history = tokio::spawn(history::write_history(store));
    println!(
        "\nHurnix watches Skerry Line ({:.0} s).\n\n  Open     http://127.0.0.1:{port}\n  Sign in  {ACCOUNT}\n  Password {PASSWORD}\n\n  The watched server: {}\n  Play a story:       ./run story gate-list\n  Stop:               Ctrl-C\n",
        start.elapsed().as_secs_f64(),
        passage.url("passage"),
    );
    let ended = tokio::select! {
        () = stop_signal() => Ok(()),
        status = hurnix.wait() => Err(anyhow::anyhow!("Hurnix ended by itself: {}", status?)),
        error = follow_story(&story_file, &traffic, &mut stage) => Err(error),
        error = history_failed(writing_history) => Err(error),
    };
    println!("Stopping …");
    let _ = std::fs::remove_file(&story_file);
    if let Err(error) = stage.clear().await {
        eprintln!("The story could not be cleared away: {error:#}");
    }
    traffic.stop().await;
    stop_hurnix(hurnix).await;
    ended
}

/// Keeps a second demo out of the same folder, for as long as the file is held.
fn lock(home: &Path) -> Result<std::fs::File> {
    let file = std::fs::File::create(home.join("lock"))?;
    if file.try_lock().is_err() {
        bail!(
            "a demo is running in {} already: stop it with Ctrl-C first, or choose another folder by HURNIX_HOME",
            home.display()
        );
    }
    Ok(file)
}

fn throw_away(home: &Path) -> Result<()> {
    for part in ["repository", "passage-a"] {
        let folder = home.join(part);
        if folder.exists() {
            // Starting and dropping it stops a server that a killed demo left behind.
            if folder.join("data/postmaster.pid").exists() {
                drop(Cluster::start(&folder, Setup::default())?);
            }
            std::fs::remove_dir_all(&folder).with_context(|| format!("removing {}", folder.display()))?;
        }
    }
    let key_file = home.join("hurnix.key");
    if key_file.exists() {
        std::fs::remove_file(key_file)?;
    }
    Ok(())
}

async fn start_clusters(home: &Path) -> Result<(Cluster, Cluster)> {
    let (repository, passage) = (home.join("repository"), home.join("passage-a"));
    let repository = tokio::task::spawn_blocking(move || {
        let settings = [
            ("shared_buffers", "256MB"),
            ("max_wal_size", "2GB"),
            ("max_connections", "40"),
            ("synchronous_commit", "off"),
        ];
        Cluster::start(&repository, Setup { settings: &settings, ..Setup::default() })
    });
    let passage = tokio::task::spawn_blocking(move || {
        let setup = Setup { settings: &passage_settings(), password_accounts: &[WATCH_ACCOUNT], version: None };
        Cluster::start(&passage, setup)
    });
    Ok((repository.await??, passage.await??))
}

/// Makes the demo's account and takes all servers under care, passage-a with a new password each time.
async fn register(repository: &Cluster, passage: &Cluster, key_file: &Path, meter: String) -> Result<Store> {
    let store = Store::open(&repository.url("hurnix"), Retention::default()).await?;
    if store.account(ACCOUNT).await?.is_none() {
        let (role, password_hash) = (Role::Administrator, passwords::hash(PASSWORD));
        let account = NewAccount { name: ACCOUNT, role, password_hash: &password_hash, one_time: false, groups: &[] };
        store.add_account(&account).await?;
    }
    let password = random_text(24);
    set_watch_password(passage, &password).await?;
    let instance = NewInstance {
        label: LABEL.into(),
        host: "127.0.0.1".into(),
        port: passage.port(),
        database_name: "passage".into(),
        account_name: WATCH_ACCOUNT.into(),
        secret_sealed: Sealer::open(key_file, store.holds_secrets().await?)?.seal(&password)?,
        tls_mode: "off".into(),
        host_endpoint: Some(meter),
        ..NewInstance::default()
    };
    match store.instances().await?.iter().find(|known| known.label == LABEL) {
        Some(known) => {
            store.change_instance(known.instance_id, &instance).await?;
        }
        None => {
            store.add_instance(&instance).await?;
        }
    }
    Ok(store)
}

fn usual_port() -> Result<u16> {
    if TcpListener::bind(("127.0.0.1", USUAL_PORT)).is_ok() { Ok(USUAL_PORT) } else { free_port() }
}

fn free_port() -> Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

fn start_hurnix(repository: &Cluster, key_file: &Path, port: u16) -> Result<Child> {
    let mut command = Command::new(std::env::current_exe()?);
    command
        .arg("serve")
        .env("HURNIX_REPOSITORY", repository.url("hurnix"))
        .env("HURNIX_LISTEN", format!("127.0.0.1:{port}"))
        .env("HURNIX_KEY_FILE", key_file)
        .env("HURNIX_INBOX", key_file.with_file_name("inbox"))
        .stdin(Stdio::null())
        .kill_on_drop(true)
        // Ctrl-C reaches the demo only, which then stops the rest in order.
        .process_group(0);
    for (name, value) in Intervals::DEMO {
        if std::env::var_os(name).is_none() {
            command.env(name, value);
        }
    }
    command.spawn().context("starting Hurnix")
}

async fn wait_until_ready(port: u16, hurnix: &mut Child) -> Result<()> {
    let deadline = Instant::now() + Duration::from_secs(30);
    loop {
        if tokio::net::TcpStream::connect(("127.0.0.1", port)).await.is_ok() {
            return Ok(());
        }
        if let Some(status) = hurnix.try_wait()? {
            bail!("Hurnix did not start: {status}");
        }
        if Instant::now() > deadline {
            bail!("Hurnix did not listen on port {port} within 30 s");
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
}

/// Plays the stories that the file names, until the file cannot be read any more.
async fn follow_story(file: &Path, traffic: &Traffic, stage: &mut Stage) -> anyhow::Error {
    let mut playing = Vec::new();
    loop {
        tokio::time::sleep(Duration::from_millis(500)).await;
        match tokio::fs::read_to_string(file).await {
            Ok(text) => {
                if let Ok(stories) = stories_of(&text)
                    && stories != playing
                {
                    let names: Vec<&str> = stories.iter().map(|story| story.name()).collect();
                    println!(
                        "Playing {}.",
                        if names.is_empty() { Story::Quiet.name().to_owned() } else { names.join(", ") }
                    );
                    traffic.play(&stories);
                    if let Err(error) = stage.play(&stories).await {
                        return error.context("playing a story");
                    }
                    playing = stories;
                }
            }
            Err(error) => return anyhow::Error::new(error).context(format!("reading {}", file.display())),
        }
    }
}

/// Why the history could not be written; waits for ever once it is.
async fn history_failed(writing: tokio::task::JoinHandle<Result<()>>) -> anyhow::Error {
    match writing.await {
        Ok(Ok(())) => std::future::pending().await,
        Ok(Err(error)) => error.context("writing the history of the simulated instances"),
        Err(ended) => ended.into(),
    }
}

async fn stop_hurnix(mut hurnix: Child) {
    if let Some(id) = hurnix.id() {
        let id = nix::unistd::Pid::from_raw(id as i32);
        let _ = nix::sys::signal::kill(id, nix::sys::signal::Signal::SIGTERM);
    }
    if tokio::time::timeout(Duration::from_secs(10), hurnix.wait()).await.is_err() {
        // It is killed when dropped.
        eprintln!("Hurnix did not stop in time");
    }
}
