use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::time::Timestamp;

/// A kind of long work of a server.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum OperationKind {
    /// Vacuum, by somebody or by itself.
    Vacuum,
    /// A table written anew: CLUSTER, VACUUM FULL.
    Rewrite,
    /// An index built.
    CreateIndex,
    /// The planner's statistics collected.
    Analyze,
    /// COPY.
    Copy,
    /// A base backup.
    BaseBackup,
}

/// What long work is counted in.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum WorkUnit {
    /// Pages of a table.
    Pages,
    /// Rows.
    Rows,
    /// Bytes.
    Bytes,
}

/// Long work that goes on.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Operation {
    /// Process that does it.
    pub process: i32,
    /// When that process began.
    pub started_at: Timestamp,
    /// What it is.
    pub kind: OperationKind,
    /// Whether the server began it by itself.
    pub is_automatic: bool,
    /// Table that it is of; empty where it is of none, or of another database.
    pub table: String,
    /// Database that it is of; empty for the whole server.
    pub database: String,
    /// Account that began it.
    pub account: String,
    /// What it does just now, by the server's own words.
    pub phase: String,
    /// How far that has come.
    pub done: f64,
    /// Where that ends; nothing where the server does not know.
    pub total: Option<f64>,
    /// What both are counted in.
    pub unit: WorkUnit,
    /// When its statement began.
    pub began_at: Timestamp,
    /// Processes that keep it waiting.
    pub blocked_by: Vec<i32>,
}

/// A table with what the server's own vacuum waits for.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct UpkeepTable {
    /// The table, as `schema.name`.
    pub table: String,
    /// Bytes on disk, as of the server's last count.
    pub size_bytes: f64,
    /// Whether the server looks after it by itself.
    pub is_automatic: bool,
    /// Dead rows, and how many of them make it due.
    pub dead_rows: (f64, f64),
    /// Rows inserted since the last vacuum, and how many of them make it due; nothing where they never do.
    pub inserted_rows: Option<(f64, f64)>,
    /// Rows changed since the planner's statistics were collected, and how many of them make it due.
    pub changed_rows: (f64, f64),
    /// Transactions since its oldest row that is not frozen, and how many of them make it due.
    pub age: (f64, f64),
}

/// Long work of a server as it stands, and what its own vacuum will do next.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Operations {
    /// When, by its clock.
    pub at: Timestamp,
    /// What goes on.
    pub operations: Vec<Operation>,
    /// Tables of the connected database that come next, or may.
    pub tables: Vec<UpkeepTable>,
    /// Processes of its own vacuum that work, and that may.
    pub workers: (i32, i32),
    /// Whether its own vacuum is on.
    pub is_automatic: bool,
}
