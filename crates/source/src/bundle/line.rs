use std::borrow::Cow;
use std::collections::BTreeMap;

use chrono::{DateTime, Utc};
use hurnix_core::instance::marker::MarkerKind;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::activity::AwaitedLock;
use hurnix_core::readings::figures::{Figures, Shape};
use hurnix_core::readings::server_log::LogKind;
use hurnix_core::{Named, Timestamp, WaitKind};
use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};

/// One line of a bundle. The first is the head; a family stands before the lines that refer to it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(tag = "line", rename_all = "snake_case")]
pub enum Line {
    /// What the bundle is of.
    Bundle(Head),
    /// A family of statements.
    Family(Family),
    /// What was counted in a period, or in all periods of a bucket.
    Period(Period),
    /// A look at the sessions.
    Sample(Sample),
    /// Looks at the sessions, summed up over a bucket.
    Load(Load),
    /// Single figures at a moment, or summed up over a bucket.
    Measures(Measures),
    /// A setting, since when it was seen.
    Setting(Setting),
    /// Something that happened.
    Marker(Marker),
    /// Tables, columns and indexes.
    Catalog(Catalog),
    /// Databases, accounts, and who may sign in.
    Inventory(Inventory),
    /// A plan of a family.
    Plan(Plan),
    /// What the server wrote to its log.
    Log(LogEntry),
}

impl Line {
    /// All moments that it tells, with their fields.
    pub fn moments(&self) -> Vec<(&'static str, DateTime<Utc>)> {
        let some = |field, moment: &Option<DateTime<Utc>>| moment.map(|moment| (field, moment));
        match self {
            Line::Bundle(head) => vec![("from", head.from), ("to", head.to)],
            Line::Family(_) => Vec::new(),
            Line::Period(period) => [
                Some(("to", period.to)),
                some("from", &period.from),
                some("server_started_at", &period.server_started_at),
                some("reset_at", &period.reset_at),
            ]
            .into_iter()
            .flatten()
            .collect(),
            Line::Sample(sample) => {
                let sessions = sample.active.iter().flat_map(|session| {
                    [
                        Some(("started_at", session.started_at)),
                        some("transaction_started_at", &session.transaction_started_at),
                        some("statement_started_at", &session.statement_started_at),
                    ]
                });
                sessions.flatten().chain([("at", sample.at)]).collect()
            }
            Line::Load(load) => vec![("to", load.to)],
            Line::Measures(measures) => vec![("to", measures.to)],
            Line::Setting(setting) => vec![("seen_at", setting.seen_at)],
            Line::Marker(marker) => vec![("at", marker.at)],
            Line::Catalog(line) => vec![("catalog.at", moment(line.catalog.at))],
            Line::Inventory(line) => vec![("inventory.at", moment(line.inventory.at))],
            Line::Plan(plan) => vec![("first_read_at", plan.first_read_at), ("read_at", plan.read_at)],
            Line::Log(entry) => vec![("at", entry.at)],
        }
    }
}

fn moment(at: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.0).unwrap_or(DateTime::<Utc>::MAX_UTC)
}

/// What a bundle is of.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Head {
    /// Version of the format: 1.
    pub version: u32,
    /// Label of the instance.
    pub instance: String,
    /// What was watched, such as `postgres`.
    pub engine: String,
    /// Begin of the time that it covers; not part of it.
    pub from: DateTime<Utc>,
    /// End of that time; part of it.
    pub to: DateTime<Utc>,
}

/// A family of statements: those that differ in literals only.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Family {
    /// What other lines of the bundle call it.
    pub family: String,
    /// Its text. Literals may be left in it: they are folded when it is brought in.
    pub text: String,
    /// Comment kept beside it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub tag: Option<String>,
    /// A statement of it with parameters in place of literals, if the server keeps it so.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sample: Option<String>,
}

