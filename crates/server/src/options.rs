use std::net::{IpAddr, SocketAddr};
use std::path::PathBuf;
use std::time::Duration;

use crate::keep::Keep;
use clap::{Args, Parser, ValueEnum};
use hurnix_core::keeping::pace::Cost;
use hurnix_core::readings::figures::{Figures, Rhythm};
use ipnet::IpNet;

/// Events that go to the log when nothing else is said.
pub const LOG: &str = "info,sqlx=error";

/// How to run Hurnix. Every option can be given as a variable of the environment, or in the file of --config, too: the
/// command line counts before the environment, and that before the file.
#[derive(Debug, Clone, Args)]
pub struct ServeOptions {
    /// File with options, in TOML: each by its name here without the dashes before it.
    #[arg(long, env = "HURNIX_CONFIG")]
    pub config: Option<PathBuf>,
    /// Say whether Hurnix could start with these options, and change nothing.
    #[arg(long)]
    pub check: bool,
    /// Connection string of the repository, a PostgreSQL database.
    #[arg(long, env = "HURNIX_REPOSITORY", hide_env_values = true)]
    pub repository: String,
    /// Address to listen on.
    #[arg(long, env = "HURNIX_LISTEN", default_value = "127.0.0.1:8470")]
    pub listen: SocketAddr,
    /// Certificate, in PEM format with those that signed it, by which this port speaks HTTPS. It is read anew when the
    /// file changes.
    #[arg(long, env = "HURNIX_TLS_CERTIFICATE", requires = "tls_key")]
    pub tls_certificate: Option<PathBuf>,
    /// Key of that certificate, in PEM format.
    #[arg(long, env = "HURNIX_TLS_KEY", requires = "tls_certificate")]
    pub tls_key: Option<PathBuf>,
    /// Listen in clear beyond this machine, such as behind a proxy that speaks HTTPS: passwords and sessions can be
    /// read on the way between.
    #[arg(long, env = "HURNIX_ALLOW_PLAIN_HTTP")]
    pub allow_plain_http: bool,
    /// Address or network, such as 10.1.0.0/16, of a proxy in front; may be given several times. Its headers
    /// X-Forwarded-For and X-Forwarded-Proto say then where a request comes from, and whether it came over HTTPS.
    /// Without it all who come through a proxy have one address.
    #[arg(long, env = "HURNIX_TRUSTED_PROXY", value_delimiter = ',', value_parser = network)]
    pub trusted_proxy: Vec<IpNet>,
    /// Connections that one address may hold at a time; a trusted proxy may hold more.
    #[arg(long, env = "HURNIX_CONNECTIONS_PER_ADDRESS", default_value_t = 200, value_parser = clap::value_parser!(u32).range(1..=4_000))]
    pub connections_per_address: u32,
    /// Take folders of Unix sockets for hosts of watched servers.
    #[arg(long, env = "HURNIX_ALLOW_SOCKETS")]
    pub allow_sockets: bool,
    /// File with the key that seals secrets; made on the first start. Keep it apart from the repository's backups.
    #[arg(long, env = "HURNIX_KEY_FILE", default_value = "hurnix.key")]
    pub key_file: PathBuf,
    /// Folder that is watched for bundles: whatever is put there is brought in.
    #[arg(long, env = "HURNIX_INBOX")]
    pub inbox: Option<PathBuf>,
    /// Which events go to the log: off, error, warn, info, debug, trace, or one by module, as in info,sqlx=warn.
    #[arg(long, env = "HURNIX_LOG", default_value = LOG)]
    pub log: String,
    /// How the log is written, to the standard error.
    #[arg(long, env = "HURNIX_LOG_FORMAT", value_enum, default_value_t = LogFormat::Text)]
    pub log_format: LogFormat,
    /// How often things are read and judged.
    #[command(flatten)]
    pub intervals: Intervals,
    /// How long figures are kept.
    #[command(flatten)]
    pub keep: Keep,
}

/// How the log is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq, ValueEnum)]
pub enum LogFormat {
    /// One line of text for each event.
    Text,
    /// One JSON object a line for each event.
    Json,
}

impl ServeOptions {
    /// What is wrong with the options together, and what to do about it.
    ///
    /// # Errors
    /// A certificate without its key; a port that would be reached from other machines in clear.
    pub fn faults(&self) -> Result<(), OptionFault> {
        if self.tls_certificate.is_some() != self.tls_key.is_some() {
            return Err(OptionFault("tls-certificate and tls-key: give both or neither".into()));
        }
        if self.listen.ip().is_loopback() || self.tls_certificate.is_some() || self.allow_plain_http {
            return Ok(());
        }
        Err(OptionFault(format!(
            "--listen {}: passwords and sessions would cross the network in clear. Give --tls-certificate and --tls-key; or, \
             where a proxy in front speaks HTTPS, --allow-plain-http",
            self.listen
        )))
    }
}

/// Options with which Hurnix does not start.
#[derive(Debug, thiserror::Error)]
#[error("{0}")]
pub struct OptionFault(pub String);

