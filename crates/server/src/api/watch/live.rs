use std::collections::HashMap;
use std::convert::Infallible;
use std::time::Duration;

use axum::Json;
use axum::extract::State;
use axum::http::{HeaderMap, StatusCode};
use axum::response::sse::{Event, KeepAlive, Sse};
use futures::{Stream, StreamExt};
use hurnix_store::Caller;
use serde::Serialize;
use tokio::sync::watch;
use tokio_stream::wrappers::BroadcastStream;
use utoipa::ToSchema;

use crate::api::base::extract::{Shown, SignedIn};
use crate::api::base::problem::Problem;
use crate::events;
use crate::state::App;

/// While news are listened to, who listens is looked at again after so long: a session or token that ended, and
/// groups that changed, take effect within it.
const LOOK_AGAIN: Duration = Duration::from_secs(3);

/// Who listens, and in which group each instance is.
struct Listener {
    caller: Caller,
    groups: HashMap<i32, String>,
}

impl Listener {
    async fn new(app: &App, caller: Caller) -> hurnix_store::Result<Listener> {
        let groups = if caller.groups.is_empty() { HashMap::new() } else { app.store.groups().await? };
        Ok(Listener { caller, groups })
    }

    fn sees(&self, instance_id: i32) -> bool {
        self.caller.sees(self.groups.get(&instance_id).map(String::as_str))
    }
}

/// Looks at the listener again and again, until nobody listens or nothing opens any more.
async fn look_again(app: App, shown: Shown, listener: watch::Sender<Option<Listener>>) {
    loop {
        tokio::select! {
            () = listener.closed() => return,
            () = tokio::time::sleep(LOOK_AGAIN) => {}
        }
        let now = match shown.caller(&app).await {
            Ok(Some(caller)) => Listener::new(&app, caller).await,
            Ok(None) => {
                listener.send_replace(None);
                return;
            }
            Err(problem) => Err(problem),
        };
        // While the repository is away nothing is news either.
        if let Ok(now) = now {
            listener.send_replace(Some(now));
        }
    }
}

/// What is new, as it happens: server-sent events whose data is an object of instance_id and news.
#[utoipa::path(get, path = "/events", tag = "live",
    responses((status = 200, body = events::Event, content_type = "text/event-stream")))]
pub async fn events(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    headers: HeaderMap,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Problem> {
    let shown = Shown::of(&headers, &app).ok_or_else(Problem::sign_in)?;
    let listener = watch::Sender::new(Some(Listener::new(&app, caller).await?));
    let seen = listener.subscribe();
    let mut ended = listener.subscribe();
    tokio::spawn(look_again(app.clone(), shown, listener));
    let news = BroadcastStream::new(app.events.listen())
        // Those who are slow miss news, which only means one refresh less.
        .filter_map(|event| async move { event.ok() })
        .filter(move |event| {
            let sees = seen.borrow().as_ref().is_some_and(|listener| listener.sees(event.instance_id));
            async move { sees }
        })
        // The session or token is no more, or may see nothing.
        .take_until(async move { ended.wait_for(Option::is_none).await.map(drop) })
        .filter_map(|event| async move { Event::default().json_data(event).ok().map(Ok) })
        // Else a stop would wait for every browser to go away.
        .take_until(app.stopping.clone().cancelled_owned());
    Ok(Sse::new(news).keep_alive(KeepAlive::default()))
}

/// How Hurnix itself is. Nothing of any one instance: anybody may ask.
#[derive(Serialize, ToSchema)]
pub struct OwnHealth {
    /// Whether this process takes work: the repository answers, and it is not about to stop.
    ready: bool,
    /// Whether the repository answers.
    repository: bool,
    /// Version of Hurnix.
    version: String,
    /// How collection stands; nothing while the repository does not answer.
    collection: Option<CollectionHealth>,
}

/// How the collection of all instances stands.
#[derive(Serialize, ToSchema)]
pub struct CollectionHealth {
    /// Processes of Hurnix that share the repository and live.
    processes: i64,
    /// Instances that are to be collected.
    instances: i64,
    /// Those that this process collects.
    held: i64,
    /// Those that no process collects just now; a lease that ran out is taken over within seconds.
    unheld: i64,
    /// Those of which nothing could be read for two hours.
    silent: i64,
    /// Of the others, seconds since the last reading of the one that was read longest ago.
    oldest_reading_seconds: Option<f64>,
}

/// Readiness for outside watchers and load balancers; needs no session.
#[utoipa::path(get, path = "/health", tag = "live",
    responses((status = 200, body = OwnHealth), (status = 503, body = OwnHealth)))]
pub async fn health(State(app): State<App>) -> (StatusCode, Json<OwnHealth>) {
    let state = app.store.own_state(&app.collector_id, app.intervals.lease.as_secs_f64()).await.ok();
    let ready = state.is_some() && !app.stopping.is_cancelled();
    let collection = state.map(|state| CollectionHealth {
        processes: state.processes,
        instances: state.instances,
        held: state.held,
        unheld: state.unheld,
        silent: state.silent,
        oldest_reading_seconds: state.oldest_reading_seconds,
    });
    let status = if ready { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    let version = env!("CARGO_PKG_VERSION").into();
    (status, Json(OwnHealth { ready, repository: collection.is_some(), version, collection }))
}
