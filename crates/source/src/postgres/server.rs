use hurnix_core::At;
use hurnix_core::figures::Figures;
use sqlx::{AssertSqlSafe, PgConnection, Row};

use super::connect::problem;
use super::log::Format;
use super::quote::quote;
use super::rights::lacks_privilege;
use super::{PostgresSource, at};
use crate::{ConnectProblem, Limit, Obstacle, ReadProblem};

/// What was found out about a server when connecting.
#[derive(Debug, Clone, PartialEq)]
pub struct Server {
    /// Version as the server writes it, such as `15.18`.
    pub version: String,
    /// Version as a number, such as 150018.
    pub version_number: i32,
    /// Account that reads it.
    pub account: String,
    /// When it was started.
    pub started_at: At,
    /// Figures that it does not give, with the reason and the remedy.
    pub limits: Vec<Limit>,
    /// How statement counters are read, where they can be.
    pub(super) statement_view: Option<StatementView>,
    /// Whether activity tells statements by number.
    pub(super) has_query_id: bool,
    /// Whether files of the host can be read.
    pub(super) has_host_files: bool,
    /// Whether it may be read who may sign in, and how passwords are kept.
    pub(super) tells_access: bool,
    /// How it writes the log that can be read.
    pub(super) log_format: Option<Format>,
}

/// Where the statement counters are and which of their columns there are.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct StatementView {
    pub schema: String,
    pub has_top_level: bool,
    pub has_info: bool,
    pub read_time: &'static str,
    pub write_time: &'static str,
}

const OLDEST: i32 = 130_000;

impl Server {
    pub(super) async fn inspect(connection: &mut PgConnection) -> Result<Server, ConnectProblem> {
        let row = sqlx::query(
            "/* hurnix */ SELECT current_setting('server_version') AS version,
                    current_setting('server_version_num')::int AS version_number,
                    (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint AS started_us,
                    pg_has_role(current_user, 'pg_read_all_stats', 'USAGE') AS reads_all,
                    current_user::text AS account,
                    current_database()::text AS database",
        )
        .fetch_one(&mut *connection)
        .await
        .map_err(|error| {
            problem(
                Obstacle::NotSupported,
                format!("The server does not tell its version: {error}."),
                "Hurnix watches PostgreSQL 13 and later.",
            )
        })?;
        let version: String = row.get("version");
        let version_number: i32 = row.get("version_number");
        if version_number < OLDEST {
            return Err(problem(
                Obstacle::NotSupported,
                format!("The server is PostgreSQL {version}."),
                "Hurnix watches PostgreSQL 13 and later: upgrade the server.",
            ));
        }
        let account: String = row.get("account");
        if !row.get::<bool, _>("reads_all") {
            return Err(lacks_privilege(&account));
        }
        let mut server = Server {
            version,
            version_number,
            account: account.clone(),
            started_at: at(row.get("started_us")),
            limits: Vec::new(),
            statement_view: None,
            has_query_id: version_number >= 140_000,
            has_host_files: false,
            tells_access: false,
            log_format: None,
        };
        let other = |error: sqlx::Error| {
            problem(
                Obstacle::Other,
                format!("The server could not be looked over: {error}."),
                "Hurnix tries again by itself.",
            )
        };
        server.find_statements(connection, row.get("database")).await.map_err(other)?;
        server.find_privileges(connection, &account).await.map_err(other)?;
        server.find_host(connection, &account).await.map_err(other)?;
        server.find_access(connection, &account).await.map_err(other)?;
        server.find_log(connection, &account).await.map_err(other)?;
        Ok(server)
    }

    async fn find_statements(&mut self, connection: &mut PgConnection, database: String) -> Result<(), sqlx::Error> {
        let schema: Option<String> = sqlx::query_scalar(
            "/* hurnix */ SELECT n.nspname::text FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace
             WHERE e.extname = 'pg_stat_statements'",
        )
        .fetch_optional(&mut *connection)
        .await?;
        let Some(schema) = schema else {
            self.limits.push(Limit {
                figures: "statements".into(),
                concerns: vec![Figures::Statements, Figures::Plans],
                in_whole: true,
                reason: format!("The extension pg_stat_statements is not installed in {database}: there are no counters by statement."),
                remedy: "Add pg_stat_statements to shared_preload_libraries, restart the server, then in this database:\nCREATE EXTENSION pg_stat_statements;".into(),
            });
            return Ok(());
        };
        let view = format!("{}.pg_stat_statements", quote(&schema));
        let columns: Vec<String> = sqlx::query_scalar(
            "/* hurnix */ SELECT attname::text FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0",
        )
        .bind(&view)
        .fetch_all(&mut *connection)
        .await?;
        let has = |name: &str| columns.iter().any(|column| column == name);
        // The view is there without its library too, and only says so when it is read.
        let loaded = sqlx::query(AssertSqlSafe(format!("/* hurnix */ SELECT FROM {view} LIMIT 1")))
            .execute(&mut *connection)
            .await;
        if let Err(sqlx::Error::Database(refusal)) = loaded {
            self.limits.push(Limit {
                figures: "statements".into(),
                concerns: vec![Figures::Statements, Figures::Plans],
                in_whole: true,
                reason: format!("pg_stat_statements is installed but does not work: {}.", refusal.message()),
                remedy: "Add pg_stat_statements to shared_preload_libraries and restart the server.".into(),
            });
            return Ok(());
        }
        self.statement_view = Some(StatementView {
            schema,
            has_top_level: has("toplevel"),
            has_info: has("toplevel"),
            read_time: if has("shared_blk_read_time") { "shared_blk_read_time" } else { "blk_read_time" },
            write_time: if has("shared_blk_write_time") { "shared_blk_write_time" } else { "blk_write_time" },
        });
        Ok(())
    }

    /// Plans and the planner's statistics need the right to read the tables themselves.
    async fn find_privileges(&mut self, connection: &mut PgConnection, account: &str) -> Result<(), sqlx::Error> {
        let unreadable: i64 = sqlx::query_scalar(
            "/* hurnix */ SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
             WHERE c.relkind IN ('r', 'p', 'm') AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
               AND NOT (has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT'))",
        )
        .fetch_one(connection)
        .await?;
        if unreadable > 0 {
            let grant = if self.version_number >= 140_000 {
                format!("GRANT pg_read_all_data TO {};", quote(account))
            } else {
                format!(
                    "GRANT USAGE ON SCHEMA … TO {0};\nGRANT SELECT ON ALL TABLES IN SCHEMA … TO {0};",
                    quote(account)
                )
            };
            self.limits.push(Limit {
                figures: "plans and planner statistics".into(),
                concerns: vec![Figures::Plans, Figures::Catalog],
                in_whole: false,
                reason: format!("The account {account} may not read {unreadable} tables: their statements have no plan, and index advice on them orders columns without knowing their values."),
                remedy: grant,
            });
        }
        Ok(())
    }
}

impl PostgresSource {
    /// The server's clock.
    pub(super) async fn read_now(&mut self) -> Result<At, ReadProblem> {
        let micros: i64 =
            sqlx::query_scalar("/* hurnix */ SELECT (extract(epoch FROM clock_timestamp()) * 1000000)::bigint")
                .fetch_one(&mut self.connection)
                .await?;
        Ok(at(micros))
    }
}
