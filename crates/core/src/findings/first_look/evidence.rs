use crate::changes::advice::AdviceKind;
use crate::findings::index_watch::IndexUse;
use crate::findings::lasting_change::{LastingChange, Measured, Subject};
use crate::instance::marker::{Marker, MarkerKind};
use crate::readings::catalog::Catalog;
use crate::readings::counters::{
    CheckpointCounters, Counters, DatabaseCounters, IndexCounters, StatementCounters, TableCounters,
};
use crate::readings::difference::Snapshot;
use crate::readings::figures::{Availability, Figures};
use crate::readings::inventory::Inventory;
use crate::readings::load::Load;
use crate::readings::metric::Metric;
use crate::readings::server_log::LogKind;
use crate::readings::wait_kind::WaitKind;
use crate::time::{SECONDS_PER_DAY, Timestamp, Window};

/// How long it takes to know what comes back each week.
const TWO_WEEKS_SECONDS: f64 = 14.0 * SECONDS_PER_DAY;

/// Everything that is known of an instance and that a first look goes through.
#[derive(Debug, Clone, Default)]
pub struct Evidence {
    /// Now.
    pub at: Timestamp,
    /// Account that Hurnix watches through.
    pub account: String,
    /// Database that it is connected to.
    pub database: String,
    /// What is kept of the instance.
    pub history: History,
    /// How each kind of figures stands.
    pub availabilities: Vec<FiguresAvailability>,
    /// What happened in the last days, in order of time.
    pub markers: Vec<Marker>,
    /// Settings in force.
    pub settings: Vec<SettingInForce>,
    /// Tables and indexes.
    pub catalog: Option<Catalog>,
    /// Databases and accounts.
    pub inventory: Option<Inventory>,
    /// Newest single figures.
    pub measures: Vec<NewestValue>,
    /// What tables counted since their counters were last reset.
    pub tables: Option<Snapshot<u32, TableCounters>>,
    /// Likewise indexes.
    pub indexes: Option<Snapshot<u32, IndexCounters>>,
    /// How long indexes were watched, here and on servers that have the same ones.
    pub index_use: IndexUse,
    /// Likewise databases.
    pub databases: Option<Snapshot<u32, DatabaseCounters>>,
    /// What checkpoints did over the last day.
    pub checkpoints: Checkpoints,
    /// What happened lately.
    pub lately: Lately,
    /// What became more for good and still is, of statements and of the server.
    pub grown: Vec<Grown>,
    /// Advice that waits for a decision.
    pub advice: Vec<OpenAdvice>,
    /// Daily values of what grows, over the history.
    pub trends: Vec<Trend>,
}

/// What checkpoints did.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Checkpoints {
    /// Their counters, over so many seconds.
    pub counted: CheckpointCounters,
    /// Seconds in which they were counted.
    pub seconds: f64,
}

/// What is kept of an instance.
#[derive(Debug, Clone, Default)]
pub struct History {
    /// Oldest figures kept.
    pub first: Option<Timestamp>,
    /// Newest figures.
    pub last: Option<Timestamp>,
    /// Oldest entry kept of the server's log: it may have been written before anybody looked.
    pub log_first: Option<Timestamp>,
    /// Why nothing is read just now; nothing while it is.
    pub problem: Option<String>,
    /// Whether nothing arrived lately, although reading is not known to fail.
    pub is_silent: bool,
    /// How reading went on each of the last days, in order of time.
    pub days: Vec<Day>,
    /// Days that figures of statements are kept: as read, in ten minutes, in hours.
    pub kept_days: [u32; 3],
}

/// How reading went on a day.
#[derive(Debug, Clone, Copy, Default, PartialEq)]
pub struct Day {
    /// Its start.
    pub at: Timestamp,
    /// Readings made.
    pub read: i64,
    /// Readings that the server refused or did not answer in time.
    pub refused: i64,
    /// Readings that were due and not made.
    pub missed: i64,
    /// Readings that were lost.
    pub dropped: i64,
    /// Hours of it in which anything was read.
    pub hours: i64,
    /// Hours that it has.
    pub hours_in_all: i64,
}

/// How a kind of figures stands.
#[derive(Debug, Clone, PartialEq)]
pub struct FiguresAvailability {
    /// The kind.
    pub figures: Figures,
    /// How it stands.
    pub availability: Availability,
    /// Why something is missing, with what removes that.
    pub obstacles: Vec<(String, String)>,
}

/// A setting in force.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SettingInForce {
    /// Its name.
    pub name: String,
    /// Its value in its unit.
    pub value: Option<String>,
    /// Its unit.
    pub unit: Option<String>,
    /// Where the value comes from.
    pub source: String,
    /// Whether another value waits for a restart.
    pub pending_restart: bool,
}

