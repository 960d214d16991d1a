//! Stored credentials: accounts on watched servers, to be used under a name by several instances.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_store::{Credential, StoreProblem};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::{Administrator, Body, Path};
use super::problem::{Answer, FieldProblem, Problem};
use super::recorder::AuditNote;
use super::window::moment;
use crate::state::App;

const MOST_NAME_LETTERS: usize = 60;
const MOST_ACCOUNT_LETTERS: usize = 200;

/// An account on watched servers. Its password is never told.
#[derive(Serialize, ToSchema)]
pub struct CredentialFigures {
    /// Number.
    credential_id: i32,
    /// What it is called here.
    name: String,
    /// Name of the account.
    account: String,
    /// When it was made or changed last.
    changed_at: DateTime<Utc>,
    /// Instances that use it.
    used_by: i64,
}

impl From<Credential> for CredentialFigures {
    fn from(credential: Credential) -> Self {
        CredentialFigures {
            credential_id: credential.credential_id,
            name: credential.name,
            account: credential.account_name,
            changed_at: moment(credential.changed_at),
            used_by: credential.used_by,
        }
    }
}

/// All credentials by name.
#[utoipa::path(get, path = "/credentials", tag = "instances", responses((status = 200, body = Vec<CredentialFigures>)))]
pub async fn list_credentials(State(app): State<App>, _: Administrator) -> Answer<Vec<CredentialFigures>> {
    Ok(Json(app.store.credentials().await?.into_iter().map(CredentialFigures::from).collect()))
}

/// A credential to be stored.
#[derive(Deserialize, ToSchema)]
pub struct NewCredential {
    /// What it is to be called here.
    name: String,
    /// Name of the account on the watched servers.
    account: String,
    /// Its password.
    password: String,
}

/// What was stored.
#[derive(Serialize, ToSchema)]
pub struct StoredCredential {
    /// Its number.
    credential_id: i32,
}

fn faulty_account(account: &str) -> Option<FieldProblem> {
    let is_good =
        !account.trim().is_empty() && account.chars().count() <= MOST_ACCOUNT_LETTERS && !account.contains('\0');
    (!is_good).then(|| FieldProblem::new("account", account, "Give the name of an account, of 1 to 200 characters."))
}

/// Store a credential under a name.
#[utoipa::path(post, path = "/credentials", tag = "instances", request_body = NewCredential,
    responses((status = 201, body = StoredCredential), (status = 409, body = Problem), (status = 422, body = Problem)))]
pub async fn add_credential(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(new): Body<NewCredential>,
) -> Result<(StatusCode, Json<StoredCredential>), Problem> {
    let name = new.name.trim();
    let mut errors: Vec<FieldProblem> = faulty_account(&new.account).into_iter().collect();
    if name.is_empty() || name.chars().count() > MOST_NAME_LETTERS || name.contains('\0') {
        let remedy = format!("Give a name of 1 to {MOST_NAME_LETTERS} characters.");
        errors.push(FieldProblem::new("name", &new.name, remedy));
    }
    if !errors.is_empty() {
        return Err(Problem::invalid(errors));
    }
    note.detail(format!("{name}: {}", new.account));
    let sealed = app.sealer.seal(&new.password).map_err(Problem::internal)?;
    let credential_id = app.store.add_credential(name, &new.account, &sealed).await?;
    Ok((StatusCode::CREATED, Json(StoredCredential { credential_id })))
}

/// Another account or password for a credential.
#[derive(Deserialize, ToSchema)]
pub struct ChangedCredential {
    /// Name of the account on the watched servers.
    account: String,
    /// Its password; left out, the stored one stays.
    password: Option<String>,
}

/// Change a credential. All instances that use it sign in with it from then on.
#[utoipa::path(put, path = "/credentials/{credential_id}", tag = "instances", params(("credential_id" = i32, Path)),
    request_body = ChangedCredential,
    responses((status = 204), (status = 404, body = Problem), (status = 422, body = Problem)))]
pub async fn change_credential(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(credential_id): Path<i32>,
    Body(changed): Body<ChangedCredential>,
) -> Result<StatusCode, Problem> {
    if let Some(fault) = faulty_account(&changed.account) {
        return Err(Problem::invalid(vec![fault]));
    }
    let sealed = changed.password.map(|password| app.sealer.seal(&password)).transpose();
    let sealed = sealed.map_err(Problem::internal)?;
    note.detail(name_of(&app, credential_id).await?);
    if !app.store.change_credential(credential_id, &changed.account, sealed.as_deref()).await? {
        return Err(Problem::not_found("credential", credential_id));
    }
    app.instances_changed.notify_one();
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a credential that no instance uses.
#[utoipa::path(delete, path = "/credentials/{credential_id}", tag = "instances", params(("credential_id" = i32, Path)),
    responses((status = 204), (status = 404, body = Problem), (status = 409, body = Problem)))]
pub async fn remove_credential(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(credential_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    note.detail(name_of(&app, credential_id).await?);
    let removed = app.store.remove_credential(credential_id).await;
    let in_use = "Instances use it: give them another credential, or a password of their own, first.";
    match removed {
        Ok(true) => Ok(StatusCode::NO_CONTENT),
        Ok(false) => Err(Problem::not_found("credential", credential_id)),
        Err(StoreProblem::InUse) => Err(Problem::conflict(in_use)),
        Err(other) => Err(other.into()),
    }
}

async fn name_of(app: &App, credential_id: i32) -> Result<String, Problem> {
    let known = app.store.credentials().await?.into_iter().find(|known| known.credential_id == credential_id);
    known.map(|known| known.name).ok_or_else(|| Problem::not_found("credential", credential_id))
}
