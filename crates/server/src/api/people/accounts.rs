//! The accounts of all, for administrators.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::access::role::Role;
use hurnix_core::{Named, Timestamp};
use hurnix_store::{Account, NewAccount, StoreProblem};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{AdministratorInPerson, Body, Path};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::{RoleWord, Word};
use crate::api::people::account::SessionFigures;
use crate::api::people::session::MOST_NAME_LETTERS;
use crate::passwords;
use crate::secrets::random_text;
use crate::state::App;

/// Letters of a one-time password.
const ONE_TIME_LETTERS: usize = 16;
const MOST_GROUPS: usize = 50;
/// Longest name of a group of instances.
pub const MOST_GROUP_LETTERS: usize = 60;

/// Somebody who may use Hurnix.
#[derive(Serialize, ToSchema)]
pub struct AccountFigures {
    /// Number.
    account_id: i32,
    /// Name to sign in with.
    name: String,
    /// What it may do.
    role: RoleWord,
    /// Groups of instances that it is limited to; it sees all while there are none.
    groups: Vec<String>,
    /// Whether its password serves for nothing but to set another one.
    one_time: bool,
    /// When it was made.
    created_at: DateTime<Utc>,
    /// When it was last used, to within a minute.
    seen_at: Option<DateTime<Utc>>,
}

fn figures((account, seen_at): (Account, Option<Timestamp>)) -> AccountFigures {
    AccountFigures {
        account_id: account.account_id,
        name: account.name,
        role: Word(account.role),
        groups: account.groups,
        one_time: account.one_time,
        created_at: moment(account.created_at),
        seen_at: seen_at.map(moment),
    }
}

/// All accounts by name.
#[utoipa::path(get, path = "/accounts", tag = "accounts", responses((status = 200, body = Vec<AccountFigures>)))]
pub async fn list_accounts(State(app): State<App>, _: AdministratorInPerson) -> Answer<Vec<AccountFigures>> {
    Ok(Json(app.store.accounts().await?.into_iter().map(figures).collect()))
}

/// What an account may do.
#[derive(Deserialize, ToSchema)]
pub struct Rights {
    /// What it may do.
    role: RoleWord,
    /// Groups of instances to limit it to; none for all instances. Administrators cannot be limited.
    #[serde(default)]
    groups: Vec<String>,
}

impl Rights {
    fn check(&self) -> Result<(Role, Vec<String>), Problem> {
        let mut errors = Vec::new();
        let role = self.role.0;
        if role == Role::Administrator && !self.groups.is_empty() {
            let remedy = "Administrators manage all instances: leave the groups out, or make it a tuner.";
            errors.push(FieldProblem::new("groups", self.groups.join(", "), remedy));
        }
        let mut groups: Vec<String> = self.groups.iter().map(|group| group.trim().to_owned()).collect();
        groups.sort();
        groups.dedup();
        if groups.len() > MOST_GROUPS || !groups.iter().all(|group| is_group(group)) {
            let remedy = format!("Give at most {MOST_GROUPS} groups, each of 1 to {MOST_GROUP_LETTERS} characters.");
            errors.push(FieldProblem::new("groups", self.groups.join(", "), remedy));
        }
        if errors.is_empty() { Ok((role, groups)) } else { Err(Problem::invalid(errors)) }
    }
}

/// Whether that may be the name of a group.
pub fn is_group(name: &str) -> bool {
    !name.trim().is_empty() && name.chars().count() <= MOST_GROUP_LETTERS
}

/// How rights are told in the audit trail.
fn told(name: &str, role: Role, groups: &[String]) -> String {
    match groups {
        [] => format!("{name}: {}", role.name()),
        groups => format!("{name}: {} of {}", role.name(), groups.join(", ")),
    }
}

/// An account to be made.
#[derive(Deserialize, ToSchema)]
pub struct AccountToMake {
    /// Name to sign in with.
    name: String,
    /// What it may do.
    role: RoleWord,
    /// Groups of instances to limit it to; none for all instances. Administrators cannot be limited.
    #[serde(default)]
    groups: Vec<String>,
}

/// A one-time password.
#[derive(Serialize, ToSchema)]
pub struct OneTimePassword {
    /// Number of the account.
    account_id: i32,
    /// To sign in with once, and to set another one. It is told this once only.
    password: String,
}

/// Create an account. Its one-time password is shown once.
#[utoipa::path(post, path = "/accounts", tag = "accounts", request_body = AccountToMake,
    responses((status = 201, body = OneTimePassword), (status = 409, body = Problem)))]
pub async fn add_account(
    State(app): State<App>,
    _: AdministratorInPerson,
    note: AuditNote,
    Body(new): Body<AccountToMake>,
) -> Result<(StatusCode, Json<OneTimePassword>), Problem> {
    let name = new.name.trim();
    if name.is_empty() || name.chars().count() > MOST_NAME_LETTERS {
        let remedy = format!("Give a name of 1 to {MOST_NAME_LETTERS} characters.");
        return Err(Problem::invalid(vec![FieldProblem::new("name", &new.name, remedy)]));
    }
    let (role, groups) = Rights { role: new.role, groups: new.groups }.check()?;
    note.detail(told(name, role, &groups));
    let (password, password_hash) = one_time_password().await?;
    let account = NewAccount { name, role, password_hash: &password_hash, one_time: true, groups: &groups };
    let account_id = app.store.add_account(&account).await?;
    Ok((StatusCode::CREATED, Json(OneTimePassword { account_id, password })))
}

