use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use axum::extract::FromRef;
use axum_extra::extract::cookie::Key;
use hurnix_core::findings::alarm::Sign;
use hurnix_core::keeping::retention::Retention;
use hurnix_core::{Timestamp, Window};
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
use crate::paces::Paces;
use crate::secrets::Sealer;
use crate::sources::LiveSources;
use crate::usual_loads::UsualLoads;

/// Clocks of browser, Hurnix and servers may differ by this much.
pub const CLOCK_SECONDS: f64 = 60.0;

/// What was collected: all that a command has that runs beside the program.
#[derive(Clone)]
pub struct Collected {
    /// The repository.
    pub store: Store,
    /// How often things are read and judged.
    pub intervals: Intervals,
    /// How long figures are kept.
    pub retention: Retention,
}

impl Collected {
    /// How often things of an instance are read and judged.
    pub fn intervals_of(&self, instance: &Instance) -> Intervals {
        OwnPace::stored(&instance.own_pace).in_place_of(&self.intervals)
    }
}

/// What the parts of the program share.
#[derive(Clone)]
pub struct App {
    /// What was collected.
    pub collected: Collected,
    /// Seals and opens stored passwords.
    pub sealer: Sealer,
    /// Looks at passwords.
    pub gate: Gate,
    /// Signs cookies.
    pub cookie_key: Key,
    /// Tells pages what is new.
    pub events: Events,
    /// What of instances was outside of its usual range when last judged, by number of the instance.
    pub unusual: UnusualSigns,
    /// What load is usual of instances.
    pub usual_loads: UsualLoads,
    /// Connections over which somebody looks at what is not collected.
    pub live: LiveSources,
    /// How fast long work goes that somebody looks at.
    pub paces: Paces,
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

/// What was outside of its usual range, by number of the instance; those that were not judged yet are left out.
#[derive(Debug, Clone, Default)]
pub struct UnusualSigns(Arc<Mutex<HashMap<i32, Judged>>>);

#[derive(Debug, Default)]
struct Judged {
    signs: Vec<Sign>,
    is_new: bool,
}

impl UnusualSigns {
    /// Notes what was outside in the newest judgement of an instance.
    pub fn note(&self, instance_id: i32, signs: Vec<Sign>) {
        self.lock().insert(instance_id, Judged { signs, is_new: true });
    }

    /// What was outside in the newest judgement of an instance.
    pub fn of(&self, instance_id: i32) -> Option<Vec<Sign>> {
        self.lock().get(&instance_id).map(|judged| judged.signs.clone())
    }

    /// Whether an instance was judged since this was last asked.
    pub fn is_judged_anew(&self, instance_id: i32) -> bool {
        self.lock().get_mut(&instance_id).is_some_and(|judged| std::mem::take(&mut judged.is_new))
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<i32, Judged>> {
        // Whoever broke off while holding it left a whole list behind.
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
    }
}

impl std::ops::Deref for App {
    type Target = Collected;

    fn deref(&self) -> &Collected {
        &self.collected
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

/// The last so many seconds, by the clocks of watched servers as well: they may be ahead.
pub fn last_seconds(seconds: f64) -> Window {
    let now = now();
    Window { from: now.plus_seconds(-seconds), to: now.plus_seconds(CLOCK_SECONDS) }
}
