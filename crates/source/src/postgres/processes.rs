use hurnix_core::readings::server_process::{BackgroundProcess, ServerProcesses, SessionSnapshot};
use sqlx::{AssertSqlSafe, Row};

use super::{PROGRAM, PostgresSource, at, marked};
use crate::ReadProblem;

/// Longer texts are cut.
const MOST_TEXT_LETTERS: usize = 200;

impl PostgresSource {
    /// Processes that serve no client, and sessions with the age of what they may still see.
    pub(super) async fn read_processes(&mut self) -> Result<ServerProcesses, ReadProblem> {
        let sql = format!(
            "SELECT pid, (extract(epoch FROM backend_start) * 1000000)::bigint AS started_us, coalesce(backend_type, '') AS kind,
                wait_event_type || ':' || wait_event AS event, coalesce(datname::text, '') AS database,
                left(coalesce(query, ''), {MOST_TEXT_LETTERS}) AS text,
                greatest(age(backend_xmin), age(backend_xid))::bigint AS transactions
             FROM pg_stat_activity WHERE application_name <> '{PROGRAM}' AND pid <> pg_backend_pid()
               AND (backend_type <> 'client backend' OR backend_xmin IS NOT NULL OR backend_xid IS NOT NULL)
             ORDER BY backend_start, pid"
        );
        let rows = sqlx::query(AssertSqlSafe(marked(&sql))).fetch_all(&mut self.connection).await?;
        let mut found = ServerProcesses { at: self.read_now().await?, ..ServerProcesses::default() };
        for row in &rows {
            let (process, started_at) = (row.get("pid"), at(row.get("started_us")));
            let kind: String = row.get("kind");
            if let Some(transactions) = row.get("transactions") {
                found.snapshots.push(SessionSnapshot { process, started_at, transactions });
            }
            if kind != "client backend" {
                found.background.push(BackgroundProcess {
                    process,
                    started_at,
                    kind,
                    event: row.get("event"),
                    database: row.get("database"),
                    text: row.get("text"),
                });
            }
        }
        found.host = self.read_busy_host().await?;
        Ok(found)
    }
}
