use std::fs;
use std::io::{BufRead, BufReader};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use anyhow::{Context, Result, bail};
use hurnix_cluster::Guard;
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use sqlx::postgres::PgConnection;
use sqlx::{AssertSqlSafe, Connection, Executor};
use tokio::sync::{Semaphore, SemaphorePermit};

/// Demos that run at a time: each is two servers, Hurnix, traffic, and a browser that looks at them.
const PLACES_IN_ALL: u32 = 3;
static PLACES: Semaphore = Semaphore::const_new(PLACES_IN_ALL as usize);

/// A demo of its own in a temporary folder; stopped and removed when dropped.
pub struct Demo {
    _place: SemaphorePermit<'static>,
    process: Child,
    _guard: Guard,
    program: PathBuf,
    folder: tempfile::TempDir,
    /// Address of the pages.
    pub address: String,
    /// Name to sign in with.
    pub account: String,
    /// Its password.
    pub password: String,
    /// Connection string of the watched server, as its superuser.
    pub watched: String,
}

impl Demo {
    /// Starts a fresh demo with these options, and waits until it has printed how to reach it.
    pub async fn start(options: &'static [&'static str]) -> Result<Demo> {
        Demo::start_on(1, options).await
    }

    /// The same with no other beside it: to write weeks of a history takes the whole machine.
    pub async fn start_alone(options: &'static [&'static str]) -> Result<Demo> {
        Demo::start_on(PLACES_IN_ALL, options).await
    }

    async fn start_on(places: u32, options: &'static [&'static str]) -> Result<Demo> {
        let place = PLACES.acquire_many(places).await?;
        tokio::task::spawn_blocking(move || Demo::start_in(place, options)).await?
    }

    fn start_in(place: SemaphorePermit<'static>, options: &[&str]) -> Result<Demo> {
        let mut builder = tempfile::Builder::new();
        builder.prefix("hurnix-demo-");
        let folder = match std::env::var_os("HURNIX_TEST_DIR") {
            Some(base) => builder.tempdir_in(base)?,
            None => builder.tempdir()?,
        };
        // The account that the servers run as must be able to pass through it.
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755))?;
        let program = program()?;
        let mut process = Command::new(&program)
            .args(["demo", "up", "--fresh"])
            // Several may start at the same time.
            .arg(format!("--port={}", TcpListener::bind("127.0.0.1:0")?.local_addr()?.port()))
            .args(options)
            .env("HURNIX_HOME", folder.path())
            .env("HURNIX_LOG", "warn,sqlx=error")
            .stdin(Stdio::null())
            .stdout(Stdio::piped())
            .spawn()
            .with_context(|| format!("starting {}", program.display()))?;
        let output = process.stdout.take().context("the demo has an output")?;
        let guard = Guard::ending(process.id(), "TERM")?;
        let mut demo = Demo {
            _place: place,
            process,
            _guard: guard,
            program,
            folder,
            address: String::new(),
            account: String::new(),
            password: String::new(),
            watched: String::new(),
        };
        let mut lines = BufReader::new(output).lines();
        for line in lines.by_ref() {
            let line = line?;
            for (word, place) in [
                ("Open", &mut demo.address),
                ("Sign in", &mut demo.account),
                ("Password", &mut demo.password),
                ("The watched server:", &mut demo.watched),
            ] {
                if let Some(rest) = line.trim().strip_prefix(word) {
                    *place = rest.trim().to_owned();
                }
            }
            if line.trim().starts_with("Stop:") {
                // What it prints later must not fill the pipe.
                std::thread::spawn(move || lines.for_each(drop));
                return Ok(demo);
            }
        }
        bail!("the demo ended before it was ready: {:?}", demo.process.wait()?)
    }

    /// Plays a story, as a user would.
    pub fn play(&self, story: &str) -> Result<()> {
        let status = Command::new(&self.program)
            .args(["demo", "story", story])
            .env("HURNIX_HOME", self.folder.path())
            .status()?;
        if !status.success() {
            bail!("the story {story} could not be played: {status}");
        }
        Ok(())
    }

    /// Runs a statement on the watched server, as its administrator would.
    pub async fn run_on_watched(&self, statement: &str) -> Result<()> {
        let mut connection = PgConnection::connect(&self.watched).await?;
        connection.execute(AssertSqlSafe(statement.to_owned())).await?;
        Ok(connection.close().await?)
    }

    /// The folder of the demo.
    pub fn folder(&self) -> &Path {
        self.folder.path()
    }
}

impl Drop for Demo {
    fn drop(&mut self) {
        let id = Pid::from_raw(self.process.id() as i32);
        let _ = kill(id, Signal::SIGTERM);
        for _ in 0..300 {
            if self.process.try_wait().is_ok_and(|status| status.is_some()) {
                return;
            }
            std::thread::sleep(Duration::from_millis(100));
        }
        eprintln!("the demo did not stop within 30 s; it is killed");
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}

/// The program built beside this one.
fn program() -> Result<PathBuf> {
    let here = std::env::current_exe()?;
    let folders = here.ancestors().skip(1).take(2);
    let mut candidates = folders.map(|folder| folder.join("hurnix"));
    candidates.find(|path| path.is_file()).context("there is no program hurnix: build the whole workspace first")
}