impl SettingInForce {
    /// Its value with its unit.
    pub fn told(&self) -> String {
        let value = self.value.as_deref().unwrap_or("not shown");
        match self.unit.as_deref() {
            None => value.to_owned(),
            // A unit such as 8kB is a factor.
            Some(unit) if unit.starts_with(|sign: char| sign.is_ascii_digit()) => format!("{value} × {unit}"),
            Some(unit) => format!("{value} {unit}"),
        }
    }
}

/// The newest value of a metric of an object.
#[derive(Debug, Clone, PartialEq)]
pub struct NewestValue {
    /// What was measured.
    pub metric: Metric,
    /// Of what; empty for the server as a whole.
    pub object: String,
    /// In the metric's unit.
    pub value: f64,
}

/// What happened in a window that ends now.
#[derive(Debug, Clone)]
pub struct Lately {
    /// The window.
    pub window: Window,
    /// Load.
    pub load: Load,
    /// The sessions that were not idle when last looked at.
    pub sessions: Vec<LookedAt>,
    /// Families of statements, the costliest first.
    pub statements: Vec<CostlyFamily>,
    /// What all families together took.
    pub all_statements: StatementCounters,
    /// Seconds of the window in which statements were counted.
    pub statement_seconds: f64,
    /// What all databases together did.
    pub databases: DatabaseCounters,
    /// Seconds of the window in which databases were counted.
    pub database_seconds: f64,
    /// Bytes that families of statements wrote to temporary files, by the server's log, which also tells of those
    /// that were broken off.
    pub spills: Vec<Spill>,
    /// Seconds of the log that the lines are of.
    pub log_seconds: f64,
    /// Lines of the server's log: kind, number, and what their figures add up to; nothing where it is not read.
    pub log: Option<Vec<(LogKind, i64, f64)>>,
}

impl Default for Lately {
    fn default() -> Self {
        Lately {
            window: Window { from: Timestamp(0), to: Timestamp(1) },
            load: Load::default(),
            sessions: Vec::new(),
            statements: Vec::new(),
            all_statements: StatementCounters::default(),
            statement_seconds: 0.0,
            databases: DatabaseCounters::default(),
            database_seconds: 0.0,
            spills: Vec::new(),
            log_seconds: 0.0,
            log: None,
        }
    }
}

/// A session that was not idle when last looked at.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct LookedAt {
    /// Process number.
    pub process: i32,
    /// When the process began.
    pub started_at: Timestamp,
    /// What it spends its time on; nothing when it holds a transaction open without working.
    pub wait_kind: Option<WaitKind>,
    /// Account that signed in.
    pub account: String,
    /// What the program calls itself.
    pub program: String,
    /// Database that it works in.
    pub database: String,
    /// When its transaction began.
    pub transaction_started_at: Option<Timestamp>,
    /// Processes that hold the lock it waits for.
    pub blocked_by: Vec<i32>,
}

/// What a family of statements cost.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct CostlyFamily {
    /// Number of the family.
    pub family_id: i64,
    /// Its text.
    pub text: String,
    /// What it cost.
    pub counters: StatementCounters,
}

/// What a family of statements wrote to temporary files.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Spill {
    /// Number of the family.
    pub family_id: i64,
    /// Its text.
    pub text: String,
    /// How much.
    pub bytes: f64,
}

/// Something of a statement or of the server that became more for good, and still is.
#[derive(Debug, Clone, PartialEq)]
pub struct Grown {
    /// What.
    pub subject: Subject,
    /// Text of the statement; empty for the server.
    pub text: String,
    /// The change.
    pub change: LastingChange,
    /// Whether somebody said that it is no trouble.
    pub is_settled: bool,
}

/// Advice that waits for a decision.
#[derive(Debug, Clone, PartialEq)]
pub struct OpenAdvice {
    /// Number.
    pub advice_id: i64,
    /// Its kind.
    pub kind: AdviceKind,
    /// What it is about.
    pub subject: String,
    /// Families that it would help; empty where it is of none.
    pub families: Vec<i64>,
    /// When it was last given by what ran just then.
    pub given_at: Timestamp,
    /// Predicted effect, in seconds per day.
    pub saved_seconds_per_day: f64,
}

/// Daily values of one metric of one object.
#[derive(Debug, Clone, PartialEq)]
pub struct Trend {
    /// What was measured.
    pub metric: Metric,
    /// Of what.
    pub object: String,
    /// Values in order of time.
    pub values: Vec<(Timestamp, f64)>,
}

impl Evidence {
    /// The newest value of a metric of the server as a whole.
    pub fn measured(&self, metric: Metric) -> Option<f64> {
        self.measured_of(metric).find(|(object, _)| object.is_empty()).map(|(_, value)| value)
    }

