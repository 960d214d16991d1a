use hurnix_source::postgres::{Address, TlsMode};
use hurnix_source::{ConnectProblem, Obstacle};
use hurnix_store::Instance;

use crate::state::App;

/// Where an instance is and as whom to sign in, with its password opened.
pub fn address(app: &App, instance: &Instance) -> Result<Address, ConnectProblem> {
    let password = app.sealer.unseal(&instance.secret_sealed).map_err(|error| ConnectProblem {
        obstacle: Obstacle::WrongPassword,
        message: "The stored password cannot be opened.".into(),
        remedy: error.to_string(),
    })?;
    Ok(Address {
        host: instance.host.clone(),
        port: instance.port as u16,
        database: instance.database_name.clone(),
        account: instance.account_name.clone(),
        password,
        tls: serde_json::from_value(instance.tls_mode.clone().into()).unwrap_or(TlsMode::Prefer),
        tls_ca: instance.tls_ca.clone(),
    })
}
