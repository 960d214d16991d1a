use hurnix_core::Named;
use hurnix_core::access::stored_secret::{Way, asks_anew, may_go_to};
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_core::instance::instance_settings::{InstanceSettings, SETTINGS, SettingFault, Surroundings};
use hurnix_source::exporter::address_fault;
use hurnix_source::postgres::Address;
use hurnix_store::{Instance, NewInstance};
use serde::Deserialize;
use utoipa::ToSchema;

use crate::address::{is_socket, known_tls_mode};
use crate::api::base::input::text_fault;
use crate::api::base::problem::{FieldProblem, Problem};
use crate::api::base::word::TlsModeWord;
use crate::api::people::accounts::{MOST_GROUP_LETTERS, is_group};
use crate::state::App;
use crate::zone::is_time_zone;

const MOST_LETTERS: usize = 200;
/// Of certificates that are wrong, so much is told.
const MOST_TOLD_LETTERS: usize = 60;

/// How to reach a server.
#[derive(Debug, Clone, Deserialize, ToSchema)]
pub struct Connection {
    /// Name on the roster.
    pub label: String,
    /// Host name or address; a folder of Unix sockets, beginning with `/`, only where `--allow-sockets` is set.
    pub host: String,
    /// Port.
    #[schema(minimum = 1, maximum = 65535)]
    pub port: u16,
    /// Database to connect to.
    pub database: String,
    /// Account to sign in with; left out where a credential is named.
    #[serde(default)]
    pub account: String,
    /// Its password. When an instance is changed, leaving it out keeps the stored one; it must be given anew where
    /// the host or the port changes, or where less protects it on the way.
    pub password: Option<String>,
    /// Name of a stored credential to sign in with, instead of account and password.
    pub credential: Option<String>,
    /// How to encrypt the connection.
    pub tls: TlsModeWord,
    /// Certificates, in PEM form, that the server's is checked against besides those that this machine trusts; only
    /// with `verify`.
    pub tls_ca: Option<String>,
    /// Address of an exporter that tells of the server's host, such as `http://db1:9470/metrics`; left out for none.
    pub host_endpoint: Option<String>,
    /// Value of the header `Authorization` that the exporter asks for, such as `Bearer …`. When an instance is
    /// changed, leaving it out keeps the stored one while the address stays the same; empty means none.
    pub host_secret: Option<String>,
    /// Whether the password may be sent in clear text or as MD5 to a server that has not proved who it is; refused
    /// when left out.
    #[serde(default)]
    pub allows_plain_password: bool,
    /// How it is to be treated; what is left out is as usual.
    #[serde(default)]
    pub settings: InstanceSettings,
    /// Group that accounts may be limited to; heeded when an instance is added.
    pub group: Option<String>,
}