    /// The newest values of a metric, by object.
    pub fn measured_of(&self, metric: Metric) -> impl Iterator<Item = (&str, f64)> {
        let of = self.measures.iter().filter(move |measured| measured.metric == metric);
        of.map(|measured| (measured.object.as_str(), measured.value))
    }

    /// The newest values of a metric, the largest first.
    pub fn largest_of(&self, metric: Metric) -> Vec<(&str, f64)> {
        let mut values: Vec<(&str, f64)> = self.measured_of(metric).collect();
        values.sort_by(|a, b| b.1.total_cmp(&a.1));
        values
    }

    /// Whether two weeks were seen before a moment. Until then a Monday is more than the Sunday before it, and nobody can
    /// say more than that.
    pub fn knows_the_week_before(&self, at: Timestamp) -> bool {
        self.history.first.is_some_and(|first| at.seconds_since(first) >= TWO_WEEKS_SECONDS)
    }

    /// What of a kind became more, and nobody has settled.
    pub fn grown_of(&self, measured: Measured) -> impl Iterator<Item = &Grown> {
        self.grown.iter().filter(move |grown| grown.subject.measured == measured && !grown.is_settled)
    }

    /// A setting in force.
    pub fn setting(&self, name: &str) -> Option<&SettingInForce> {
        self.settings.iter().find(|setting| setting.name == name)
    }

    /// The value of a setting as it is written.
    pub fn setting_value(&self, name: &str) -> Option<&str> {
        self.setting(name)?.value.as_deref()
    }

    /// The value of a setting that is a number, in its unit.
    pub fn setting_number(&self, name: &str) -> Option<f64> {
        self.setting_value(name)?.parse().ok()
    }

    /// The value of a setting that is a size, in bytes.
    pub fn setting_bytes(&self, name: &str) -> Option<f64> {
        let unit = self.setting(name)?.unit.as_deref()?;
        let digits = unit.find(|sign: char| !sign.is_ascii_digit()).unwrap_or(unit.len());
        let factor = if digits == 0 { 1.0 } else { unit[..digits].parse().ok()? };
        let unit_bytes = match &unit[digits..] {
            "B" => 1.0,
            "kB" => 1024.0,
            "MB" => 1024.0 * 1024.0,
            "GB" => 1024.0 * 1024.0 * 1024.0,
            _ => return None,
        };
        Some(self.setting_number(name)? * factor * unit_bytes)
    }

    /// What happened of these sorts.
    pub fn markers_of<'a>(&'a self, kinds: &'a [MarkerKind]) -> impl Iterator<Item = &'a Marker> {
        self.markers.iter().filter(move |marker| kinds.contains(&marker.kind))
    }

    /// Lines of a kind in the server's log lately.
    pub fn logged(&self, kind: LogKind) -> i64 {
        let lines = self.lately.log.iter().flatten().filter(|(of, _, _)| *of == kind);
        lines.map(|(_, times, _)| times).sum()
    }

    /// Since when counters of a snapshot count: since they were reset, since a process of the server crashed, or else
    /// since it was started.
    pub fn counted_since<K, C: Counters>(snapshot: &Snapshot<K, C>) -> Timestamp {
        let started = snapshot.server_started_at;
        // All processes begin within this after the server itself.
        let crashed = snapshot.crashed_at.filter(|crashed| crashed.seconds_since(started) > 60.0);
        let since = snapshot.reset_at.unwrap_or(started);
        crashed.map_or(since, |crashed| crashed.max(since))
    }

    /// Daily values of a metric of an object.
    pub fn trend(&self, metric: Metric, object: &str) -> Option<&[(Timestamp, f64)]> {
        let trend = self.trends.iter().find(|trend| trend.metric == metric && trend.object == object)?;
        Some(&trend.values)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn sizes_of_settings_are_told_in_bytes() {
        let setting = |name: &str, value: &str, unit: Option<&str>| SettingInForce {
            name: name.into(),
            value: Some(value.into()),
            unit: unit.map(str::to_owned),
            ..SettingInForce::default()
        };
        let evidence = Evidence {
            settings: vec![
                setting("shared_buffers", "1024", Some("8kB")),
                setting("work_mem", "64", Some("kB")),
                setting("max_connections", "100", None),
                setting("checkpoint_timeout", "300", Some("s")),
            ],
            ..Evidence::default()
        };
        assert_eq!(evidence.setting_bytes("shared_buffers"), Some(8.0 * 1024.0 * 1024.0));
        assert_eq!(evidence.setting_bytes("work_mem"), Some(65_536.0));
        assert_eq!(evidence.setting_number("max_connections"), Some(100.0));
        assert_eq!((evidence.setting_bytes("checkpoint_timeout"), evidence.setting_bytes("none")), (None, None));
        assert_eq!(evidence.settings[0].told(), "1024 × 8kB");
        assert_eq!(evidence.settings[3].told(), "300 s");
    }
}
