use std::time::{Duration, Instant};

use hurnix_core::readings::counters::MeasureCounters;
use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::host_process::{BusyHost, HostProcess, busy_host, server_cpu_us};
use hurnix_core::readings::metric::Metric;
use sqlx::{AssertSqlSafe, PgConnection, Row};

use super::quote::quote;
use super::{PostgresSource, Server};
use crate::proc::process;
use crate::{Limit, MeasureReading, ReadProblem};

/// The function through which the processor time of processes is read.
const FUNCTION: &str = "hurnix_host_processes";
/// Between two looks at what processes do.
const BETWEEN_LOOKS: Duration = Duration::from_secs(1);

/// Statements that install the function through which the processor time of the host's processes is read, for the
/// server's administrator: of each its file `stat`, which has its name, and neither its arguments nor its
/// environment.
pub fn host_processes_script(account: &str) -> String {
    format!(
        "CREATE FUNCTION public.{FUNCTION}() RETURNS SETOF bytea
LANGUAGE sql SECURITY DEFINER SET search_path = pg_catalog
AS $$ SELECT /* hurnix */ pg_read_binary_file('/proc/' || name || '/stat', 0, 1024, true) FROM pg_ls_dir('/proc') AS name WHERE name ~ '^[0-9]+$' $$;
REVOKE ALL ON FUNCTION public.{FUNCTION}() FROM PUBLIC;
GRANT EXECUTE ON FUNCTION public.{FUNCTION}() TO {};",
        quote(account)
    )
}

impl Server {
    /// Whether the function is there and may be called.
    pub(super) async fn find_host_processes(
        &mut self,
        connection: &mut PgConnection,
        account: &str,
    ) -> Result<(), sqlx::Error> {
        let callable: Option<bool> = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT /* hurnix */ has_function_privilege(to_regprocedure('public.{FUNCTION}()'), 'EXECUTE')"
        )))
        .fetch_one(connection)
        .await?;
        self.has_host_processes = callable.unwrap_or(false);
        if !self.has_host_processes {
            self.limits.push(Limit {
                figures: "host processes".into(),
                concerns: vec![Figures::Processes],
                in_whole: true,
                by_version: false,
                reason: "How much of the host's processor time this server takes, and what else runs there, is not seen: the server lets only superusers read the kernel's figures.".into(),
                remedy: host_processes_script(account),
            });
        }
        Ok(())
    }
}

impl PostgresSource {
    /// Processor time that the server's processes have used.
    pub(super) async fn read_server_cpu(&mut self) -> Result<Option<MeasureReading>, ReadProblem> {
        if !self.server.has_host_processes {
            return Ok(None);
        }
        let mut reading = self.head("NULL::timestamptz").await?;
        let (all, head) = self.look_at_processes().await?;
        if let Some(used) = server_cpu_us(&all, head) {
            reading.counted.rows.push(((Metric::CpuOfServer, String::new()), MeasureCounters { counted: used }));
        }
        Ok(Some(reading))
    }

    /// What the host's processes do within a second; nothing where they are not seen.
    pub(super) async fn read_busy_host(&mut self) -> Result<Option<BusyHost>, ReadProblem> {
        if !self.server.has_host_processes {
            return Ok(None);
        }
        let (before, _) = self.look_at_processes().await?;
        let begun = Instant::now();
        tokio::time::sleep(BETWEEN_LOOKS).await;
        let (after, head) = self.look_at_processes().await?;
        Ok(Some(busy_host(&before, &after, begun.elapsed().as_secs_f64(), head)))
    }

    /// All processes, with the number of the server's first one: the one that started the session that asks.
    async fn look_at_processes(&mut self) -> Result<(Vec<HostProcess>, i32), ReadProblem> {
        let sql = format!(
            "SELECT /* hurnix */ pg_backend_pid() AS own, stat FROM public.{FUNCTION}() AS stat WHERE stat IS NOT NULL"
        );
        let rows = sqlx::query(AssertSqlSafe(sql)).fetch_all(&mut self.connection).await?;
        let own: i32 = rows.first().map_or(0, |row| row.get("own"));
        let told = |row: &sqlx::postgres::PgRow| process(&String::from_utf8_lossy(row.get::<&[u8], _>("stat")));
        let all: Vec<HostProcess> = rows.iter().filter_map(told).collect();
        let head = all.iter().find(|one| one.process == own).map_or(0, |one| one.parent);
        Ok((all, head))
    }
}