impl From<SettingFault> for FieldProblem {
    fn from(fault: SettingFault) -> Self {
        FieldProblem::new(fault.name, fault.value, fault.remedy)
    }
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
            } else if value.chars().count() > MOST_LETTERS {
                faults.push(FieldProblem::new(field, value, "It is longer than 200 characters: shorten it."));
            } else {
                // Rows of a list come without having been looked at.
                faults.extend(text_fault(field, value));
            }
        }
        if self.port == 0 {
            let remedy = "Give a port from 1 to 65535; PostgreSQL's usual one is 5432.";
            faults.push(FieldProblem::new("port", self.port, remedy));
        }
        if self.tls.0 != TlsMode::Verify && self.tls_ca.is_some() {
            let remedy = "Signers are looked at with verify only: choose it for tls, or leave the certificates out.";
            faults.push(FieldProblem::new("tls_ca", "", remedy));
        }
        if let Some(ca) = self.tls_ca.as_deref().filter(|ca| !ca.contains("-----BEGIN CERTIFICATE-----")) {
            let told: String = ca.chars().take(MOST_TOLD_LETTERS).collect();
            let remedy = "Give certificates in PEM form, beginning with -----BEGIN CERTIFICATE-----, or leave it out.";
            faults.push(FieldProblem::new("tls_ca", told, remedy));
        }
        if let Some(endpoint) = &self.host_endpoint {
            let is_line = text_fault("host_endpoint", endpoint);
            let fault = is_line.map(|fault| fault.remedy).or_else(|| address_fault(endpoint).map(str::to_owned));
            // The address may hold a secret: that is what is wrong with it then.
            faults.extend(fault.map(|remedy| FieldProblem::secret("host_endpoint", remedy)));
        }
        if let Some(secret) = &self.host_secret {
            let is_header = secret.chars().all(|letter| letter.is_ascii_graphic() || letter == ' ');
            if !is_header || self.host_endpoint.is_none() && !secret.is_empty() {
                let remedy = "Give the value of a header, such as Bearer …, with the address of an exporter.";
                faults.push(FieldProblem::secret("host_secret", remedy));
            }
        }
        faults.extend(self.setting_faults());
        let others = [("tls_ca", &self.tls_ca), ("credential", &self.credential), ("group", &self.group)];
        faults.extend(others.iter().filter_map(|(field, value)| text_fault(field, value.as_deref()?)));
        if let Some(group) = self.group.as_deref().filter(|group| !is_group(group)) {
            let remedy = format!("Give a name of 1 to {MOST_GROUP_LETTERS} characters, or leave it out for no group.");
            faults.push(FieldProblem::new("group", group, remedy));
        }
        faults
    }

    fn setting_faults(&self) -> Vec<FieldProblem> {
        let around = Surroundings { database: &self.database, is_time_zone };
        let faults = self.settings.faults(&around).into_iter().map(FieldProblem::from);
        // Rows of a list come without having been looked at.
        let texts = SETTINGS.iter().filter_map(|setting| text_fault(setting.name, &self.settings.written(setting)));
        faults.chain(texts).collect()
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
            tls_mode: self.tls.0.name().into(),
            tls_ca: self.tls_ca.clone(),
            host_endpoint: self.host_endpoint.clone(),
            host_secret_sealed: self.host_secret_sealed(app, known)?,
            allows_plain_password: self.allows_plain_password,
            settings: self.settings.clone(),
            credential_id,
            group: self.group.as_deref().map(|group| group.trim().to_owned()),
        })
    }

    /// What the exporter asks for: the stored one stays with its address.
    fn host_secret_sealed(&self, app: &App, known: Option<&Instance>) -> Result<Option<Vec<u8>>, Problem> {
        let Some(endpoint) = &self.host_endpoint else { return Ok(None) };
        match (&self.host_secret, known) {
            (Some(secret), _) if secret.is_empty() => Ok(None),
            (Some(secret), _) => app.sealer.seal(secret).map(Some).map_err(Problem::internal),
            (None, Some(known)) if known.host_endpoint.as_ref() == Some(endpoint) => {
                Ok(known.host_secret_sealed.clone())
            }
            (None, Some(Instance { host_secret_sealed: Some(_), .. })) => {
                let remedy =
                    "The address of the exporter is another: give what it asks for anew, or an empty text for nothing.";
                Err(Problem::invalid(vec![FieldProblem::secret("host_secret", remedy)]))
            }
            (None, _) => Ok(None),
        }
    }

    /// Where it leads, when nothing is wrong with it.
    pub async fn address(&self, app: &App, known: Option<&Instance>) -> Result<Address, Problem> {
        let SignsInAs { account_name, secret_sealed, .. } = self.signs_in_as(app, known).await?;
        let password = app.sealer.unseal(&secret_sealed);
        let password =
            password.map_err(|error| Problem::invalid(vec![FieldProblem::secret("password", format!("{error}."))]))?;
        let way = self.way();
        Ok(Address {
            host: way.host.to_owned(),
            port: way.port,
            database: self.database.clone(),
            account: account_name,
            password,
            tls: way.tls,
            tls_ca: self.tls_ca.clone(),
            allows_plain_password: way.allows_plain_password,
        })
    }

    /// Where the password goes.
    fn way(&self) -> Way<'_> {
        Way {
            host: self.host.trim(),
            port: self.port,
            tls: self.tls.0,
            signers: self.tls_ca.as_deref(),
            allows_plain_password: self.allows_plain_password,
        }
    }

    async fn signs_in_as(&self, app: &App, known: Option<&Instance>) -> Result<SignsInAs, Problem> {
        let faults = self.faults();
        if !faults.is_empty() {
            return Err(Problem::invalid(faults));
        }
        if is_socket(&self.host) && !app.allows_sockets {
            let remedy = "Folders of sockets are taken only where Hurnix runs with --allow-sockets: give a host name or an address.";
            return Err(Problem::invalid(vec![FieldProblem::new("host", &self.host, remedy)]));
        }
        match &self.credential {
            Some(name) => self.by_credential(app, name).await,
            None => self.by_itself(app, known),
        }
    }

    async fn by_credential(&self, app: &App, name: &str) -> Result<SignsInAs, Problem> {
        let refused = |remedy: &str| Problem::invalid(vec![FieldProblem::new("credential", name, remedy)]);
        let credential = app.store.credentials().await?.into_iter().find(|credential| credential.name == *name);
        let credential = credential
            .ok_or_else(|| refused("There is no credential of that name: name another, or store it first."))?;
        if !may_go_to(&credential.hosts, self.host.trim()) {
            return Err(refused(&format!(
                "It is bound to {}: name another one, or add this host to it.",
                credential.hosts.join(", ")
            )));
        }
        if self.allows_plain_password && credential.hosts.is_empty() {
            return Err(refused(
                "A credential that goes to any host is never sent in clear text: bind it to hosts first.",
            ));
        }
        Ok(SignsInAs {
            account_name: credential.account_name,
            secret_sealed: credential.secret_sealed,
            credential_id: Some(credential.credential_id),
        })
    }

    fn by_itself(&self, app: &App, known: Option<&Instance>) -> Result<SignsInAs, Problem> {
        let secret_sealed = match (&self.password, known) {
            (None, Some(known)) if known.credential_id.is_none() && !known.secret_sealed.is_empty() => {
                self.stored_password(app, known)?
            }
            (password, _) => app.sealer.seal(password.as_deref().unwrap_or_default()).map_err(Problem::internal)?,
        };
        Ok(SignsInAs { account_name: self.account.clone(), secret_sealed, credential_id: None })
    }

    /// The stored password, where it may go the way that is wanted now; one that is empty goes anywhere.
    fn stored_password(&self, app: &App, known: &Instance) -> Result<Vec<u8>, Problem> {
        let stored_for = Way {
            host: &known.host,
            port: known.port as u16,
            // Of a mode that cannot be read nothing is known to be weaker.
            tls: known_tls_mode(known).unwrap_or(TlsMode::Verify),
            signers: known.tls_ca.as_deref(),
            allows_plain_password: known.allows_plain_password,
        };
        let is_secret = app.sealer.unseal(&known.secret_sealed).map_or(true, |password| !password.is_empty());
        match asks_anew(stored_for, self.way()).filter(|_| is_secret) {
            Some(field) => {
                let remedy = format!("Give the password anew: the stored one was meant for another {field}.");
                Err(Problem::invalid(vec![FieldProblem::secret("password", remedy)]))
            }
            None => Ok(known.secret_sealed.clone()),
        }
    }
}
