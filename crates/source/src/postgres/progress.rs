use hurnix_core::Named;
use hurnix_core::readings::operation::OperationKind;

use super::Server;

/// One kind of long work: its view, the version that brought it, its name, and how far it has come.
pub(super) struct Work {
    view: &'static str,
    pub(super) since: i32,
    name: &'static str,
    kind: OperationKind,
    /// What it does just now.
    phase: &'static str,
    done: &'static str,
    of: &'static str,
    unit: &'static str,
}

pub(super) const ALL: [Work; 6] = [
    Work {
        view: "vacuum",
        since: 0,
        name: "vacuum",
        kind: OperationKind::Vacuum,
        phase: "phase",
        // Pages are scanned first and vacuumed afterwards, and only those with dead rows in them.
        done: "CASE phase WHEN 'initializing' THEN 0 WHEN 'scanning heap' THEN heap_blks_scanned
                          WHEN 'vacuuming indexes' THEN heap_blks_scanned WHEN 'vacuuming heap' THEN heap_blks_vacuumed
                          ELSE heap_blks_total END",
        of: "heap_blks_total",
        unit: "'pages'",
    },
    Work {
        view: "create_index",
        since: 0,
        name: "making an index",
        kind: OperationKind::CreateIndex,
        phase: "phase",
        // In pages while the table is read, in rows while they are sorted in.
        done: "CASE WHEN tuples_total > 0 THEN tuples_done ELSE blocks_done END",
        of: "CASE WHEN tuples_total > 0 THEN tuples_total ELSE blocks_total END",
        unit: "CASE WHEN tuples_total > 0 THEN 'rows' ELSE 'pages' END",
    },
    Work {
        view: "analyze",
        since: 0,
        name: "statistics",
        kind: OperationKind::Analyze,
        phase: "phase",
        done: "sample_blks_scanned",
        of: "sample_blks_total",
        unit: "'pages'",
    },
    Work {
        view: "cluster",
        since: 0,
        name: "rewriting",
        kind: OperationKind::Rewrite,
        phase: "command || ', ' || phase",
        done: "heap_blks_scanned",
        of: "heap_blks_total",
        unit: "'pages'",
    },
    Work {
        view: "basebackup",
        since: 0,
        name: "base backup",
        kind: OperationKind::BaseBackup,
        phase: "phase",
        done: "backup_streamed",
        of: "backup_total",
        unit: "'bytes'",
    },
    Work {
        view: "copy",
        since: 140_000,
        name: "copying",
        kind: OperationKind::Copy,
        phase: "'copying'",
        done: "bytes_processed",
        of: "bytes_total",
        unit: "'bytes'",
    },
];

impl Work {
    /// Rows of all work of its kind that goes on, as it is read of a server that somebody looks at.
    pub(super) fn live_sql(&self) -> String {
        let Work { view, phase, done, of, unit, .. } = self;
        let (table, database) = if *view == "basebackup" {
            ("''", "''")
        } else {
            (
                "CASE WHEN datname = current_database() THEN coalesce(relid::regclass::text, '') ELSE '' END",
                "datname::text",
            )
        };
        format!(
            "SELECT pid, '{}' AS kind, {table} AS table_name, {database} AS database, {phase} AS phase,
                coalesce(({done})::float8, 0) AS done, ({of})::float8 AS total, {unit} AS unit FROM pg_stat_progress_{view}",
            self.kind.name()
        )
    }
}

impl Server {
    /// Rows of (metric, object, value) for all long work that goes on, one for each kind and table.
    pub(super) fn progress_sql(&self) -> String {
        let there = ALL.iter().filter(|work| self.version_number >= work.since);
        let parts: Vec<String> = there
            .map(|Work { view, name, done, of, .. }| {
                // A base backup is of the whole server. Names are known in the connected database only.
                let table = if *view == "basebackup" {
                    "''".into()
                } else {
                    "CASE WHEN datname = current_database() THEN ' ' || relid::regclass ELSE ' in ' || datname END".to_owned()
                };
                format!(
                    "SELECT 'progress' AS metric, '{name}' || {table} AS object, max(({done})::float8 / nullif({of}, 0)) AS value
                     FROM pg_stat_progress_{view} GROUP BY 2"
                )
            })
            .collect();
        parts.join(" UNION ALL ")
    }
}
