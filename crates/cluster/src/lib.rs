//! Private PostgreSQL clusters on loopback: for the demo, the tests and the benches.
//!
//! A cluster lives in a folder of its own, listens on a free port of 127.0.0.1 only, and is stopped
//! when its [`Cluster`] is dropped. A temporary one also goes when its process ends by a signal. Clusters that others
//! run on the machine are never touched.
//!
//! Debian's PostgreSQL runs them. Tests can ask for another version, whose programs `./run test` brings into
//! `servers/`; nothing else needs these.
//!
//! PostgreSQL refuses to run as root. As root, its programs run as the account `postgres` that
//! Debian's package made; otherwise as whoever calls.

mod guard;

use std::fs;
use std::io::Write;
use std::net::TcpListener;
use std::os::unix::fs::{PermissionsExt, chown};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use anyhow::{Context, Result, bail};
use nix::unistd::{Uid, User};
use sqlx::postgres::{PgConnectOptions, PgConnection};
use sqlx::{AssertSqlSafe, Connection, Executor};

pub use guard::Guard;

/// The superuser of every private cluster; trusted on loopback without password.
pub const SUPERUSER: &str = "postgres";

/// How a cluster is to be set up.
#[derive(Debug, Clone, Copy, Default)]
pub struct Setup<'a> {
    /// Server settings, by name.
    pub settings: &'a [(&'a str, &'a str)],
    /// Accounts that must show a password; all others are trusted on loopback.
    pub password_accounts: &'a [&'a str],
    /// The major version to run: one of [`VERSIONS`]; Debian's newest when not given.
    pub version: Option<u32>,
}

/// The major versions that can be asked for: all that Hurnix watches.
pub const VERSIONS: [u32; 6] = [13, 14, 15, 16, 17, 18];

/// A running private cluster; stopped when dropped.
#[derive(Debug)]
pub struct Cluster {
    folder: PathBuf,
    programs: PathBuf,
    port: u16,
    options: String,
    /// Of a temporary one: stops the server and removes the folder.
    guard: Option<Guard>,
}

impl Cluster {
    /// Starts the cluster that lives in `folder`, making it first if it is not there yet.
    pub fn start(folder: &Path, setup: Setup) -> Result<Cluster> {
        prepare_folder(folder)?;
        let programs = programs(setup.version)?;
        let data = folder.join("data");
        if !data.join("PG_VERSION").exists() {
            let made = folder.join("data.new");
            if made.exists() {
                fs::remove_dir_all(&made)
                    .with_context(|| format!("removing the half-made cluster {}", made.display()))?;
            }
            initialise(&programs, &made)?;
            // Renamed when complete, so that a break in the middle leaves nothing that looks whole.
            fs::rename(&made, &data)?;
        }
        write_access_rules(&data, setup.password_accounts)?;
        stop(&programs, &data, "fast");
        let port = free_port()?;
        let settings = setup.settings.iter().map(|(name, value)| format!(" -c {name}='{value}'")).collect::<String>();
        let options =
            format!("-c listen_addresses=127.0.0.1 -c unix_socket_directories='{}'{settings}", folder.display());
        let cluster = Cluster { folder: folder.to_owned(), programs, port, options, guard: None };
        cluster.launch()?;
        Ok(cluster)
    }

    /// Starts a fresh cluster in a temporary folder, removed with it. It does not sync to disk.
    pub fn temporary(setup: Setup) -> Result<Cluster> {
        let programs = programs(setup.version)?;
        let (folder, guard) = guarded_folder(&programs)?;
        copy_template(&programs, setup.version, &folder.join("data"))?;
        let fast = [("fsync", "off"), ("shared_buffers", "32MB")];
        let settings: Vec<_> = fast.iter().chain(setup.settings).copied().collect();
        let mut cluster = Cluster::start(&folder, Setup { settings: &settings, ..setup })?;
        cluster.guard = Some(guard);
        Ok(cluster)
    }

