//! One's own account: its password, where it is signed in, and its tokens.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum_extra::extract::cookie::SignedCookieJar;
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_store::{Caller, Means, SessionRow, TokenRow};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::client::Client;
use crate::api::base::extract::{Body, InPerson, Path, Recognised, SecretBody, in_person};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{RoleWord, Word};
use crate::api::people::session::browser_of;
use crate::gate::{GivenFrom, Passed};
use crate::passwords;
use crate::secrets::{random_text, token_hash};
use crate::state::{App, now};

const TOKEN_LETTERS: usize = 40;
/// What a token begins with, so that whoever finds one knows what it opens.
const TOKEN_BEGIN: &str = "hurnix_";
const LONGEST_TOKEN_DAYS: u32 = 400;
const MOST_TOKEN_NAME_LETTERS: usize = 60;

/// Another password.
#[derive(Deserialize, ToSchema)]
pub struct NewPassword {
    /// The one so far.
    current: String,
    /// The one to be: from 10 to 200 characters.
    new: String,
}

/// Set another password. All other sessions of the account end.
#[utoipa::path(put, path = "/account/password", tag = "account", request_body = NewPassword,
    responses((status = 204), (status = 429, body = Problem)))]
pub async fn change_password(
    State(app): State<App>,
    jar: SignedCookieJar,
    client: Client,
    Recognised(caller): Recognised,
    SecretBody(passwords): SecretBody<NewPassword>,
) -> Result<StatusCode, Problem> {
    let session_id = in_person(&caller)?;
    let NewPassword { current, new } = passwords;
    if let Some(remedy) = passwords::fault(&new, &current, &caller.name) {
        return Err(Problem::invalid(vec![FieldProblem::secret("new", remedy)]));
    }
    let browser = browser_of(&jar);
    let from = GivenFrom { address: &client.address, browser: browser.as_deref() };
    match app.gate.pass(&app.store, &caller.name, current, from).await? {
        Passed::Right(_) => {}
        Passed::Wrong => {
            return Err(Problem::invalid(vec![FieldProblem::secret("current", "This is not the password so far.")]));
        }
        Passed::Wait(seconds) => return Err(Problem::wait(seconds)),
    }
    let hash = tokio::task::spawn_blocking(move || passwords::hash(&new)).await.map_err(Problem::internal)?;
    app.store.set_password(caller.account_id, &hash, false, Some(session_id)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// A browser that is signed in.
#[derive(Serialize, ToSchema)]
pub struct SessionFigures {
    /// Number.
    session_id: i32,
    /// Address that it was begun from.
    client: String,
    /// What the browser calls itself.
    program: String,
    /// When it was begun.
    began_at: DateTime<Utc>,
    /// When it was last used, to within a minute.
    seen_at: DateTime<Utc>,
    /// When it ends by itself.
    expires_at: DateTime<Utc>,
    /// Whether it is the one that asks.
    is_this: bool,
}

impl SessionFigures {
    /// A session, and whether it is that of the caller.
    pub fn new(row: SessionRow, caller: &Caller) -> Self {
        let is_this = matches!(caller.means, Means::Session { session_id, .. } if session_id == row.session_id);
        SessionFigures {
            session_id: row.session_id,
            client: row.client,
            program: row.program,
            began_at: moment(row.began_at),
            seen_at: moment(row.seen_at),
            expires_at: moment(row.expires_at),
            is_this,
        }
    }
}

/// Where one is signed in, the session used last first.
#[utoipa::path(get, path = "/account/sessions", tag = "account", responses((status = 200, body = Vec<SessionFigures>)))]
pub async fn list_sessions(State(app): State<App>, InPerson(caller): InPerson) -> Answer<Vec<SessionFigures>> {
    let sessions = app.store.sessions(caller.account_id).await?;
    Ok(Json(sessions.into_iter().map(|row| SessionFigures::new(row, &caller)).collect()))
}

/// End one of one's sessions.
#[utoipa::path(delete, path = "/account/sessions/{session_id}", tag = "account", params(("session_id" = i32, Path)),
    responses((status = 204)))]
