use std::sync::Arc;

use axum::extract::FromRef;
use axum_extra::extract::cookie::Key;
use hurnix_core::Timestamp;
use hurnix_core::keeping::retention::Retention;
use hurnix_store::{Instance, Store};
use ipnet::IpNet;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use tokio_util::task::TaskTracker;

use crate::events::Events;
use crate::gate::Gate;
use crate::options::Intervals;
use crate::own_metrics::OwnMetrics;
use crate::own_pace::OwnPace;
use crate::secrets::Sealer;

/// What the parts of the program share.
#[derive(Clone)]
pub struct App {
    /// The repository.
    pub store: Store,
    /// Seals and opens stored passwords.
    pub sealer: Sealer,
    /// Looks at passwords.
    pub gate: Gate,
    /// Signs cookies.
    pub cookie_key: Key,
    /// Tells pages what is new.
    pub events: Events,
    /// How often things are read and judged.
    pub intervals: Intervals,
    /// How long figures are kept.
    pub retention: Retention,
    /// What this process tells of itself.
    pub own_metrics: OwnMetrics,
    /// Proxies whose word is taken for the address that a request came from.
    pub trusted_proxies: Arc<[IpNet]>,
    /// Whether folders of Unix sockets are taken for hosts.
    pub allows_sockets: bool,
    /// What this process calls itself among those that share the repository.
    pub collector_id: Arc<str>,
    /// Wakes the collector when instances were added or changed.
    pub instances_changed: Arc<Notify>,
    /// Told when the program is to stop.
    pub stopping: CancellationToken,
    /// What goes on after its request was answered, and is waited for when the program stops.
    pub long_work: TaskTracker,
}

impl App {
    /// How often things of an instance are read and judged.
    pub fn intervals_of(&self, instance: &Instance) -> Intervals {
        OwnPace::stored(&instance.own_pace).in_place_of(&self.intervals)
    }
}

impl FromRef<App> for Key {
    fn from_ref(app: &App) -> Key {
        app.cookie_key.clone()
    }
}

/// What time it is.
pub fn now() -> Timestamp {
    Timestamp(chrono::Utc::now().timestamp_micros())
}
