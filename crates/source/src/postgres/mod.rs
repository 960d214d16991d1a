//! PostgreSQL 13 and later.
//!
//! An account with `pg_monitor` is enough. Every statement sent carries the comment `/* hurnix */` and
//! every session the program name `hurnix`, so that Hurnix can leave itself out of its own figures.

mod activity;
mod catalog;
mod connect;
mod counters;
mod create_index;
mod measures;
mod plan;
mod quote;
mod server;
mod settings;
mod statements;
mod waits;

use hurnix_core::At;
use sqlx::PgConnection;

pub use connect::{Address, ConnectProblem, Obstacle, TlsMode};
pub use create_index::{Piece, create_index};
pub use measures::MeasureReading;
pub use plan::Plan;
pub use quote::quote;
pub use server::{Limit, Server};
pub use settings::Setting;
pub use statements::StatementReading;

/// What Hurnix's sessions call themselves.
pub const PROGRAM: &str = "hurnix";

/// An open connection to a watched server, with what was found out about it.
#[derive(Debug)]
pub struct PostgresSource {
    connection: PgConnection,
    server: Server,
    statements: statements::Known,
}

/// Why a reading failed.
#[derive(Debug, thiserror::Error)]
pub enum ReadProblem {
    /// The server said no to one reading; the connection is still good.
    #[error("the server refused the reading: {0}")]
    Refused(String),
    /// The connection is gone.
    #[error("the connection was lost: {0}")]
    Lost(String),
    /// The server took longer than a reading may.
    #[error("the server did not answer within {0} s")]
    TimedOut(f64),
}

impl From<sqlx::Error> for ReadProblem {
    fn from(error: sqlx::Error) -> Self {
        match error {
            // Class 57P: the server is going away.
            sqlx::Error::Database(refusal) if !refusal.code().is_some_and(|code| code.starts_with("57P")) => {
                ReadProblem::Refused(refusal.message().to_owned())
            }
            other => ReadProblem::Lost(other.to_string()),
        }
    }
}

impl PostgresSource {
    /// What was found out about the server when connecting.
    pub fn server(&self) -> &Server {
        &self.server
    }

    /// Closes the connection in order.
    pub async fn close(self) {
        // A connection that does not close in order is dropped, which closes it too.
        let _ = sqlx::Connection::close(self.connection).await;
    }
}

fn at(micros: i64) -> At {
    At(micros)
}
