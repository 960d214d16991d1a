use hurnix_source::postgres::{Address, TlsMode};
use hurnix_store::{Instance, NewInstance};
use serde::Deserialize;
use utoipa::ToSchema;

use super::accounts::{MOST_GROUP_LETTERS, is_group};
use super::problem::{FieldProblem, Problem};
use crate::state::App;

const MOST_LETTERS: usize = 200;
const MOST_ENDPOINT_LETTERS: usize = 500;
/// Of a long value that is wrong, so much is told.
const MOST_TOLD_LETTERS: usize = 60;

/// How to reach a server.
#[derive(Debug, Clone, Default, Deserialize, ToSchema)]
pub struct Connection {
    /// Name on the roster.
    pub label: String,
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Database to connect to.
    pub database: String,
    /// Account to sign in with; left out where a credential is named.
    #[serde(default)]
    pub account: String,
    /// Its password. When an instance is changed, leaving it out keeps the stored one.
    pub password: Option<String>,
    /// Name of a stored credential to sign in with, instead of account and password.
    pub credential: Option<String>,
    /// How to encrypt the connection: `off`, `prefer`, `require` or `verify`.
    pub tls: String,
    /// Certificates, in PEM form, that the server's is checked against besides those that this machine trusts.
    pub tls_ca: Option<String>,
    /// Address of an exporter that tells of the server's host, such as `http://db1:9470/metrics`; left out for none.
    pub host_endpoint: Option<String>,
    /// Whether literals in the server's log may be kept; left out, they are masked.
    #[serde(default)]
    pub keeps_literals: bool,
    /// Group that accounts may be limited to; heeded when an instance is added.
    pub group: Option<String>,
}

/// Whom to sign in as.
struct SignsInAs {
    account_name: String,
    secret_sealed: Vec<u8>,
    credential_id: Option<i32>,
}

impl Connection {
    /// What is wrong with it by itself.
    pub fn faults(&self) -> Vec<FieldProblem> {
        let mut faults = Vec::new();
        let mut texts =
            vec![("label", self.label.as_str()), ("host", self.host.as_str()), ("database", self.database.as_str())];
        if self.credential.is_none() {
            texts.push(("account", &self.account));
        } else if !self.account.is_empty() || self.password.is_some() {
            let remedy = "Give either a credential, or an account with its password.";
            faults.push(FieldProblem::new("account", &self.account, remedy));
        }
        for (field, value) in texts {
            if value.trim().is_empty() {
                faults.push(FieldProblem::new(field, value, "It is empty: give one."));
            } else if value.chars().count() > MOST_LETTERS || value.contains('\0') {
                let remedy = "It is longer than 200 characters or holds a zero byte: shorten it.";
                faults.push(FieldProblem::new(field, value, remedy));
            }
        }
        if self.port == 0 {
            let remedy = "Give a port from 1 to 65535; PostgreSQL's usual one is 5432.";
            faults.push(FieldProblem::new("port", self.port, remedy));
        }
        if self.tls_mode().is_none() {
            faults.push(FieldProblem::new("tls", &self.tls, "Give off, prefer, require or verify."));
        }
        if let Some(ca) = self.tls_ca.as_deref().filter(|ca| !ca.contains("-----BEGIN CERTIFICATE-----")) {
            let told: String = ca.chars().take(MOST_TOLD_LETTERS).collect();
            let remedy = "Give certificates in PEM form, beginning with -----BEGIN CERTIFICATE-----, or leave it out.";
            faults.push(FieldProblem::new("tls_ca", told, remedy));
        }
        if let Some(endpoint) = &self.host_endpoint
            && (!endpoint.starts_with("http://") && !endpoint.starts_with("https://")
                || endpoint.len() > MOST_ENDPOINT_LETTERS)
        {
            let remedy = "Give an address that begins with http:// or https://, or leave it out.";
            faults.push(FieldProblem::new("host_endpoint", endpoint, remedy));
        }
        if let Some(group) = self.group.as_deref().filter(|group| !is_group(group)) {
            let remedy = format!("Give a name of 1 to {MOST_GROUP_LETTERS} characters, or leave it out for no group.");
            faults.push(FieldProblem::new("group", group, remedy));
        }
        faults
    }

    fn tls_mode(&self) -> Option<TlsMode> {
        serde_json::from_value(self.tls.clone().into()).ok()
    }

    /// How it is told in the audit trail.
    pub fn told(&self) -> String {
        let Connection { label, host, port, database, account, credential, .. } = self;
        let who = credential.as_ref().map_or(account.clone(), |credential| format!("credential {credential}"));
        format!("{label}: {who} at {host}:{port}/{database}")
    }

    /// As it is to be stored, when nothing is wrong with it.
    pub async fn checked(&self, app: &App, known: Option<&Instance>) -> Result<NewInstance, Problem> {
        let SignsInAs { account_name, secret_sealed, credential_id } = self.signs_in_as(app, known).await?;
        Ok(NewInstance {
            label: self.label.trim().to_owned(),
            host: self.host.trim().to_owned(),
            port: self.port,
            database_name: self.database.clone(),
            account_name,
            secret_sealed,
            tls_mode: self.tls.clone(),
            tls_ca: self.tls_ca.clone(),
            host_endpoint: self.host_endpoint.clone(),
            keeps_literals: self.keeps_literals,
            credential_id,
            group: self.group.as_deref().map(|group| group.trim().to_owned()),
        })
    }

    /// Where it leads, when nothing is wrong with it.
    pub async fn address(&self, app: &App, known: Option<&Instance>) -> Result<Address, Problem> {
        let SignsInAs { account_name, secret_sealed, .. } = self.signs_in_as(app, known).await?;
        let password = app.sealer.unseal(&secret_sealed);
        let password =
            password.map_err(|error| Problem::invalid(vec![FieldProblem::secret("password", format!("{error}."))]))?;
        Ok(Address {
            host: self.host.trim().to_owned(),
            port: self.port,
            database: self.database.clone(),
            account: account_name,
            password,
            tls: self.tls_mode().unwrap_or(TlsMode::Prefer),
            tls_ca: self.tls_ca.clone(),
        })
    }

    async fn signs_in_as(&self, app: &App, known: Option<&Instance>) -> Result<SignsInAs, Problem> {
        let faults = self.faults();
        if !faults.is_empty() {
            return Err(Problem::invalid(faults));
        }
        if let Some(name) = &self.credential {
            let credential = app.store.credentials().await?.into_iter().find(|credential| credential.name == *name);
            let credential = credential.ok_or_else(|| {
                let remedy = "There is no credential of that name: name another, or store it first.";
                Problem::invalid(vec![FieldProblem::new("credential", name, remedy)])
            })?;
            return Ok(SignsInAs {
                account_name: credential.account_name,
                secret_sealed: credential.secret_sealed,
                credential_id: Some(credential.credential_id),
            });
        }
        let secret_sealed = match (&self.password, known) {
            (None, Some(known)) if known.credential_id.is_none() => known.secret_sealed.clone(),
            (password, _) => app.sealer.seal(password.as_deref().unwrap_or_default()).map_err(Problem::internal)?,
        };
        Ok(SignsInAs { account_name: self.account.clone(), secret_sealed, credential_id: None })
    }
}
