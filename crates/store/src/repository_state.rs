use sqlx::migrate::Migrator;
use sqlx::{Connection, PgConnection};

use crate::{Result, Store};

/// The steps that make the schema of the repository.
pub(crate) static STEPS: Migrator = sqlx::migrate!("./migrations");

/// What a connection string leads to.
#[derive(Debug, Clone, PartialEq)]
pub struct RepositoryState {
    /// Version of the server there, as it tells it.
    pub server_version: String,
    /// Version of the schema; nothing where there is none yet.
    pub schema: Option<i64>,
    /// Version that this Hurnix works with.
    pub expected: i64,
    /// Whether passwords are stored there, which only the key opens.
    pub holds_secrets: bool,
    /// Whether the account may make tables there.
    pub may_create: bool,
}

impl Store {
    /// Looks at a repository without changing anything in it.
    ///
    /// # Errors
    /// It cannot be reached, or its tables may not be read.
    pub async fn look(url: &str) -> Result<RepositoryState> {
        let mut connection = PgConnection::connect(url).await?;
        let (server_version, may_create, has_steps, has_instances): (String, bool, bool, bool) = sqlx::query_as(
            "SELECT current_setting('server_version'), coalesce(has_schema_privilege(current_schema(), 'CREATE'), false),
                    to_regclass('_sqlx_migrations') IS NOT NULL, to_regclass('instance') IS NOT NULL",
        )
        .fetch_one(&mut connection)
        .await?;
        let schema = match has_steps {
            true => {
                sqlx::query_scalar("SELECT max(version) FROM _sqlx_migrations WHERE success")
                    .fetch_one(&mut connection)
                    .await?
            }
            false => None,
        };
        let holds_secrets = has_instances
            && sqlx::query_scalar("SELECT EXISTS (SELECT FROM instance WHERE secret_sealed <> '')")
                .fetch_one(&mut connection)
                .await?;
        connection.close().await?;
        let expected = STEPS.iter().map(|step| step.version).max().unwrap_or_default();
        Ok(RepositoryState { server_version, schema, expected, holds_secrets, may_create })
    }
}
