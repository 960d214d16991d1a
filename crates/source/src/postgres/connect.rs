use std::path::Path;
use std::time::{Duration, Instant};

use sqlx::Connection;
use sqlx::postgres::{PgConnectOptions, PgConnection, PgSslMode};

use super::address::Address;
use super::connect_time::Connecting;
use super::discover::answers_otherwise;
use super::quote::quote;
use super::server::Server;
use super::{PROGRAM, PostgresSource, guard, rights, statements};
use crate::obstacle::problem;
use crate::{ConnectProblem, Obstacle};

/// Longest wait for a connection.
const CONNECT_TIMEOUT: Duration = Duration::from_secs(5);
/// Longest wait for an answer to the question whether it is such a server at all.
const PROBE_TIMEOUT: Duration = Duration::from_secs(1);

/// What a connection is for, by the server's own settings.
struct Purpose {
    /// Whether it may only read.
    read_only: &'static str,
    /// Every statement ends within this on the server's side too.
    statement_timeout: &'static str,
    /// It never waits behind somebody's lock for longer.
    lock_timeout: &'static str,
}

const WATCHING: Purpose = Purpose { read_only: "on", statement_timeout: "5s", lock_timeout: "200ms" };
/// Long work goes on for as long as it takes, within reason; whoever waits for its lock would hold up others.
const ACTING: Purpose = Purpose { read_only: "off", statement_timeout: "24h", lock_timeout: "5s" };

impl PostgresSource {
    /// Connects, and finds out what the server can tell.
    pub async fn connect(address: &Address) -> Result<PostgresSource, ConnectProblem> {
        Self::connect_for(address, WATCHING).await
    }

    /// Connects to put something in force: it may write and take long.
    pub async fn connect_to_act(address: &Address) -> Result<PostgresSource, ConnectProblem> {
        Self::connect_for(address, ACTING).await
    }

    async fn connect_for(address: &Address, purpose: Purpose) -> Result<PostgresSource, ConnectProblem> {
        let connecting = async {
            let mut connection = match open(address, &purpose).await {
                Ok(connection) => connection,
                // Cut off: by a server, or by another program that did not understand.
                Err(sqlx::Error::Io(_)) if answers_otherwise(&address.host, address.port, PROBE_TIMEOUT).await => {
                    return Err(explain(sqlx::Error::Protocol("it answers otherwise".into()), address));
                }
                Err(error) => return Err(explain(error, address)),
            };
            let server = Server::inspect(&mut connection).await?;
            let (_, mark) = rights::mark(&mut connection).await.map_err(|error| explain(error, address))?;
            Ok(PostgresSource {
                connection,
                server,
                mark,
                statements: statements::Known::default(),
                connecting: Connecting::to(address),
            })
        };
        tokio::time::timeout(CONNECT_TIMEOUT, connecting).await.unwrap_or_else(|_| {
            let (host, port) = (&address.host, address.port);
            Err(problem(
                Obstacle::TimedOut,
                format!("{host}:{port} did not answer within {} s.", CONNECT_TIMEOUT.as_secs()),
                "Check that host and port are right and that no firewall drops the packets between Hurnix and the server.",
            ))
        })
    }
}

async fn open(address: &Address, purpose: &Purpose) -> Result<PgConnection, sqlx::Error> {
    let relay = guard::open(address).await?;
    PgConnection::connect_with(&options(address, relay.path(), purpose)).await
}

/// Opens a connection as for reading, and closes it again; how long the opening took.
pub(super) async fn time_to_connect(address: &Address) -> Option<Duration> {
    let begun = Instant::now();
    let connection = tokio::time::timeout(CONNECT_TIMEOUT, open(address, &WATCHING)).await.ok()?.ok()?;
    let took = begun.elapsed();
    // One that does not close in order is dropped, which closes it too.
    let _ = connection.close().await;
    Some(took)
}

/// How the driver finds the relay in a folder, and what it says there.
fn options(address: &Address, relay: &Path, purpose: &Purpose) -> PgConnectOptions {
    let options = PgConnectOptions::new_without_pgpass()
        .socket(relay)
        .port(guard::RELAY_PORT)
        .database(&address.database)
        .username(&address.account)
        .application_name(PROGRAM)
        // The relay encrypts.
        .ssl_mode(PgSslMode::Disable)
        .options([
            ("default_transaction_read_only", purpose.read_only),
            ("statement_timeout", purpose.statement_timeout),
            ("lock_timeout", purpose.lock_timeout),
            // Short statements gain nothing from either, and would pay for starting them.
            ("jit", "off"),
            ("max_parallel_workers_per_gather", "0"),
        ]);
    if address.password.is_empty() { options } else { options.password(&address.password) }
}

/// What is wrong with the certificate that a server shows.
fn tls_problem(reason: &str, Address { host, port, .. }: &Address) -> ConnectProblem {
    let lower = reason.to_lowercase();
    let (message, remedy) = if lower.contains("unknownissuer") || lower.contains("unknown issuer") {
        (
            format!("Nobody whom this machine trusts has signed the certificate of {host}:{port}."),
            "Give the certificate of its signer here, or have the server's signed by one that is trusted.",
        )
    } else if lower.contains("notvalidforname") || lower.contains("not valid for") {
        (
            format!("The certificate of the server is made out to another name than {host}: {reason}."),
            "Connect by the name in the certificate, or have one made out to this name.",
        )
    } else if lower.contains("expired") {
        (
            format!("The certificate of {host}:{port} has expired."),
            "Have it renewed on the server, then: SELECT pg_reload_conf();",
        )
    } else {
        (
            format!("An encrypted connection to {host}:{port} failed: {reason}."),
            "Look at the server's certificate and at the one given here, or choose another way of encryption.",
        )
    };
    problem(Obstacle::Tls, message, remedy)
}