/// Intervals alone, for a command that reads nothing itself.
#[derive(Debug, Parser)]
struct OnlyIntervals {
    #[command(flatten)]
    intervals: Intervals,
}

impl Intervals {
    /// Those of the environment, or else those that are meant without any.
    pub fn of_environment() -> Intervals {
        OnlyIntervals::parse_from(["hurnix"]).intervals
    }
}

/// How often things are read and judged.
#[derive(Debug, Clone, Args)]
pub struct Intervals {
    /// Between two looks at the sessions.
    #[arg(long, env = "HURNIX_ACTIVITY", default_value = "1s", value_parser = interval)]
    pub activity: Duration,
    /// Between two writes of what the looks saw.
    #[arg(long, env = "HURNIX_ACTIVITY_WRITE", default_value = "3s", value_parser = interval)]
    pub activity_write: Duration,
    /// Between two readings of statement counters.
    #[arg(long, env = "HURNIX_STATEMENTS", default_value = "1m", value_parser = interval)]
    pub statements: Duration,
    /// Between two readings of counters of the server as a whole: of databases, checkpoints, input and output.
    #[arg(long, env = "HURNIX_DATABASES", default_value = "1m", value_parser = interval)]
    pub databases: Duration,
    /// Between two readings of table and index counters.
    #[arg(long, env = "HURNIX_TABLES", default_value = "10m", value_parser = interval)]
    pub tables: Duration,
    /// Between two readings of tables, columns and indexes themselves.
    #[arg(long, env = "HURNIX_CATALOG", default_value = "10m", value_parser = interval)]
    pub catalog: Duration,
    /// Between two readings of sessions, locks, the log and its replicas in single figures.
    #[arg(long, env = "HURNIX_MEASURES", default_value = "1m", value_parser = interval)]
    pub measures: Duration,
    /// Between two readings of sizes, ages and the state of upkeep.
    #[arg(long, env = "HURNIX_SPACE", default_value = "10m", value_parser = interval)]
    pub space: Duration,
    /// Between two readings of what the server has written to its log.
    #[arg(long, env = "HURNIX_SERVER_LOG", default_value = "10s", value_parser = interval)]
    pub server_log: Duration,
    /// Between two readings of settings, databases and accounts.
    #[arg(long, env = "HURNIX_SETTINGS", default_value = "1h", value_parser = interval)]
    pub settings: Duration,
    /// Between two looks for statements that lack a fresh plan; a few are planned each time.
    #[arg(long, env = "HURNIX_PLANS", default_value = "10m", value_parser = interval)]
    pub plans: Duration,
    /// Width of the buckets in which lasting changes and effects are looked for.
    #[arg(long, env = "HURNIX_BUCKET", default_value = "10m", value_parser = interval)]
    pub bucket: Duration,
    /// Between two rounds of looking for changes, advice and effects.
    #[arg(long, env = "HURNIX_ANALYSIS", default_value = "5m", value_parser = interval)]
    pub analysis: Duration,
    /// Between two looks for what concerns alarms at once: who holds up whom, whether anything is read. The rest is looked
    /// for as often as sizes are read.
    #[arg(long, env = "HURNIX_ALARMS", default_value = "1m", value_parser = interval)]
    pub alarms: Duration,
    /// An alarm closes when its trouble is still gone this long after it was first not seen.
    #[arg(long, env = "HURNIX_ALARM_CLOSES_AFTER", default_value = "5m", value_parser = interval)]
    pub alarm_closes_after: Duration,
    /// The same trouble within this time after closing opens the same alarm again.
    #[arg(long, env = "HURNIX_ALARM_REOPENS_WITHIN", default_value = "1day", value_parser = interval)]
    pub alarm_reopens_within: Duration,
    /// Share of one core that reading may cost a watched server; intervals stretch to keep to it.
    #[arg(long, env = "HURNIX_BUDGET_SHARE", default_value_t = 0.01, value_parser = share)]
    pub budget_share: f64,
    /// KiB a second that reading may take from a watched server; intervals stretch to keep to it.
    #[arg(long, env = "HURNIX_BUDGET_KIB", default_value_t = 256, value_parser = clap::value_parser!(u32).range(1..=1_048_576))]
    pub budget_kib: u32,
    /// How long an instance stays with a process of Hurnix that gives no sign of life any more.
    #[arg(long, env = "HURNIX_LEASE", default_value = "15s", value_parser = interval)]
    pub lease: Duration,
    /// Memory, in MiB, for what was read while the repository is away.
    #[arg(long, env = "HURNIX_MEMORY_MIB", default_value_t = 64, value_parser = clap::value_parser!(u32).range(1..=65_536))]
    pub memory_mib: u32,
}

/// A network, or a single address.
fn network(text: &str) -> Result<IpNet, String> {
    text.parse()
        .or_else(|_| text.parse::<IpAddr>().map(IpNet::from))
        .map_err(|_| "give an address such as 10.1.0.7, or a network such as 10.1.0.0/16".into())
}