async fn one_time_password() -> Result<(String, String), Problem> {
    let password = random_text(ONE_TIME_LETTERS);
    let hashed = password.clone();
    let hash = tokio::task::spawn_blocking(move || passwords::hash(&hashed)).await.map_err(Problem::internal)?;
    Ok((password, hash))
}

/// Change what an account may do. Its sessions go on, with what it may do from then on.
#[utoipa::path(put, path = "/accounts/{account_id}", tag = "accounts", params(("account_id" = i32, Path)),
    request_body = Rights,
    responses((status = 204), (status = 409, body = Problem)))]
pub async fn change_account(
    State(app): State<App>,
    _: AdministratorInPerson,
    note: AuditNote,
    Path(account_id): Path<i32>,
    Body(rights): Body<Rights>,
) -> Result<StatusCode, Problem> {
    let (role, groups) = rights.check()?;
    note.detail(told(&name_of(&app, account_id).await?, role, &groups));
    there_was(account_id, app.store.change_account(account_id, role, &groups).await.map_err(unless_last)?)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove an account with its sessions and tokens. What it did stays in the audit trail.
#[utoipa::path(delete, path = "/accounts/{account_id}", tag = "accounts", params(("account_id" = i32, Path)),
    responses((status = 204), (status = 409, body = Problem)))]
pub async fn remove_account(
    State(app): State<App>,
    _: AdministratorInPerson,
    note: AuditNote,
    Path(account_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    note.detail(name_of(&app, account_id).await?);
    there_was(account_id, app.store.remove_account(account_id).await.map_err(unless_last)?)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Give an account a one-time password in place of its own, for somebody who forgot theirs. Its sessions end,
/// and wrong passwords given so far are forgiven.
#[utoipa::path(post, path = "/accounts/{account_id}/one-time-password", tag = "accounts",
    params(("account_id" = i32, Path)),
    responses((status = 200, body = OneTimePassword)))]
pub async fn reset_password(
    State(app): State<App>,
    _: AdministratorInPerson,
    note: AuditNote,
    Path(account_id): Path<i32>,
) -> Answer<OneTimePassword> {
    let name = name_of(&app, account_id).await?;
    note.detail(name.clone());
    let (password, hash) = one_time_password().await?;
    there_was(account_id, app.store.set_password(account_id, &hash, true, None).await?)?;
    app.store.forgive_account(&name).await?;
    Ok(Json(OneTimePassword { account_id, password }))
}

/// Where an account is signed in, the session used last first.
#[utoipa::path(get, path = "/accounts/{account_id}/sessions", tag = "accounts", params(("account_id" = i32, Path)),
    responses((status = 200, body = Vec<SessionFigures>)))]
pub async fn account_sessions(
    State(app): State<App>,
    AdministratorInPerson(caller): AdministratorInPerson,
    Path(account_id): Path<i32>,
) -> Answer<Vec<SessionFigures>> {
    name_of(&app, account_id).await?;
    let sessions = app.store.sessions(account_id).await?;
    Ok(Json(sessions.into_iter().map(|row| SessionFigures::new(row, &caller)).collect()))
}

/// End a session of an account.
#[utoipa::path(delete, path = "/accounts/{account_id}/sessions/{session_id}", tag = "accounts",
    params(("account_id" = i32, Path), ("session_id" = i32, Path)),
    responses((status = 204)))]
pub async fn end_account_session(
    State(app): State<App>,
    _: AdministratorInPerson,
    note: AuditNote,
    Path((account_id, session_id)): Path<(i32, i32)>,
) -> Result<StatusCode, Problem> {
    note.detail(name_of(&app, account_id).await?);
    if !app.store.end_session(account_id, session_id).await? {
        return Err(Problem::not_found("session_id", "session", session_id));
    }
    Ok(StatusCode::NO_CONTENT)
}

async fn name_of(app: &App, account_id: i32) -> Result<String, Problem> {
    let accounts = app.store.accounts().await?;
    let account = accounts.into_iter().find(|(account, _)| account.account_id == account_id);
    account.map(|(account, _)| account.name).ok_or_else(|| Problem::not_found("account_id", "account", account_id))
}

/// Somebody else may have removed it meanwhile.
fn there_was(account_id: i32, was: bool) -> Result<(), Problem> {
    if was { Ok(()) } else { Err(Problem::not_found("account_id", "account", account_id)) }
}

fn unless_last(problem: StoreProblem) -> Problem {
    let conflict = |remedy: &str| Problem::conflict(FieldProblem::secret("role", remedy));
    match problem {
        StoreProblem::LastAdministrator => conflict("This is the only administrator: make somebody else one first."),
        StoreProblem::SecondPerson => conflict(
            "A second person must approve what is put in force, and nobody would be left for that: make somebody else an administrator first.",
        ),
        other => other.into(),
    }
}
