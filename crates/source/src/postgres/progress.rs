use super::Server;

/// One kind of long work: its view, the version that brought it, its name, and how far it has come.
struct Work {
    view: &'static str,
    since: i32,
    name: &'static str,
    done: &'static str,
    of: &'static str,
}

const ALL: [Work; 6] = [
    Work {
        view: "vacuum",
        since: 0,
        name: "vacuum",
        // Pages are scanned first and vacuumed afterwards, and only those with dead rows in them.
        done: "CASE phase WHEN 'initializing' THEN 0 WHEN 'scanning heap' THEN heap_blks_scanned
                          WHEN 'vacuuming indexes' THEN heap_blks_scanned WHEN 'vacuuming heap' THEN heap_blks_vacuumed
                          ELSE heap_blks_total END",
        of: "heap_blks_total",
    },
    Work {
        view: "create_index",
        since: 0,
        name: "making an index",
        // In pages while the table is read, in rows while they are sorted in.
        done: "CASE WHEN tuples_total > 0 THEN tuples_done ELSE blocks_done END",
        of: "CASE WHEN tuples_total > 0 THEN tuples_total ELSE blocks_total END",
    },
    Work { view: "analyze", since: 0, name: "statistics", done: "sample_blks_scanned", of: "sample_blks_total" },
    Work { view: "cluster", since: 0, name: "rewriting", done: "heap_blks_scanned", of: "heap_blks_total" },
    Work { view: "basebackup", since: 0, name: "base backup", done: "backup_streamed", of: "backup_total" },
    Work { view: "copy", since: 140_000, name: "copying", done: "bytes_processed", of: "bytes_total" },
];

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
