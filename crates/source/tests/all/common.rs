//! A watched server that a test starts for itself.

use anyhow::Result;
use hurnix_cluster::{Cluster, Setup};
use hurnix_core::access::tls_mode::TlsMode;
use hurnix_source::postgres::Address;
use sqlx::Executor;

const WATCHER: &str = "hurnix_watch";
pub const PASSWORD: &str = "kelp and tern";

/// A server with statement counters and a watching account that has `pg_monitor`, nothing more.
pub async fn watched() -> Result<Cluster> {
    watched_with(&[]).await
}

/// The same with further settings.
pub async fn watched_with(settings: &[(&str, &str)]) -> Result<Cluster> {
    let usual = [("shared_preload_libraries", "pg_stat_statements"), ("track_io_timing", "on")];
    let settings: Vec<_> = usual.iter().chain(settings).copied().collect();
    let cluster = Cluster::temporary(Setup { settings: &settings, password_accounts: &[WATCHER], version: None })?;
    let mut admin = cluster.connect("postgres").await?;
    admin
        .execute(
            "CREATE EXTENSION pg_stat_statements;
             CREATE ROLE hurnix_watch LOGIN PASSWORD 'kelp and tern';
             GRANT pg_monitor TO hurnix_watch;",
        )
        .await?;
    Ok(cluster)
}

pub fn address(cluster: &Cluster) -> Address {
    Address {
        host: "127.0.0.1".into(),
        port: cluster.port(),
        database: "postgres".into(),
        account: WATCHER.into(),
        password: PASSWORD.into(),
        tls: TlsMode::Prefer,
        tls_ca: None,
        allows_plain_password: false,
    }
}
