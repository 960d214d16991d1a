use std::sync::Arc;
use std::time::Instant;

use anyhow::{Context, Result};
use hurnix_core::access::role::Role;
use hurnix_core::keeping::retention::Retention;
use hurnix_store::{NewAccount, Store};
use tokio::net::TcpListener;
use tokio::signal::unix::{SignalKind, signal};
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::check::check;
use crate::events::Events;
use crate::gate::Gate;
use crate::identity::Identity;
use crate::options::ServeOptions;
use crate::own_metrics::OwnMetrics;
use crate::paces::Paces;
use crate::secrets::{Sealer, random_text};
use crate::served_tls::ServedTls;
use crate::sources::LiveSources;
use crate::state::{App, Collected, UnusualSigns};
use crate::usual_loads::UsualLoads;
use crate::{alarms, analyst, api, bundle, collector, endpoint_secrets, listen, passwords, report, upkeep};

/// Runs Hurnix until it is told to stop.
pub async fn serve(options: ServeOptions) -> Result<()> {
    options.faults()?;
    if options.check {
        return check(&options).await;
    }
    let served_tls = match (&options.tls_certificate, &options.tls_key) {
        (Some(certificate), Some(key)) => Some(ServedTls::open(certificate, key)?),
        _ => None,
    };
    let retention = options.keep.retention();
    let store = open(&options.repository, retention)
        .await
        .context("opening the repository; give its connection string by --repository or HURNIX_REPOSITORY")?;
    let sealer = Sealer::open(&options.key_file, store.holds_secrets().await?)?;
    let identity = Identity::take(&options.key_file)?;
    make_first_account(&store).await?;
    endpoint_secrets::seal(&store, &sealer).await?;
    let app = App {
        collected: Collected { store, intervals: options.intervals, retention },
        cookie_key: sealer.cookie_key(),
        gate: Gate::new(sealer.cookie_key().signing()),
        sealer,
        events: Events::new(),
        unusual: UnusualSigns::default(),
        usual_loads: UsualLoads::default(),
        live: LiveSources::default(),
        paces: Paces::default(),
        own_metrics: OwnMetrics::new(),
        trusted_proxies: options.trusted_proxy.into(),
        allows_sockets: options.allow_sockets,
        collector_id: identity.name.as_str().into(),
        instances_changed: Arc::new(Notify::new()),
        stopping: CancellationToken::new(),
        long_work: TaskTracker::new(),
    };
    let listener =
        TcpListener::bind(options.listen).await.with_context(|| format!("listening on {}", options.listen))?;
    let scheme = if served_tls.is_some() { "https" } else { "http" };
    tracing::info!(address = %listener.local_addr()?, scheme, "Hurnix is ready");

    let collecting = tokio::spawn(collector::run(app.clone()));
    let judging = tokio::spawn(analyst::run(app.clone()));
    let watching = tokio::spawn(alarms::run(app.clone()));
    let keeping = tokio::spawn(upkeep::run(app.clone()));
    let reporting = tokio::spawn(report::scheduled::run(app.clone()));
    if let Some(inbox) = options.inbox {
        std::fs::create_dir_all(&inbox).with_context(|| format!("making the inbox {}", inbox.display()))?;
        tokio::spawn(bundle::watch(app.store.clone(), inbox, app.stopping.clone()));
    }
    let stopping = app.stopping.clone();
    tokio::spawn(async move {
        stop_signal().await;
        stopping.cancel();
    });
    let tls = served_tls.as_ref().map(ServedTls::acceptor).transpose()?;
    if let Some(served_tls) = served_tls {
        tokio::spawn(served_tls.follow(app.stopping.clone()));
    }
    let (stopping, trusted) = (app.stopping.clone(), app.trusted_proxies.clone());
    let long_work = app.long_work.clone();
    let doors = listen::Doors { per_address: options.connections_per_address as usize, trusted_proxies: &trusted, tls };
    listen::serve(listener, api::router(app), doors, stopping).await;
    long_work.close();
    long_work.wait().await;
    collecting.await?;
    judging.await?;
    watching.await?;
    keeping.await?;
    reporting.await?;
    tracing::info!("Hurnix has stopped");
    Ok(())
}

/// Opens the repository, and tells how long it took to bring its schema up to date, where it was not.
async fn open(url: &str, retention: Retention) -> hurnix_store::Result<Store> {
    let found = Store::look(url).await?;
    let begun = Instant::now();
    let store = Store::open(url, retention).await?;
    if found.schema != Some(found.expected) {
        let (from, to, seconds) = (found.schema.unwrap_or_default(), found.expected, begun.elapsed().as_secs_f64());
        tracing::info!(from, to, seconds, "the schema of the repository was brought up to date");
    }
    Ok(store)
}

/// On the very first start, makes an administrator with a one-time password that is shown this once.
async fn make_first_account(store: &Store) -> Result<()> {
    if store.has_no_account().await? {
        let password = random_text(16);
        let password_hash = passwords::hash(&password);
        let role = Role::Administrator;
        let account = NewAccount { name: "admin", role, password_hash: &password_hash, one_time: true, groups: &[] };
        store.add_account(&account).await?;
        tracing::warn!("first start: sign in as admin with the one-time password {password} (shown this once)");
    }
    Ok(())
}

/// Waits until the program is asked to stop.
pub(crate) async fn stop_signal() {
    let (Ok(mut interrupt), Ok(mut terminate)) = (signal(SignalKind::interrupt()), signal(SignalKind::terminate()))
    else {
        return std::future::pending().await;
    };
    tokio::select! {
        _ = interrupt.recv() => {}
        _ = terminate.recv() => {}
    }
}
