//! Connections to watched servers: one for each that is collected, and one for a while where somebody looks at what is not.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::{Duration, Instant};

use hurnix_core::instance::engine::Engine;
use hurnix_source::postgres::PostgresSource;
use hurnix_source::simulated::{Model, SimulatedSource};
use hurnix_source::{ConnectProblem, Obstacle, ReadProblem, Source};
use hurnix_store::Instance;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};

use crate::address::address;
use crate::state::App;

/// A connection that nobody has used for so long is closed.
const IDLE: Duration = Duration::from_secs(15);
/// A connection is used for so long at most: what it was made with may have changed.
const LONGEST: Duration = Duration::from_secs(60);
/// Connections to one server at a time over which somebody looks.
const MOST_AT_ONCE: usize = 2;
/// What is read for somebody who waits may take this long.
const READ_LIMIT: Duration = Duration::from_secs(10);

/// Connects to the server of an instance.
///
/// # Errors
/// Says what is in the way.
pub async fn connect(app: &App, instance: &Instance) -> Result<Box<dyn Source>, ConnectProblem> {
    match instance.engine {
        Engine::Simulated => Ok(Box::new(SimulatedSource::connect(model(app, instance).await?).await?)),
        Engine::Postgres | Engine::Bundle => Ok(Box::new(PostgresSource::connect(&address(app, instance)?).await?)),
    }
}

async fn model(app: &App, instance: &Instance) -> Result<Model, ConnectProblem> {
    let problem = |message: String| ConnectProblem {
        obstacle: Obstacle::Other,
        message,
        remedy: "Hurnix tries again by itself.".into(),
    };
    let model = app.store.model(instance.instance_id).await.map_err(|error| problem(error.to_string()))?;
    serde_json::from_value(model.unwrap_or_default())
        .map_err(|error| problem(format!("The model of the instance cannot be read: {error}.")))
}

/// Connections over which somebody looks at what is not collected, such as locks that nobody waits for: whoever looks
/// again within seconds has the same one.
#[derive(Clone, Default)]
pub struct LiveSources {
    kept: Arc<Mutex<HashMap<i32, Kept>>>,
    /// However many look, a server has no more than [`MOST_AT_ONCE`] of these connections.
    places: Arc<Mutex<HashMap<i32, Arc<Semaphore>>>>,
}

struct Kept {
    source: Box<dyn Source>,
    opened: Instant,
    used: Instant,
}

/// A connection in use. One that is not given back is closed.
pub struct Lent {
    source: Box<dyn Source>,
    opened: Instant,
    instance_id: i32,
    _place: OwnedSemaphorePermit,
}

impl Lent {
    /// The server at the other end.
    pub fn source(&mut self) -> &mut dyn Source {
        self.source.as_mut()
    }
}

impl LiveSources {
    /// A connection to the server of an instance.
    ///
    /// # Errors
    /// Says what is in the way.
    pub async fn lend(&self, app: &App, instance: &Instance) -> Result<Lent, ConnectProblem> {
        let instance_id = instance.instance_id;
        let places =
            locked(&self.places).entry(instance_id).or_insert_with(|| Arc::new(Semaphore::new(MOST_AT_ONCE))).clone();
        let waited = tokio::time::timeout(READ_LIMIT, places.acquire_owned()).await;
        let Ok(Ok(place)) = waited else {
            return Err(ConnectProblem {
                obstacle: Obstacle::TimedOut,
                message: "Others look at this server just now, and their readings take long.".into(),
                remedy: "Retry in a moment.".into(),
            });
        };
        let kept = locked(&self.kept).remove(&instance_id).filter(|kept| kept.opened.elapsed() < LONGEST);
        if let Some(Kept { source, opened, .. }) = kept {
            return Ok(Lent { source, opened, instance_id, _place: place });
        }
        Ok(Lent { source: connect(app, instance).await?, opened: Instant::now(), instance_id, _place: place })
    }

    /// Keeps a connection for whoever looks next, and closes it where nobody does.
    pub fn give_back(&self, lent: Lent) {
        let Lent { source, opened, instance_id, .. } = lent;
        locked(&self.kept).insert(instance_id, Kept { source, opened, used: Instant::now() });
        let all = self.clone();
        tokio::spawn(async move {
            tokio::time::sleep(IDLE).await;
            let is_idle = |kept: &mut Kept| kept.used.elapsed() >= IDLE;
            let mut kept = locked(&all.kept);
            if kept.get_mut(&instance_id).is_some_and(is_idle) {
                kept.remove(&instance_id);
            }
        });
    }
}

fn locked<T>(map: &Mutex<T>) -> MutexGuard<'_, T> {
    // Whoever broke off while holding it left a whole map behind.
    map.lock().unwrap_or_else(PoisonError::into_inner)
}

/// What is read for somebody who waits, if it comes in time.
///
/// # Errors
/// Where the reading failed or took too long.
pub async fn in_time<T>(reading: impl Future<Output = Result<T, ReadProblem>>) -> Result<T, ReadProblem> {
    tokio::time::timeout(READ_LIMIT, reading).await.unwrap_or(Err(ReadProblem::TimedOut(READ_LIMIT.as_secs_f64())))
}
