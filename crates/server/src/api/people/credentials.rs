//! Stored credentials: accounts on watched servers, to be used under a name by several instances.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::access::stored_secret::is_widened;
use hurnix_store::{Credential, StoreProblem};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Administrator, Body, Path};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::state::App;

const MOST_NAME_LETTERS: usize = 60;
const MOST_ACCOUNT_LETTERS: usize = 200;
const MOST_HOSTS: usize = 50;

/// An account on watched servers. Its password is never told.
#[derive(Serialize, ToSchema)]
pub struct CredentialFigures {
    /// Number.
    credential_id: i32,
    /// What it is called here.
    name: String,
    /// Name of the account.
    account: String,
    /// Hosts that it may be sent to; any while there are none.
    hosts: Vec<String>,
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
            hosts: credential.hosts,
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
    /// Hosts that it may be sent to, 50 at most; any where there are none.
    #[serde(default)]
    hosts: Vec<String>,
}

/// What was stored.
#[derive(Serialize, ToSchema)]
pub struct StoredCredential {
    /// Its number.
    credential_id: i32,
}

fn faulty_account(account: &str) -> Option<FieldProblem> {
    let is_good = !account.trim().is_empty() && account.chars().count() <= MOST_ACCOUNT_LETTERS;
    (!is_good).then(|| FieldProblem::new("account", account, "Give the name of an account, of 1 to 200 characters."))
}

/// Hosts as they are kept, or what is wrong with them.
fn checked_hosts(hosts: &[String]) -> Result<Vec<String>, FieldProblem> {
    let mut kept: Vec<String> = hosts.iter().map(|host| host.trim().to_owned()).collect();
    kept.sort();
    kept.dedup();
    let is_good = |host: &String| !host.is_empty() && host.chars().count() <= MOST_ACCOUNT_LETTERS;
    if kept.len() > MOST_HOSTS || !kept.iter().all(is_good) {
        let remedy = format!(
            "Give at most {MOST_HOSTS} host names or addresses, each of 1 to {MOST_ACCOUNT_LETTERS} characters."
        );
        return Err(FieldProblem::new("hosts", hosts.join(", "), remedy));
    }
    Ok(kept)
}

/// Store a credential under a name.
#[utoipa::path(post, path = "/credentials", tag = "instances", request_body = NewCredential,
    responses((status = 201, body = StoredCredential), (status = 409, body = Problem)))]
pub async fn add_credential(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(new): Body<NewCredential>,
) -> Result<(StatusCode, Json<StoredCredential>), Problem> {
    let name = new.name.trim();
    let mut errors: Vec<FieldProblem> = faulty_account(&new.account).into_iter().collect();
    if name.is_empty() || name.chars().count() > MOST_NAME_LETTERS {
        let remedy = format!("Give a name of 1 to {MOST_NAME_LETTERS} characters.");
        errors.push(FieldProblem::new("name", &new.name, remedy));
    }
    let hosts = checked_hosts(&new.hosts).unwrap_or_else(|fault| {
        errors.push(fault);
        Vec::new()
    });
    if !errors.is_empty() {
        return Err(Problem::invalid(errors));
    }
    note.detail(format!("{name}: {}", new.account));
    let sealed = app.sealer.seal(&new.password).map_err(Problem::internal)?;
    let credential_id = app.store.add_credential(name, &new.account, &sealed, &hosts).await?;
    Ok((StatusCode::CREATED, Json(StoredCredential { credential_id })))
}

/// Another account or password for a credential.
#[derive(Deserialize, ToSchema)]
pub struct ChangedCredential {
    /// Name of the account on the watched servers.
    account: String,
    /// Its password; left out, the stored one stays, unless it may go to more hosts than before.
    password: Option<String>,
    /// Hosts that it may be sent to; left out, they stay; none means any.
    hosts: Option<Vec<String>>,
}

/// Change a credential. All instances that use it sign in with it from then on.
#[utoipa::path(put, path = "/credentials/{credential_id}", tag = "instances", params(("credential_id" = i32, Path)),
    request_body = ChangedCredential,
    responses((status = 204)))]
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
    let known = find(&app, credential_id).await?;
    note.detail(known.name);
    let hosts = changed.hosts.as_deref().map(checked_hosts).transpose();
    let hosts = hosts.map_err(|fault| Problem::invalid(vec![fault]))?.unwrap_or(known.hosts.clone());
    if changed.password.is_none() && is_widened(&known.hosts, &hosts) {
        let remedy = "It may go to more hosts than before: give its password anew.";
        return Err(Problem::invalid(vec![FieldProblem::secret("password", remedy)]));
    }
    let sealed = changed.password.map(|password| app.sealer.seal(&password)).transpose();
    let sealed = sealed.map_err(Problem::internal)?;
    if !app.store.change_credential(credential_id, &changed.account, sealed.as_deref(), &hosts).await? {
        return Err(Problem::not_found("credential_id", "credential", credential_id));
    }
    app.instances_changed.notify_one();
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a credential that no instance uses.
#[utoipa::path(delete, path = "/credentials/{credential_id}", tag = "instances", params(("credential_id" = i32, Path)),
    responses((status = 204), (status = 409, body = Problem)))]
pub async fn remove_credential(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(credential_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    note.detail(find(&app, credential_id).await?.name);
    let removed = app.store.remove_credential(credential_id).await;
    let in_use = "Instances use it: give them another credential, or a password of their own, first.";
    match removed {
        Ok(true) => Ok(StatusCode::NO_CONTENT),
        Ok(false) => Err(Problem::not_found("credential_id", "credential", credential_id)),
        Err(StoreProblem::InUse) => Err(Problem::conflict(FieldProblem::new("credential_id", credential_id, in_use))),
        Err(other) => Err(other.into()),
    }
}

async fn find(app: &App, credential_id: i32) -> Result<Credential, Problem> {
    let known = app.store.credentials().await?.into_iter().find(|known| known.credential_id == credential_id);
    known.ok_or_else(|| Problem::not_found("credential_id", "credential", credential_id))
}
