use hurnix_core::Timestamp;
use hurnix_core::readings::figures::Figures;
use sqlx::{AssertSqlSafe, PgConnection, Row};

use super::account_script::tables_script;
use super::log::Format;
use super::quote::quote;
use super::rights::lacks_privilege;
use super::statement_view::StatementView;
use super::{PostgresSource, at};
use crate::obstacle::problem;
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
    /// Whether nobody but Hurnix has been seen to use that account.
    pub(super) has_account_alone: bool,
    /// The server's number of the connected database.
    pub(super) database_oid: u32,
    /// When it was started.
    pub started_at: Timestamp,
    /// Figures that it does not give, with the reason and the remedy.
    pub limits: Vec<Limit>,
    /// How statement counters are read, where they can be.
    pub(super) statement_view: Option<StatementView>,
    /// Whether activity tells statements by number.
    pub(super) has_query_id: bool,
    /// Whether files of the host can be read.
    pub(super) has_host_files: bool,
    /// Whether processes of the host can be read.
    pub(super) has_host_processes: bool,
    /// Whether it may be read who may sign in, and how passwords are kept.
    pub(super) tells_access: bool,
    /// How it writes the log that can be read.
    pub(super) log_format: Option<Format>,
}

/// What brings the extension up to the server's version.
const UPDATE: &str = "ALTER EXTENSION pg_stat_statements UPDATE;";

const OLDEST: i32 = 130_000;