/// What was counted in a period that ended with a snapshot, or in all periods of a bucket.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Period {
    /// Which counters.
    #[schemars(with = "CountedFigures")]
    pub counted: Figures,
    /// `fine` for one period, `ten_minutes` or `hour` for a bucket.
    #[schemars(with = "DetailName")]
    pub detail: Detail,
    /// When the snapshot was taken, or the end of the bucket.
    pub to: DateTime<Utc>,
    /// When the snapshot before was taken, or the start of the first period of the bucket. Left out when
    /// nothing is known of the time before the snapshot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub from: Option<DateTime<Utc>>,
    /// Why nothing is known of the time before the snapshot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reason: Option<String>,
    /// When the server was started; of a snapshot.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub server_started_at: Option<DateTime<Utc>>,
    /// When the counters were reset; of a snapshot, where known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub reset_at: Option<DateTime<Utc>>,
    /// How long reading the snapshot took, in milliseconds.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub read_ms: Option<f32>,
    /// Seconds of all periods of the bucket.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub seconds: Option<f64>,
    /// Periods in the bucket.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub periods: Option<i64>,
    /// What each object did; those that did nothing are left out.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rows: Vec<Row>,
}

/// What one object did.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Row {
    /// Of statements: the family.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<String>,
    /// Of statements: the account that ran it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub account: Option<String>,
    /// Of statements: the database that it ran in.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
    /// Of what goes by a number: the server's number of it. 0 for the server as a whole.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub number: Option<u32>,
    /// Of what goes by a name: that.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub name: Option<String>,
    /// Whether this is only what could be seen, and there may have been more.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub lower_bound: bool,
    /// The figures by name; those left out are zero.
    pub figures: BTreeMap<String, i64>,
}

/// A look at the sessions.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Sample {
    /// When.
    pub at: DateTime<Utc>,
    /// All client sessions, idle ones included.
    pub sessions: i32,
    /// Those that were not idle.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub active: Vec<Session>,
}

/// What a session belongs to.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Who {
    /// Account that signed in.
    pub account: String,
    /// What the program calls itself.
    pub program: String,
    /// Address of the client; empty for local sessions.
    pub client: String,
    /// Database that it works in.
    pub database: String,
}

/// A session that was not idle.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Session {
    /// Process number.
    pub process: i32,
    /// When the process began.
    pub started_at: DateTime<Utc>,
    /// What it spends its time on; left out when it holds a transaction open without working.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<WaitKindName>")]
    pub wait_kind: Option<WaitKind>,
    /// The server's own name of the wait.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub event: Option<String>,
    /// Family of its statement.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<String>,
    /// Whose it is.
    pub who: Who,
    /// When its transaction began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub transaction_started_at: Option<DateTime<Utc>>,
    /// When its statement began.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement_started_at: Option<DateTime<Utc>>,
    /// Processes that hold the lock that it waits for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub blocked_by: Vec<i32>,
    /// That lock.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[schemars(with = "Option<Lock>")]
    pub awaited: Option<AwaitedLock>,
}

/// Looks at the sessions, summed up over a bucket.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Load {
    /// `ten_minutes` or `hour`.
    #[schemars(with = "DetailName")]
    pub detail: Detail,
    /// End of the bucket.
    pub to: DateTime<Utc>,
    /// Looks in it.
    pub samples: i64,
    /// Connected sessions, summed over the looks.
    pub sessions: i64,
    /// Busy sessions by what they are told apart by.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rows: Vec<Busy>,
}

/// Busy sessions that are alike, summed over the looks of a bucket.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Busy {
    /// What they spend their time on.
    #[schemars(with = "WaitKindName")]
    pub wait_kind: WaitKind,
    /// The server's own name of the wait.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub event: Option<String>,
    /// Family of their statement.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<String>,
    /// Whose they are.
    pub who: Who,
    /// The table whose lock they waited for; empty where it is not known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub awaited_table: Option<String>,
    /// How many, summed over the looks.
    pub busy: i64,
}

/// Single figures at a moment, or summed up over a bucket.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Measures {
    /// Kind of figures.
    #[schemars(with = "MeasuredFigures")]
    pub figures: Figures,
    /// `fine` for one moment, `ten_minutes` or `hour` for a bucket.
    #[schemars(with = "DetailName")]
    pub detail: Detail,
    /// The moment, or the end of the bucket.
    pub to: DateTime<Utc>,
    /// The values.
    pub values: Vec<Value>,
}

/// One metric of one object: its value at a moment, or the sum, the least and the most of its values in a bucket.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Value {
    /// Name of the metric.
    pub metric: String,
    /// Of what; empty for the server as a whole.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub object: String,
    /// The value, or the sum of the values.
    pub value: f64,
    /// Readings in the bucket.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub readings: Option<i64>,
    /// The least of the values in the bucket.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub least: Option<f64>,
    /// The most of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<f64>,
}

