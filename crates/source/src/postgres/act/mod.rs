//! What is put in force on a server: the one place from which anything but reading is sent to it.
//!
//! An intent of core becomes an order in the file of its kind. Here belongs what is the same for all: sending it,
//! asking how far it is, stopping it.

mod analyze_table;
mod signal;

use hurnix_core::changes::action::Action;
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};

use super::{PostgresSource, marked};
use crate::ReadProblem;

/// How a server is told an intent.
pub struct Order {
    /// Exactly what is sent.
    pub statement: String,
    /// Database in which it must be sent, where that matters.
    pub database: Option<String>,
    /// What keeps the account from it, with the remedy; asked first.
    rights: Option<Question>,
    /// How far it is: a query on its process, given as `$1`, that answers a share from 0 to 1 and a phase in words.
    progress: Option<&'static str>,
    /// What came of it in words. Without that question the statement itself answers whether it found anything.
    result: Option<Question>,
    /// What would let the account, should the server refuse.
    remedy: fn(&str) -> String,
}

/// A query with its texts, and how its row is told; no row says that what the action is about has gone.
struct Question {
    sql: String,
    given: Vec<String>,
    /// Told from the row, with the name of Hurnix's account.
    told: fn(&PgRow, &str) -> Option<(String, String)>,
}

/// The order for an intent; nothing for what concerns Hurnix itself.
pub fn order(action: &Action) -> Option<Order> {
    match action {
        Action::CancelStatement(session) => Some(signal::cancel_statement(session)),
        Action::EndSession(session) => Some(signal::end_session(session)),
        Action::AnalyzeTable(table) => Some(analyze_table::order(table)),
        Action::LiftSecondPerson => None,
    }
}

/// What came of an order.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Outcome {
    /// The server did it; with what it says of it.
    Done(String),
    /// What it was about is not there any more.
    Gone,
    /// The server refused; with what it said and what would let it.
    Refused(String, String),
    /// Somebody stopped it.
    Stopped,
}

/// How far an order is.
#[derive(Debug, Clone, PartialEq)]
pub struct Progress {
    /// Share that is done, from 0 to 1, where the server tells.
    pub share: Option<f64>,
    /// What it does just now.
    pub phase: String,
}

impl PostgresSource {
    /// The number of this connection's process on the server.
    pub async fn process(&mut self) -> Result<i32, ReadProblem> {
        Ok(sqlx::query_scalar("SELECT /* hurnix */ pg_backend_pid()").fetch_one(&mut self.connection).await?)
    }

    /// Sends an order.
    pub async fn act(&mut self, order: &Order, account: &str) -> Result<Outcome, ReadProblem> {
        if let Some(rights) = &order.rights {
            let Some(row) = self.ask(rights).await? else { return Ok(Outcome::Gone) };
            if let Some((reason, remedy)) = (rights.told)(&row, account) {
                return Ok(Outcome::Refused(reason, remedy));
            }
        }
        let sent = sqlx::query(AssertSqlSafe(marked(&order.statement))).fetch_all(&mut self.connection).await;
        let rows = match sent {
            Ok(rows) => rows,
            Err(error) => return refusal(error, (order.remedy)(account)),
        };
        let Some(result) = &order.result else {
            let found = rows.first().is_some_and(|row| row.get("sent"));
            return Ok(if found { Outcome::Done("The server did it.".into()) } else { Outcome::Gone });
        };
        let told = self.ask(result).await?.and_then(|row| (result.told)(&row, account));
        Ok(told.map_or(Outcome::Gone, |(told, _)| Outcome::Done(told)))
    }

    async fn ask(&mut self, question: &Question) -> Result<Option<PgRow>, ReadProblem> {
        let mut query = sqlx::query(AssertSqlSafe(marked(&question.sql)));
        for given in &question.given {
            query = query.bind(given);
        }
        Ok(query.fetch_optional(&mut self.connection).await?)
    }

    /// How far the order is that another connection sends as this process; nothing while it has not begun.
    pub async fn progress(&mut self, order: &Order, process: i32) -> Result<Option<Progress>, ReadProblem> {
        let Some(progress) = order.progress else { return Ok(None) };
        let found =
            sqlx::query(AssertSqlSafe(marked(progress))).bind(process).fetch_optional(&mut self.connection).await?;
        Ok(found.map(|row| Progress { share: row.get("share"), phase: row.get("phase") }))
    }

    /// Stops what another of Hurnix's connections does.
    pub async fn stop(&mut self, process: i32) -> Result<(), ReadProblem> {
        sqlx::query("SELECT /* hurnix */ pg_cancel_backend($1)").bind(process).execute(&mut self.connection).await?;
        Ok(())
    }
}

fn refusal(error: sqlx::Error, remedy: String) -> Result<Outcome, ReadProblem> {
    /// SQL states: cancelled, no lock within the time that is waited for one, and no such table or schema.
    const CANCELLED: &str = "57014";
    const NO_LOCK: &str = "55P03";
    const NO_TABLE: [&str; 2] = ["42P01", "3F000"];
    let state = error.as_database_error().and_then(|refused| refused.code()).unwrap_or_default().into_owned();
    match state.as_str() {
        CANCELLED => Ok(Outcome::Stopped),
        state if NO_TABLE.contains(&state) => Ok(Outcome::Gone),
        state => match ReadProblem::from(error) {
            ReadProblem::Refused(reason) if state == NO_LOCK => Ok(Outcome::Refused(
                reason,
                "try again when nobody holds a lock on it; Sessions shows who does.".into(),
            )),
            ReadProblem::Refused(reason) => Ok(Outcome::Refused(reason, remedy)),
            lost => Err(lost),
        },
    }
}
