//! What there is at an address, looked for only when somebody asks: slowly, and within bounds.

use std::collections::HashSet;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use hurnix_source::postgres::{databases, server_at};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Administrator, Body};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::watch::connection::Connection;
use crate::state::App;

/// Ports looked at in one request; a longer range takes several, so that it can be stopped.
const MOST_PORTS: u16 = 32;
const MOST_HOST_LETTERS: usize = 200;
/// How long a port may take to answer.
const PATIENCE: Duration = Duration::from_millis(700);
/// Between two ports: nobody is to mistake this for an attack.
const PAUSE: Duration = Duration::from_millis(50);

/// Ports at which to discover servers.
#[derive(Deserialize, ToSchema)]
pub struct PortRange {
    /// Host name or address.
    host: String,
    /// First port.
    #[schema(minimum = 1, maximum = 65535)]
    from_port: u16,
    /// Last port; at most 31 after the first.
    #[schema(minimum = 1, maximum = 65535)]
    to_port: u16,
}

/// A server that was found.
#[derive(Serialize, ToSchema)]
pub struct FoundServer {
    /// Its port.
    port: u16,
    /// Whether it offers encryption.
    offers_tls: bool,
    /// Labels of instances that are reached by this host and port already.
    known_as: Vec<String>,
}

/// Look for PostgreSQL servers at ports of one host, one port after the other. Nobody is signed in.
#[utoipa::path(post, path = "/discovery/servers", tag = "instances", request_body = PortRange,
    responses((status = 200, body = Vec<FoundServer>)))]
pub async fn find_servers(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(range): Body<PortRange>,
) -> Answer<Vec<FoundServer>> {
    let host = range.host.trim();
    let mut errors = Vec::new();
    if host.is_empty() || host.chars().count() > MOST_HOST_LETTERS {
        let remedy = "Give the name or address of one host, of 1 to 200 characters.";
        errors.push(FieldProblem::new("host", &range.host, remedy));
    }
    if range.from_port == 0 || range.to_port < range.from_port {
        let remedy = "Give ports from 1 to 65535, the last not before the first.";
        errors.push(FieldProblem::new("to_port", range.to_port, remedy));
    } else if range.to_port - range.from_port >= MOST_PORTS {
        let remedy = format!("Give {MOST_PORTS} ports at most, and ask again for those after them.");
        errors.push(FieldProblem::new("to_port", range.to_port, remedy));
    }
    if !errors.is_empty() {
        return Err(Problem::invalid(errors));
    }
    note.detail(format!("{host}:{}–{}", range.from_port, range.to_port));
    let instances = app.store.instances().await?;
    let mut found = Vec::new();
    for port in range.from_port..=range.to_port {
        if let Some(server) = server_at(host, port, PATIENCE).await {
            let here = instances.iter().filter(|known| known.host == host && known.port == i32::from(port));
            let known_as = here.map(|known| known.label.clone()).collect();
            found.push(FoundServer { port, offers_tls: server.offers_tls, known_as });
        }
        tokio::time::sleep(PAUSE).await;
    }
    Ok(Json(found))
}

/// A database that was found.
#[derive(Serialize, ToSchema)]
pub struct FoundDatabase {
    /// Its name.
    name: String,
    /// Its size on disk, in bytes; nothing where the account may not know.
    size_bytes: Option<i64>,
    /// Whether the account may connect to it.
    may_connect: bool,
    /// Whether it is under care already, reached by this host and port.
    is_known: bool,
}

/// List the databases of a server. An obstacle is named with its remedy.
#[utoipa::path(post, path = "/discovery/databases", tag = "instances", request_body = Connection,
    responses((status = 200, body = Vec<FoundDatabase>)))]
pub async fn find_databases(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(connection): Body<Connection>,
) -> Answer<Vec<FoundDatabase>> {
    note.detail(connection.told());
    let address = connection.address(&app, None).await?;
    let found = databases(&address).await.map_err(|problem| Problem::connection(&problem))?;
    let known: HashSet<String> = app
        .store
        .instances()
        .await?
        .into_iter()
        .filter(|known| known.host == address.host && known.port == i32::from(address.port))
        .map(|known| known.database_name)
        .collect();
    let told = found.into_iter().map(|database| FoundDatabase {
        is_known: known.contains(&database.name),
        name: database.name,
        size_bytes: database.size_bytes,
        may_connect: database.may_connect,
    });
    Ok(Json(told.collect()))
}