pub async fn end_session(
    State(app): State<App>,
    InPerson(caller): InPerson,
    Path(session_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    if !app.store.end_session(caller.account_id, session_id).await? {
        return Err(Problem::not_found("session_id", "session", session_id));
    }
    Ok(StatusCode::NO_CONTENT)
}

/// A token by which a program uses the API in one's name.
#[derive(Serialize, ToSchema)]
pub struct TokenFigures {
    /// Number.
    token_id: i32,
    /// Its name.
    name: String,
    /// What it may do at most: `reader`, `tuner` or `administrator`; never more than the account.
    role: RoleWord,
    /// When it was made.
    made_at: DateTime<Utc>,
    /// When it was last used, to within a minute.
    seen_at: Option<DateTime<Utc>>,
    /// When it ends by itself.
    expires_at: DateTime<Utc>,
}

impl From<TokenRow> for TokenFigures {
    fn from(row: TokenRow) -> Self {
        TokenFigures {
            token_id: row.token_id,
            name: row.name,
            role: Word(row.role),
            made_at: moment(row.made_at),
            seen_at: row.seen_at.map(moment),
            expires_at: moment(row.expires_at),
        }
    }
}

/// One's tokens by name, also those that ended by themselves.
#[utoipa::path(get, path = "/account/tokens", tag = "account", responses((status = 200, body = Vec<TokenFigures>)))]
pub async fn list_tokens(State(app): State<App>, InPerson(caller): InPerson) -> Answer<Vec<TokenFigures>> {
    let tokens = app.store.tokens(caller.account_id).await?;
    Ok(Json(tokens.into_iter().map(TokenFigures::from).collect()))
}

/// A token to be made.
#[derive(Deserialize, ToSchema)]
pub struct NewToken {
    /// Its name: what it is for.
    name: String,
    /// What it may do at most: `reader`, `tuner` or `administrator`.
    role: RoleWord,
    /// Days until it ends by itself, from 1 to 400.
    #[schema(minimum = 1, maximum = 400)]
    days: u32,
}

/// A token that was made.
#[derive(Serialize, ToSchema)]
pub struct MadeToken {
    /// Number.
    token_id: i32,
    /// To be shown as `Authorization: Bearer …`. It is told this once only.
    token: String,
}

/// Make a token. It needs a session: no token makes another.
#[utoipa::path(post, path = "/account/tokens", tag = "account", request_body = NewToken,
    responses((status = 201, body = MadeToken), (status = 409, body = Problem)))]
pub async fn make_token(
    State(app): State<App>,
    InPerson(caller): InPerson,
    note: AuditNote,
    Body(new): Body<NewToken>,
) -> Result<(StatusCode, Json<MadeToken>), Problem> {
    let mut errors = Vec::new();
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > MOST_TOKEN_NAME_LETTERS {
        let remedy = format!("Give a name of 1 to {MOST_TOKEN_NAME_LETTERS} characters that says what it is for.");
        errors.push(FieldProblem::new("name", &new.name, remedy));
    }
    if !(1..=LONGEST_TOKEN_DAYS).contains(&new.days) {
        errors.push(FieldProblem::new("days", new.days, format!("Give from 1 to {LONGEST_TOKEN_DAYS} days.")));
    }
    let role = new.role.0;
    if role > caller.role {
        let remedy = format!("Give a role that you have yourself: {} or less.", caller.role.name());
        errors.push(FieldProblem::new("role", role.name(), remedy));
    }
    if !errors.is_empty() {
        return Err(Problem::invalid(errors));
    }
    let token = format!("{TOKEN_BEGIN}{}", random_text(TOKEN_LETTERS));
    let expires_at = now().plus_seconds(f64::from(new.days) * SECONDS_PER_DAY);
    let token_id = app.store.add_token(caller.account_id, name, role, &token_hash(&token), expires_at).await?;
    note.detail(format!("{name}, {} for {} days", role.name(), new.days));
    Ok((StatusCode::CREATED, Json(MadeToken { token_id, token })))
}

/// Take a token back: it opens nothing any more.
#[utoipa::path(delete, path = "/account/tokens/{token_id}", tag = "account", params(("token_id" = i32, Path)),
    responses((status = 204)))]
pub async fn end_token(
    State(app): State<App>,
    InPerson(caller): InPerson,
    Path(token_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    if !app.store.end_token(caller.account_id, token_id).await? {
        return Err(Problem::not_found("token_id", "token", token_id));
    }
    Ok(StatusCode::NO_CONTENT)
}