    /// Starts a replica of this cluster in a temporary folder, removed with it.
    pub fn temporary_replica(&self) -> Result<Cluster> {
        let (folder, guard) = guarded_folder(&self.programs)?;
        run(program(&programs(None)?, "pg_basebackup")?
            .args(["-h", "127.0.0.1", "-U", SUPERUSER, "--no-sync", "-c", "fast", "-X", "stream", "-R", "-p"])
            .arg(self.port.to_string())
            .arg("-D")
            .arg(folder.join("data")))
        .context("copying the cluster")?;
        self.launch_replica(folder, guard)
    }

    /// Starts a replica from a copy made while this cluster stands still, which all versions can; it reads from a slot of
    /// its name. The slot is made first.
    pub fn replica_by_copy(&self, name: &str) -> Result<Cluster> {
        let (folder, guard) = guarded_folder(&self.programs)?;
        let (from, data) = (self.folder.join("data"), folder.join("data"));
        stop(&self.programs, &from, "fast");
        copy(&from, &data)?;
        self.launch()?;
        let address = format!("host=127.0.0.1 port={} user={SUPERUSER} application_name={name}", self.port);
        let settings =
            format!("primary_conninfo = '{address}'\nprimary_slot_name = '{name}'\ncluster_name = '{name}'\n");
        fs::OpenOptions::new().append(true).open(data.join("postgresql.auto.conf"))?.write_all(settings.as_bytes())?;
        fs::File::create(data.join("standby.signal"))?;
        self.launch_replica(folder, guard)
    }

    fn launch_replica(&self, folder: PathBuf, guard: Guard) -> Result<Cluster> {
        let port = free_port()?;
        let options = self.options.replace(&self.folder.display().to_string(), &folder.display().to_string());
        let programs = self.programs.clone();
        let replica = Cluster { port, programs, options, folder, guard: Some(guard) };
        replica.launch()?;
        Ok(replica)
    }

    /// The port on 127.0.0.1.
    pub fn port(&self) -> u16 {
        self.port
    }

    /// A connection string for the superuser.
    pub fn url(&self, database: &str) -> String {
        format!("postgres://{SUPERUSER}@127.0.0.1:{}/{database}", self.port)
    }

    /// Connects as the superuser.
    pub async fn connect(&self, database: &str) -> Result<PgConnection> {
        let options = PgConnectOptions::new().host("127.0.0.1").port(self.port).username(SUPERUSER).database(database);
        Ok(PgConnection::connect_with(&options).await?)
    }

    /// The file whose first line is the number of the server's first process.
    pub fn process_file(&self) -> PathBuf {
        self.folder.join("data/postmaster.pid")
    }

    /// Makes an empty database unless it is there; says whether it made one. The name must be a plain word.
    pub async fn ensure_database(&self, name: &str) -> Result<bool> {
        if name.is_empty() || !name.bytes().all(|byte| byte.is_ascii_lowercase() || byte == b'_') {
            bail!("{name:?} is no plain name for a database");
        }
        let mut connection = self.connect("postgres").await?;
        let there: bool = sqlx::query_scalar("SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)")
            .bind(name)
            .fetch_one(&mut connection)
            .await?;
        if !there {
            connection.execute(AssertSqlSafe(format!("CREATE DATABASE {name}"))).await?;
        }
        Ok(!there)
    }

    /// Stops the server as after a crash: what it had not written is recovered at the next start.
    pub fn crash(&self) {
        stop(&self.programs, &self.folder.join("data"), "immediate");
    }

