use axum::http::header;
use axum::response::{IntoResponse, Response};
use hurnix_source::postgres::{AccountMayRead, account_script};
use serde::Deserialize;
use utoipa::IntoParams;

use crate::api::base::extract::{Query, SignedIn};
use crate::api::base::problem::{FieldProblem, Problem};

const OLDEST: u32 = 13;
const NEWEST: u32 = 99;
const MOST_LETTERS: usize = 63;

/// Which account to make.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AccountScriptQuery {
    /// Major version of the server, such as 15.
    #[param(minimum = 13, maximum = 99)]
    version: u32,
    /// Name of the account.
    account: String,
    /// Database that Hurnix is to connect to.
    database: String,
    /// Whether it may read tables themselves, for plans and the planner's statistics; no when left out.
    tables: Option<bool>,
    /// Whether it may read figures of the host, through a narrow function; no when left out.
    host: Option<bool>,
    /// Whether it may read the server's log, through another; no when left out.
    log: Option<bool>,
    /// Whether it may read who may sign in from where and how passwords are kept, through two more; no when left
    /// out.
    access: Option<bool>,
}

/// Statements that create an account with no more rights than Hurnix needs, for the server's administrator.
#[utoipa::path(get, path = "/account-script", tag = "instances", params(AccountScriptQuery),
    responses((status = 200, body = String, content_type = "text/plain")))]
pub async fn write_account_script(_: SignedIn, Query(query): Query<AccountScriptQuery>) -> Result<Response, Problem> {
    let mut errors = Vec::new();
    if !(OLDEST..=NEWEST).contains(&query.version) {
        let remedy = format!("Hurnix watches PostgreSQL {OLDEST} and later: give a major version such as 15.");
        errors.push(FieldProblem::new("version", query.version, remedy));
    }
    for (field, value) in [("account", &query.account), ("database", &query.database)] {
        if value.is_empty() || value.len() > MOST_LETTERS {
            let remedy = format!("Give a name of 1 to {MOST_LETTERS} bytes on one line.");
            errors.push(FieldProblem::new(field, value, remedy));
        }
    }
    if !errors.is_empty() {
        return Err(Problem::invalid(errors));
    }
    let may_read = AccountMayRead {
        tables: query.tables.unwrap_or(false),
        host: query.host.unwrap_or(false),
        log: query.log.unwrap_or(false),
        access: query.access.unwrap_or(false),
    };
    let script = account_script(query.version, &query.account, &query.database, may_read);
    Ok(([(header::CONTENT_TYPE, "text/plain; charset=utf-8")], script).into_response())
}