fn explain(error: sqlx::Error, address: &Address) -> ConnectProblem {
    let Address { host, port, database, account, .. } = address;
    match &error {
        sqlx::Error::Io(io) => match io.kind() {
            std::io::ErrorKind::ConnectionRefused => problem(
                Obstacle::PortClosed,
                format!("Nothing listens on {host}:{port}."),
                "Start the server, or correct the port. The server must listen on that address: see its setting listen_addresses.",
            ),
            std::io::ErrorKind::TimedOut => {
                problem(Obstacle::TimedOut, format!("{host}:{port} did not answer."), "Check host, port and firewall.")
            }
            std::io::ErrorKind::UnexpectedEof | std::io::ErrorKind::ConnectionReset => problem(
                Obstacle::NotReady,
                format!("{host}:{port} closed the connection at once."),
                "If a PostgreSQL server listens there, look into its log; it may be shutting down.",
            ),
            _ if io.to_string().contains("peer certificate") => tls_problem(&io.to_string(), address),
            _ if io.to_string().contains("lookup") => problem(
                Obstacle::UnknownHost,
                format!("The host name {host} is not known."),
                "Correct the name, or make it known to the machine that Hurnix runs on.",
            ),
            _ => problem(Obstacle::Other, format!("Connecting to {host}:{port} failed: {io}."), "Check host and port."),
        },
        sqlx::Error::Tls(inner) if inner.to_string().contains("does not support TLS") => problem(
            Obstacle::Tls,
            format!("The server at {host}:{port} offers no encryption."),
            "Give the server a certificate and switch encryption on:\nALTER SYSTEM SET ssl = on;\nSELECT pg_reload_conf();\nOr let Hurnix connect without encryption.",
        ),
        sqlx::Error::Tls(inner) => tls_problem(&inner.to_string(), address),
        sqlx::Error::Protocol(text) => problem(
            Obstacle::NotSupported,
            format!("What listens on {host}:{port} does not speak PostgreSQL's protocol: {text}."),
            "Correct the port: it may belong to another program.",
        ),
        sqlx::Error::Database(refusal) => match refusal.code().as_deref() {
            Some(guard::NO_SERVER) => explain(sqlx::Error::Protocol(refusal.message().to_owned()), address),
            Some(guard::PASSWORD_IN_CLEAR) => problem(
                Obstacle::PasswordInClear,
                format!(
                    "{host}:{port} asks for the password of {account} {}, and nothing proves that it is the right server: the password was not sent.",
                    refusal.message()
                ),
                "Choose verify for TLS, or have the server ask with scram-sha-256:\nSET password_encryption = 'scram-sha-256';\nthen set the password anew, and name scram-sha-256 in pg_hba.conf. Where the network is trusted, allow it for this instance.",
            ),
            Some(guard::OVERSIZED) => problem(
                Obstacle::Oversized,
                format!("Hurnix ended the connection to {host}:{port}: {}.", refusal.message()),
                "No figures of a server are that large: make sure that host and port are right.",
            ),
            Some("28P01") => problem(
                Obstacle::WrongPassword,
                format!("The server does not accept this password for the account {account}, or has no such account."),
                format!(
                    "Correct it here, or set a new one on the server:\nALTER ROLE {} PASSWORD '…';",
                    quote(account)
                ),
            ),
            Some("28000") if refusal.message().contains("pg_hba") => problem(
                Obstacle::HostNotPermitted,
                format!("The server does not let {account} in from here: {}.", refusal.message()),
                format!(
                    "Add a line to the server's pg_hba.conf and reload it (SELECT pg_reload_conf();):\nhost  {database}  {account}  <address of the machine that Hurnix runs on>/32  scram-sha-256"
                ),
            ),
            Some("28000") => problem(
                Obstacle::WrongPassword,
                format!("The server refused the account {account}: {}.", refusal.message()),
                format!("CREATE ROLE {} LOGIN PASSWORD '…';\nGRANT pg_monitor TO {0};", quote(account)),
            ),
            Some("3D000") => problem(
                Obstacle::NoSuchDatabase,
                format!("There is no database {database} on {host}:{port}."),
                "Correct the name; SELECT datname FROM pg_database; lists those there are.",
            ),
            Some("42501") => problem(
                Obstacle::PrivilegeMissing,
                format!("The account {account} may not connect to {database}: {}.", refusal.message()),
                format!("GRANT CONNECT ON DATABASE {} TO {};", quote(database), quote(account)),
            ),
            Some("53300") => problem(
                Obstacle::TooManyConnections,
                "All connections of the server are taken.",
                "Hurnix tries again by itself. To keep one free for it, raise superuser_reserved_connections or max_connections.",
            ),
            Some("57P03") => problem(
                Obstacle::NotReady,
                format!("The server is not ready: {}.", refusal.message()),
                "Hurnix tries again by itself.",
            ),
            _ => problem(
                Obstacle::Other,
                format!("The server refused the connection: {}.", refusal.message()),
                "Look into the server's log for more.",
            ),
        },
        _ => problem(Obstacle::Other, format!("Connecting to {host}:{port} failed: {error}."), "Check host and port."),
    }
}