    /// Starts the stopped server again, on the same port.
    pub fn launch(&self) -> Result<()> {
        let log = self.folder.join("server.log");
        let started = run(program(&self.programs, "pg_ctl")?
            .args(["-w", "-s", "-t", "60", "-o", &format!("-p {} {}", self.port, self.options)])
            .arg("-l")
            .arg(&log)
            .arg("-D")
            .arg(self.folder.join("data"))
            .arg("start"));
        started.with_context(|| {
            let text = fs::read_to_string(&log).unwrap_or_default();
            let last: Vec<&str> = text.lines().rev().take(8).collect();
            format!(
                "the server did not start; the last lines of {}:\n{}",
                log.display(),
                last.into_iter().rev().collect::<Vec<_>>().join("\n")
            )
        })
    }
}

impl Drop for Cluster {
    fn drop(&mut self) {
        if self.guard.is_none() {
            stop(&self.programs, &self.folder.join("data"), "fast");
        }
    }
}

/// Makes the folder and gives it to the account that the server runs as.
fn prepare_folder(folder: &Path) -> Result<()> {
    fs::create_dir_all(folder).with_context(|| format!("making the folder {}", folder.display()))?;
    fs::set_permissions(folder, fs::Permissions::from_mode(0o700))?;
    if let Some(account) = server_account()? {
        chown(folder, Some(account.uid.as_raw()), Some(account.gid.as_raw()))?;
        let entered = command_as(&account, "test").arg("-x").arg(folder).status()?;
        if !entered.success() {
            bail!(
                "the account {} cannot enter {}: choose a folder that it can reach, by the variable HURNIX_HOME",
                account.name,
                folder.display()
            );
        }
    }
    Ok(())
}

/// A folder for a temporary cluster, with the guard that stops its server and removes it.
fn guarded_folder(programs: &Path) -> Result<(PathBuf, Guard)> {
    const STOP_AND_REMOVE: &str =
        "folder=$1; shift; [ ! -f \"$folder/data/postmaster.pid\" ] || \"$@\"; rm -rf \"$folder\"";
    let mut builder = tempfile::Builder::new();
    builder.prefix("hurnix-cluster-").disable_cleanup(true);
    let folder = match test_folder() {
        Some(base) => builder.tempdir_in(base)?,
        None => builder.tempdir()?,
    };
    let folder = folder.path().to_owned();
    let stop = program(programs, "pg_ctl")?;
    let mut last = Command::new("sh");
    last.args(["-c", STOP_AND_REMOVE, "sh"]).arg(&folder).arg(stop.get_program()).args(stop.get_args());
    last.args(["-w", "-s", "-m", "immediate", "stop", "-D"]).arg(folder.join("data"));
    let guard = Guard::over(&last)?;
    prepare_folder(&folder)?;
    Ok((folder, guard))
}

/// The folder of a run of the tests, which removes it.
fn test_folder() -> Option<PathBuf> {
    std::env::var_os("HURNIX_TEST_DIR").map(PathBuf::from)
}

fn initialise(programs: &Path, data: &Path) -> Result<()> {
    run(program(programs, "initdb")?
        .args(["--no-sync", "-A", "trust", "-E", "UTF8", "--locale=C.UTF-8"])
        .args(["-U", SUPERUSER])
        .arg("-D")
        .arg(data))
    .context("making a cluster")
}

/// Within a run of the tests a cluster of each version is made once, and then copied.
fn copy_template(programs: &Path, version: Option<u32>, data: &Path) -> Result<()> {
    let Some(base) = test_folder() else { return Ok(()) };
    let template = base.join(format!("template-{}", version.unwrap_or_default()));
    let lock = fs::File::create(template.with_extension("lock"))?;
    lock.lock()?;
    let made = template.join("data");
    if !made.join("PG_VERSION").exists() {
        prepare_folder(&template)?;
        initialise(programs, &made)?;
    }
    lock.unlock()?;
    copy(&made, data)
}

/// Copies the files of a cluster that stands still.
fn copy(from: &Path, to: &Path) -> Result<()> {
    let mut copy = match server_account()? {
        Some(account) => command_as(&account, "cp"),
        None => Command::new("cp"),
    };
    run(copy.args(["-a", "--reflink=auto"]).arg(from).arg(to)).context("copying a cluster")
}

