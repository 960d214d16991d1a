use hurnix_core::Timestamp;
use hurnix_core::readings::figures::Figures;
use hurnix_core::time::MICROS_PER_SECOND;
use sqlx::{AssertSqlSafe, PgConnection};

use super::quote::quote;
use super::{PostgresSource, Server};
use crate::proc::{FILES, HostFigures};
use crate::{Limit, MeasureReading, ReadProblem};

/// The function through which files of the host are read: a fixed list, and nothing else.
const FUNCTION: &str = "hurnix_host_file";

/// Statements that install the function through which files of the host are read, for the server's administrator.
pub fn host_script(account: &str) -> String {
    let files: Vec<String> = FILES.iter().map(|file| format!("'{file}'")).collect();
    format!(
        "CREATE FUNCTION public.{FUNCTION}(file text) RETURNS text
LANGUAGE sql SECURITY DEFINER SET search_path = pg_catalog
AS $$ SELECT /* hurnix */ pg_read_file('/proc/' || file, 0, 1048576) WHERE file IN ({}) $$;
REVOKE ALL ON FUNCTION public.{FUNCTION}(text) FROM PUBLIC;
GRANT EXECUTE ON FUNCTION public.{FUNCTION}(text) TO {};",
        files.join(", "),
        quote(account)
    )
}

impl Server {
    /// Whether the function is there and may be called.
    pub(super) async fn find_host(&mut self, connection: &mut PgConnection, account: &str) -> Result<(), sqlx::Error> {
        let callable: Option<bool> = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT /* hurnix */ has_function_privilege(to_regprocedure('public.{FUNCTION}(text)'), 'EXECUTE')"
        )))
        .fetch_one(connection)
        .await?;
        self.has_host_files = callable.unwrap_or(false);
        if !self.has_host_files {
            self.limits.push(Limit {
                figures: "host".into(),
                concerns: vec![Figures::Host],
                in_whole: true,
                by_version: false,
                reason: "Processors, memory, storage and network of the host are not seen: the server lets only superusers read the kernel's figures.".into(),
                remedy: host_script(account),
            });
        }
        Ok(())
    }
}

impl PostgresSource {
    pub(super) async fn read_host(&mut self) -> Result<Option<MeasureReading>, ReadProblem> {
        if !self.server.has_host_files {
            return Ok(None);
        }
        let mut reading = self.head("NULL::timestamptz").await?;
        let mut figures = HostFigures::default();
        let sql = format!(
            "SELECT /* hurnix */ public.{FUNCTION}(file) FROM unnest($1::text[]) WITH ORDINALITY AS f(file, n) ORDER BY n"
        );
        let texts: Vec<Option<String>> =
            sqlx::query_scalar(AssertSqlSafe(sql)).bind(FILES.as_slice()).fetch_all(&mut self.connection).await?;
        for (file, text) in FILES.iter().zip(&texts) {
            figures.add(file, text.as_deref().unwrap_or_default());
        }
        // The kernel counts since the host was started, whenever the server was.
        reading.counted.server_started_at = Timestamp(figures.started_at_seconds * MICROS_PER_SECOND);
        reading.counted.rows = figures.counted;
        reading.measures = figures.measures;
        Ok(Some(reading))
    }
}