impl Server {
    pub(super) async fn inspect(connection: &mut PgConnection) -> Result<Server, ConnectProblem> {
        let row = sqlx::query(
            "SELECT /* hurnix */ current_setting('server_version') AS version,
                    current_setting('server_version_num')::int AS version_number,
                    (extract(epoch FROM pg_postmaster_start_time()) * 1000000)::bigint AS started_us,
                    pg_has_role(current_user, 'pg_read_all_stats', 'USAGE') AS reads_all,
                    current_user::text AS account,
                    (SELECT NOT rolsuper AND NOT EXISTS (SELECT FROM pg_stat_activity a WHERE a.usesysid = r.oid AND a.application_name <> 'hurnix')
                     FROM pg_roles r WHERE rolname = current_user) AS account_alone,
                    (SELECT oid::bigint FROM pg_database WHERE datname = current_database()) AS database_oid,
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
            has_account_alone: row.get("account_alone"),
            database_oid: row.get::<i64, _>("database_oid") as u32,
            started_at: at(row.get("started_us")),
            limits: Vec::new(),
            statement_view: None,
            has_query_id: version_number >= 140_000,
            has_host_files: false,
            has_host_processes: false,
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
        server.find_version_limits();
        server.find_privileges(connection, &account).await.map_err(other)?;
        server.find_host(connection, &account).await.map_err(other)?;
        server.find_host_processes(connection, &account).await.map_err(other)?;
        server.find_access(connection, &account).await.map_err(other)?;
        server.find_log(connection, &account).await.map_err(other)?;
        Ok(server)
    }

    async fn find_statements(&mut self, connection: &mut PgConnection, database: String) -> Result<(), sqlx::Error> {
        let schema: Option<String> = sqlx::query_scalar(
            "SELECT /* hurnix */ n.nspname::text FROM pg_extension e JOIN pg_namespace n ON n.oid = e.extnamespace
             WHERE e.extname = 'pg_stat_statements'",
        )
        .fetch_optional(&mut *connection)
        .await?;
        let Some(schema) = schema else {
            self.limits.push(Limit {
                figures: "statements".into(),
                concerns: vec![Figures::Statements, Figures::Plans],
                in_whole: true,
                by_version: false,
                reason: format!("The extension pg_stat_statements is not installed in {database}: there are no counters by statement."),
                remedy: "Add pg_stat_statements to shared_preload_libraries, restart the server, then in this database:\nCREATE EXTENSION pg_stat_statements;".into(),
            });
            return Ok(());
        };
        let view = format!("{}.pg_stat_statements", quote(&schema));
        let columns: Vec<String> = sqlx::query_scalar(
            "SELECT /* hurnix */ attname::text FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0",
        )
        .bind(&view)
        .fetch_all(&mut *connection)
        .await?;
        let has = |name: &str| columns.iter().any(|column| column == name);
        let update = self.update(connection).await?;
        if !has("total_exec_time") {
            self.limits.push(Limit {
                figures: "statements".into(),
                concerns: vec![Figures::Statements, Figures::Plans],
                in_whole: true,
                by_version: false,
                reason: format!("The extension pg_stat_statements in {database} is that of a server before version 13, as an upgrade leaves it: its columns are not those that are read."),
                remedy: UPDATE.into(),
            });
            return Ok(());
        }
        if let Some((installed, offered)) = update {
            self.limits.push(Limit {
                figures: "statements by the latest extension".into(),
                concerns: vec![Figures::Statements],
                in_whole: false,
                by_version: false,
                reason: format!("The extension pg_stat_statements in {database} stands at {installed}, and the server has {offered}: what that adds is not told."),
                remedy: UPDATE.into(),
            });
        }
        // The view is there without its library too, and only says so when it is read.
        let loaded = sqlx::query(AssertSqlSafe(format!("SELECT /* hurnix */ FROM {view} LIMIT 1")))
            .execute(&mut *connection)
            .await;
        if let Err(sqlx::Error::Database(refusal)) = loaded {
            self.limits.push(Limit {
                figures: "statements".into(),
                concerns: vec![Figures::Statements, Figures::Plans],
                in_whole: true,
                by_version: false,
                reason: format!("pg_stat_statements is installed but does not work: {}.", refusal.message()),
                remedy: "Add pg_stat_statements to shared_preload_libraries and restart the server.".into(),
            });
            return Ok(());
        }
        self.statement_view = Some(StatementView {
            schema,
            has_top_level: has("toplevel"),
            has_info: has("toplevel"),
            has_begin: has("stats_since"),
            read_time: if has("shared_blk_read_time") { "shared_blk_read_time" } else { "blk_read_time" },
            write_time: if has("shared_blk_write_time") { "shared_blk_write_time" } else { "blk_write_time" },
        });
        Ok(())
    }

    /// The version that the extension stands at and the one that the server has, where they differ.
    async fn update(&self, connection: &mut PgConnection) -> Result<Option<(String, String)>, sqlx::Error> {
        sqlx::query_as(
            "SELECT /* hurnix */ installed_version, default_version FROM pg_available_extensions
             WHERE name = 'pg_stat_statements' AND installed_version <> default_version",
        )
        .fetch_optional(connection)
        .await
    }

    /// Plans and the planner's statistics need the right to read the tables themselves.
    async fn find_privileges(&mut self, connection: &mut PgConnection, account: &str) -> Result<(), sqlx::Error> {
        let unreadable: i64 = sqlx::query_scalar(
            "SELECT /* hurnix */ count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
             WHERE c.relkind IN ('r', 'p', 'm') AND n.nspname NOT LIKE 'pg\\_%' AND n.nspname <> 'information_schema'
               AND NOT (has_schema_privilege(n.oid, 'USAGE') AND has_table_privilege(c.oid, 'SELECT'))",
        )
        .fetch_one(connection)
        .await?;
        if unreadable > 0 {
            self.limits.push(Limit {
                figures: "plans and planner statistics".into(),
                concerns: vec![Figures::Plans, Figures::Catalog],
                in_whole: false,
                by_version: false,
                reason: format!("The account {account} may not read {unreadable} tables: their statements have no plan, and index advice on them orders columns without knowing their values."),
                remedy: tables_script(account),
            });
        }
        Ok(())
    }
}

impl PostgresSource {
    /// The server's clock.
    pub(super) async fn read_now(&mut self) -> Result<Timestamp, ReadProblem> {
        let micros: i64 =
            sqlx::query_scalar("SELECT /* hurnix */ (extract(epoch FROM clock_timestamp()) * 1000000)::bigint")
                .fetch_one(&mut self.connection)
                .await?;
        Ok(at(micros))
    }
}
