use hurnix_core::Named;
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_source::postgres::Address;
use hurnix_source::{ConnectProblem, Obstacle};
use hurnix_store::Instance;

use crate::state::App;

/// Whether a host is a folder of Unix sockets.
pub fn is_socket(host: &str) -> bool {
    host.trim().starts_with('/')
}

/// How the connection of an instance is encrypted; nothing where what is stored is no mode.
pub fn known_tls_mode(instance: &Instance) -> Option<TlsMode> {
    TlsMode::named(&instance.tls_mode)
}

/// Where an instance is and as whom to sign in, with its password opened.
pub fn address(app: &App, instance: &Instance) -> Result<Address, ConnectProblem> {
    let problem = |obstacle, message: String, remedy: String| ConnectProblem { obstacle, message, remedy };
    let password = app.sealer.unseal(&instance.secret_sealed).map_err(|error| {
        problem(Obstacle::WrongPassword, "The stored password cannot be opened.".into(), error.to_string())
    })?;
    let tls = known_tls_mode(instance).ok_or_else(|| {
        let message =
            format!("The stored TLS mode {:?} is none: Hurnix does not connect less safely.", instance.tls_mode);
        problem(
            Obstacle::Tls,
            message,
            "Choose off, prefer, require or verify in the connection of the instance.".into(),
        )
    })?;
    if is_socket(&instance.host) && !app.allows_sockets {
        let message =
            format!("The host {} is a folder of Unix sockets, which this Hurnix does not use.", instance.host);
        return Err(problem(
            Obstacle::Other,
            message,
            "Start Hurnix with --allow-sockets, or give a host name.".into(),
        ));
    }
    Ok(Address {
        host: instance.host.clone(),
        port: instance.port as u16,
        database: instance.database_name.clone(),
        account: instance.account_name.clone(),
        password,
        tls,
        tls_ca: instance.tls_ca.clone(),
        allows_plain_password: instance.allows_plain_password,
    })
}
