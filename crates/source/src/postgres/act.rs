//! What is put in force on a server: the one place from which anything but reading is sent to it.

use hurnix_core::action::SessionMeant;
use sqlx::{AssertSqlSafe, Row};

use super::quote::quote;
use super::{PROGRAM, PostgresSource, marked};
use crate::ReadProblem;

/// The statement that cancels what a session runs.
pub fn cancel_statement(session: &SessionMeant) -> String {
    signal("pg_cancel_backend", session)
}

/// The statement that ends a session.
pub fn end_session(session: &SessionMeant) -> String {
    signal("pg_terminate_backend", session)
}

/// Nothing happens where the process has ended meanwhile, even if another one has its number now.
fn signal(function: &str, session: &SessionMeant) -> String {
    let (process, started_us) = (session.process, session.started_at.0);
    format!(
        "SELECT {function}(pid) AS sent FROM pg_stat_activity
WHERE pid = {process} AND round(extract(epoch FROM backend_start) * 1000000) = {started_us} AND application_name <> '{PROGRAM}'"
    )
}

/// What came of a statement that was put in force.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// The server did it.
    Done,
    /// What it was about is not there any more.
    Gone,
    /// The server refused; with what it said and what would let it.
    Refused(String, String),
}

impl PostgresSource {
    /// Sends one of this file's statements.
    pub async fn act(&mut self, statement: &str, account: &str) -> Result<Outcome, ReadProblem> {
        let sent = sqlx::query(AssertSqlSafe(marked(statement))).fetch_all(&mut self.connection).await;
        match sent {
            Ok(rows) => Ok(match rows.first() {
                Some(row) if row.get::<bool, _>("sent") => Outcome::Done,
                _ => Outcome::Gone,
            }),
            Err(error) => match ReadProblem::from(error) {
                ReadProblem::Refused(reason) => {
                    let grant = format!("GRANT pg_signal_backend TO {};", quote(account));
                    Ok(Outcome::Refused(reason, grant))
                }
                lost => Err(lost),
            },
        }
    }
}
