//! What there is at an address: servers at ports of a host, and databases on a server.

use std::time::Duration;

use sqlx::Row;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;

use super::guard::ENCRYPTION_ASKED;
use super::{Address, PostgresSource};
use crate::obstacle::problem;
use crate::{ConnectProblem, Obstacle};

/// A server that answers at a port.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct ServerFound {
    /// The port.
    pub port: u16,
    /// Whether it offers encryption.
    pub offers_tls: bool,
}

/// A database on a server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DatabaseFound {
    /// Its name.
    pub name: String,
    /// Its size on disk; nothing where the account may not know.
    pub size_bytes: Option<i64>,
    /// Whether the account may connect to it.
    pub may_connect: bool,
}

/// Whether a PostgreSQL server answers at a port within `patience`. Whatever else listens there is asked one
/// harmless question.
pub async fn server_at(host: &str, port: u16, patience: Duration) -> Option<ServerFound> {
    let offers_tls = match letter(host, port, patience).await? {
        b'S' => true,
        b'N' => false,
        _ => return None,
    };
    Some(ServerFound { port, offers_tls })
}

/// Whether whatever listens at a port answers that question with something else than a PostgreSQL server would.
/// One that does not answer at all may be a server that goes down just now.
pub(super) async fn answers_otherwise(host: &str, port: u16, patience: Duration) -> bool {
    letter(host, port, patience).await.is_some_and(|letter| !b"SN".contains(&letter))
}

/// The first letter of the answer.
async fn letter(host: &str, port: u16, patience: Duration) -> Option<u8> {
    let asked = async {
        let mut stream = TcpStream::connect((host, port)).await.ok()?;
        stream.write_all(&ENCRYPTION_ASKED).await.ok()?;
        stream.read_u8().await.ok()
    };
    tokio::time::timeout(patience, asked).await.ok().flatten()
}

/// The databases of a server, without templates, by name.
pub async fn databases(address: &Address) -> Result<Vec<DatabaseFound>, ConnectProblem> {
    let mut source = PostgresSource::connect(address).await?;
    let rows = sqlx::query(
        "SELECT /* hurnix */ datname::text AS name, has_database_privilege(oid, 'CONNECT') AS may_connect,
                CASE WHEN has_database_privilege(oid, 'CONNECT') OR pg_has_role(current_user, 'pg_read_all_stats', 'USAGE')
                     THEN pg_database_size(oid) END AS size_bytes
         FROM pg_database WHERE datallowconn AND NOT datistemplate ORDER BY 1",
    )
    .fetch_all(&mut source.connection)
    .await;
    source.close().await;
    let rows = rows.map_err(|error| {
        problem(
            Obstacle::Other,
            format!("The server did not list its databases: {error}."),
            "Try again, or name the database by hand.",
        )
    })?;
    let found = |row: &sqlx::postgres::PgRow| DatabaseFound {
        name: row.get("name"),
        size_bytes: row.get("size_bytes"),
        may_connect: row.get("may_connect"),
    };
    Ok(rows.iter().map(found).collect())
}