/// A setting, since when it was seen.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Setting {
    /// When it was first seen like this.
    pub seen_at: DateTime<Utc>,
    /// Its name.
    pub name: String,
    /// Its value in its unit; left out when the account may not see it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// Its unit.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub unit: Option<String>,
    /// Where the value comes from.
    pub source: String,
    /// Whether another value waits for a restart.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    pub pending_restart: bool,
}

/// Something that happened.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Marker {
    /// When.
    pub at: DateTime<Utc>,
    /// What sort of thing.
    #[schemars(with = "MarkerKindName")]
    pub kind: MarkerKind,
    /// One line about it.
    pub text: String,
    /// Who noted it; left out when it was found.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub noted_by: Option<String>,
}

/// Tables, columns and indexes of the connected database, the newest known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Catalog {
    /// The catalog, as the core describes it; times in microseconds since 1970.
    #[schemars(with = "serde_json::Map<String, serde_json::Value>")]
    pub catalog: hurnix_core::readings::catalog::Catalog,
}

/// Databases, tablespaces, accounts, who may sign in from where, and files; the newest known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Inventory {
    /// The inventory, as the core describes it; times in microseconds since 1970.
    #[schemars(with = "serde_json::Map<String, serde_json::Value>")]
    pub inventory: hurnix_core::readings::inventory::Inventory,
}

/// A plan of a family.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct Plan {
    /// The family.
    pub family: String,
    /// When it was first read.
    pub first_read_at: DateTime<Utc>,
    /// When it was last read.
    pub read_at: DateTime<Utc>,
    /// The plan as the server writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub text: Option<String>,
    /// Why there is none.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub absent: Option<String>,
    /// The database that it was made in, where that was noted.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub database: Option<String>,
}

/// A line of the server's log, or several that say the same.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub struct LogEntry {
    /// When the first of them was written.
    pub at: DateTime<Utc>,
    /// What it tells.
    #[schemars(with = "LogKindName")]
    pub kind: LogKind,
    /// The server's own word for how grave it is.
    pub severity: String,
    /// State by the SQL standard; `00000` where nothing went wrong.
    pub state: String,
    /// What it says.
    pub message: String,
    /// More of it.
    #[serde(default, skip_serializing_if = "String::is_empty")]
    pub detail: String,
    /// Family of the statement that it is about.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub family: Option<String>,
    /// That statement with its literals. It is taken only by an instance that keeps them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub statement: Option<String>,
    /// Whose session it was.
    pub who: Who,
    /// Process number.
    pub process: i32,
    /// What the server calls the session; with `number` it tells lines apart.
    pub session: String,
    /// Number of the line within its session.
    pub number: i64,
    /// How many lines they are.
    pub times: i64,
    /// Seconds or bytes, as the kind says, of all of them.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<f64>,
}

/// Describes a closed set in the schema by the names of its members.
macro_rules! described {
    ($($(#[$doc:meta])* $name:ident as $told:literal: $members:expr;)+) => {$(
        $(#[$doc])*
        struct $name;

        impl JsonSchema for $name {
            fn schema_name() -> Cow<'static, str> {
                $told.into()
            }

            fn json_schema(_: &mut SchemaGenerator) -> Schema {
                let names: Vec<&str> = $members.map(Named::name).collect();
                json_schema!({ "type": "string", "enum": names })
            }
        }
    )+};
}

described! {
    /// What an entry of a log tells.
    LogKindName as "LogKind": LogKind::all();
    MarkerKindName as "MarkerKind": MarkerKind::all();
    /// Levels of detail; days are summed up from hours that are brought in.
    DetailName as "Detail": Detail::all().filter(|detail| *detail != Detail::Day);
    /// What a session spends its time on.
    WaitKindName as "WaitKind": WaitKind::all();
    /// Kinds of single figures.
    MeasuredFigures as "MeasuredFigures": Figures::of_shape(Shape::Measures);
    /// Kinds of counters.
    CountedFigures as "Counted": Figures::of_shape(Shape::Counters);
}

/// How the schema describes a lock.
#[derive(JsonSchema)]
#[schemars(rename = "AwaitedLock", deny_unknown_fields)]
#[allow(dead_code, reason = "stands for a type of the core in the schema")]
struct Lock {
    /// How it is to be held, by the server's own name.
    mode: String,
    /// What sort of thing it is on, by the server's own name.
    kind: String,
    /// The table concerned; empty where that is not known.
    object: String,
}