fn write_access_rules(data: &Path, password_accounts: &[&str]) -> Result<()> {
    let mut rules: String = password_accounts
        .iter()
        .map(|account| format!("host all \"{account}\" 127.0.0.1/32 scram-sha-256\n"))
        .collect();
    rules.push_str("host all all 127.0.0.1/32 trust\nlocal all all trust\nhost replication all 127.0.0.1/32 trust\n");
    let file = data.join("pg_hba.conf");
    fs::write(&file, rules).with_context(|| format!("writing {}", file.display()))
}

fn stop(programs: &Path, data: &Path, mode: &str) {
    if data.join("postmaster.pid").exists()
        && let Ok(mut program) = program(programs, "pg_ctl")
        && let Err(error) = run(program.args(["-w", "-s", "-m", mode, "-D"]).arg(data).arg("stop"))
    {
        // A file left by a killed server names a process that is gone: there is nothing to stop.
        if Command::new("pgrep").arg("-f").arg(data).stdout(Stdio::null()).status().is_ok_and(|found| found.success()) {
            eprintln!("could not stop the server in {}: {error:#}", data.display());
        }
    }
}

fn free_port() -> Result<u16> {
    Ok(TcpListener::bind("127.0.0.1:0")?.local_addr()?.port())
}

/// The account that servers run as, when the caller may not be it.
fn server_account() -> Result<Option<User>> {
    if !Uid::effective().is_root() {
        return Ok(None);
    }
    let account = User::from_name("postgres")?;
    Ok(Some(account.context("there is no account postgres: install Debian's package postgresql")?))
}

/// The folder with PostgreSQL's programs of a version, or of Debian's newest.
fn programs(version: Option<u32>) -> Result<PathBuf> {
    let mut found: Vec<(u32, PathBuf)> = fs::read_dir("/usr/lib/postgresql")
        .context("PostgreSQL is not installed: install Debian's package postgresql")?
        .flatten()
        .filter_map(|entry| Some((entry.file_name().to_str()?.parse().ok()?, entry.path().join("bin"))))
        .filter(|(_, path)| path.join("initdb").exists())
        .collect();
    found.sort();
    if let Some(version) = version {
        found.retain(|(debian, _)| *debian == version);
    }
    if let Some((_, path)) = found.pop() {
        return Ok(path);
    }
    let version = version.context("no version of PostgreSQL below /usr/lib/postgresql")?;
    let servers = std::env::var_os("HURNIX_SERVERS")
        .map_or_else(|| Path::new(env!("CARGO_MANIFEST_DIR")).join("servers/node_modules"), PathBuf::from);
    let path = servers.join(format!("postgresql-{version}/native/bin"));
    if !path.join("initdb").exists() {
        bail!("the programs of PostgreSQL {version} are not in {}: run ./run servers", path.display());
    }
    Ok(path)
}

/// One of PostgreSQL's programs, run as an account that it accepts.
fn program(programs: &Path, name: &str) -> Result<Command> {
    let path = programs.join(name);
    let mut command = match server_account()? {
        Some(account) => command_as(&account, &path.display().to_string()),
        None => Command::new(path),
    };
    command.current_dir("/");
    Ok(command)
}

fn command_as(account: &User, program: &str) -> Command {
    let mut command = Command::new("runuser");
    command.args(["-u", &account.name, "--", program]).current_dir("/");
    command
}

fn run(command: &mut Command) -> Result<()> {
    // Output goes to a file: a server started by the command would keep a pipe open for ever.
    let output = tempfile::NamedTempFile::new()?;
    let status = command.stdin(Stdio::null()).stdout(output.reopen()?).stderr(output.reopen()?).status()?;
    if !status.success() {
        bail!("{command:?} ended with {status}: {}", fs::read_to_string(output.path())?.trim());
    }
    Ok(())
}
