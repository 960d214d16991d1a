use crate::findings::index_watch::IndexUse;
use crate::readings::catalog::Catalog;
use crate::readings::counters::IndexCounters;
use crate::readings::difference::Snapshot;
use crate::time::Timestamp;

/// What advice for one database rests on.
#[derive(Debug, Clone, Copy)]
pub struct Evidence<'a> {
    /// Its tables and indexes.
    pub catalog: &'a Catalog,
    /// What its families cost lately.
    pub families: &'a [FamilyCost],
    /// Time of all statements of the instance, in seconds per day.
    pub instance_seconds_per_day: f64,
    /// By which factor costs of its statements agree with the planner's; nothing where too few plans were read.
    pub cost_factor: Option<f64>,
    /// How often its indexes were read, and since when they were watched; nothing where that is not followed.
    pub index_use: Option<IndexUseSeen<'a>>,
}

/// What is known of the use of a database's indexes.
#[derive(Debug, Clone, Copy)]
pub struct IndexUseSeen<'a> {
    /// Now, by the watched server's clock.
    pub at: Timestamp,
    /// Reads of each index, as the server counts them.
    pub reads: &'a Snapshot<u32, IndexCounters>,
    /// How long each was watched, here and on every server that has the same ones.
    pub watched: &'a IndexUse,
    /// Whether the server is a replica: what it has is decided on its primary.
    pub is_replica: bool,
}

/// A family's cost over the window that serves as evidence.
#[derive(Debug, Clone, PartialEq)]
pub struct FamilyCost {
    /// The family's number.
    pub family: i64,
    /// A statement of it, with parameters in place of literals.
    pub text: String,
    /// Calls per day, by what was counted in days, not in the window alone.
    pub calls_per_day: f64,
    /// Calls in the window.
    pub calls: i64,
    /// Time they took, in microseconds.
    pub exec_us: i64,
    /// Rows they returned or changed.
    pub rows: i64,
    /// Pages found in cache.
    pub hit_pages: i64,
    /// Pages read from outside it.
    pub read_pages: i64,
}