/// A share from just above nothing up to a whole.
fn share(text: &str) -> Result<f64, String> {
    match text.parse() {
        Ok(share) if share > 0.0 && share <= 1.0 => Ok(share),
        _ => Err("give a share such as 0.01, which is one per cent; at most 1".into()),
    }
}

/// A length of time such as `10s` or `5m`, from a second to a day.
fn interval(text: &str) -> Result<Duration, String> {
    let length = humantime::parse_duration(text).map_err(|error| format!("{error}; write it like 10s or 5m"))?;
    if length < Duration::from_secs(1) || length > Duration::from_secs(86_400) {
        return Err("it must lie between 1s and 1day".into());
    }
    Ok(length)
}

/// A period may be this many intervals long before it says nothing about any of them.
const LONGEST_PERIOD_INTERVALS: u32 = 5;
/// Short intervals may still be interrupted for this long.
const LONGEST_SHORT_PERIOD: Duration = Duration::from_secs(900);

impl Intervals {
    /// What reading may cost a watched server in a second.
    pub fn budget(&self) -> Cost {
        Cost { seconds: self.budget_share, bytes: f64::from(self.budget_kib) * 1024.0 }
    }

    /// Seconds of the longest period between two readings of a kind that still has figures.
    pub fn longest_period(&self, figures: Figures) -> f64 {
        (self.of(figures) * LONGEST_PERIOD_INTERVALS).max(LONGEST_SHORT_PERIOD).as_secs_f64()
    }

    /// Names of those that an instance may have of its own.
    pub const OWN: [&'static str; 12] = [
        "activity",
        "activity_write",
        "statements",
        "databases",
        "tables",
        "catalog",
        "measures",
        "space",
        "server_log",
        "settings",
        "plans",
        "bucket",
    ];

    /// One of [`Intervals::OWN`].
    pub fn named_mut(&mut self, name: &str) -> Option<&mut Duration> {
        match name {
            "activity" => Some(&mut self.activity),
            "activity_write" => Some(&mut self.activity_write),
            "statements" => Some(&mut self.statements),
            "databases" => Some(&mut self.databases),
            "tables" => Some(&mut self.tables),
            "catalog" => Some(&mut self.catalog),
            "measures" => Some(&mut self.measures),
            "space" => Some(&mut self.space),
            "server_log" => Some(&mut self.server_log),
            "settings" => Some(&mut self.settings),
            "plans" => Some(&mut self.plans),
            "bucket" => Some(&mut self.bucket),
            _ => None,
        }
    }

    /// Between two readings of a kind of figures.
    pub fn of(&self, figures: Figures) -> Duration {
        match figures.rhythm() {
            Rhythm::Activity => self.activity,
            Rhythm::Statements => self.statements,
            Rhythm::Databases => self.databases,
            Rhythm::Tables => self.tables,
            Rhythm::Catalog => self.catalog,
            Rhythm::Measures => self.measures,
            Rhythm::Space => self.space,
            Rhythm::ServerLog => self.server_log,
            Rhythm::Settings => self.settings,
            Rhythm::Plans => self.plans,
        }
    }

    /// Short ones, so that the demo has figures within a minute: as (name of the variable, value).
    pub const DEMO: [(&'static str, &'static str); 16] = [
        ("HURNIX_ACTIVITY", "1s"),
        ("HURNIX_ACTIVITY_WRITE", "2s"),
        ("HURNIX_STATEMENTS", "5s"),
        ("HURNIX_DATABASES", "10s"),
        ("HURNIX_TABLES", "15s"),
        ("HURNIX_CATALOG", "5s"),
        ("HURNIX_SETTINGS", "60s"),
        ("HURNIX_MEASURES", "10s"),
        ("HURNIX_SPACE", "30s"),
        ("HURNIX_SERVER_LOG", "5s"),
        ("HURNIX_PLANS", "10s"),
        ("HURNIX_BUCKET", "10s"),
        ("HURNIX_ANALYSIS", "5s"),
        ("HURNIX_ALARMS", "5s"),
        ("HURNIX_ALARM_CLOSES_AFTER", "30s"),
        // Short intervals cost more than the usual ones may.
        ("HURNIX_BUDGET_SHARE", "0.05"),
    ];
}

#[cfg(test)]
mod tests {
    use clap::Parser;

    use super::*;

    #[derive(Parser)]
    struct Cli {
        #[command(flatten)]
        intervals: Intervals,
    }

    #[test]
    fn every_demo_interval_is_one_that_the_program_takes() {
        let mut arguments = vec!["hurnix".to_owned()];
        for (name, value) in Intervals::DEMO {
            arguments.push(format!("--{}", name.trim_start_matches("HURNIX_").to_lowercase().replace('_', "-")));
            arguments.push(value.into());
        }
        let cli = Cli::try_parse_from(arguments).unwrap();
        assert_eq!(cli.intervals.bucket, Duration::from_secs(10));
    }

    #[test]
    fn intervals_say_what_is_wrong_with_them() {
        assert!(interval("soon").is_err());
        assert!(interval("10ms").unwrap_err().contains("1s"));
        assert_eq!(interval("5m"), Ok(Duration::from_secs(300)));
    }
}
