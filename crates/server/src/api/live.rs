use std::collections::HashMap;
use std::convert::Infallible;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::sse::{Event, KeepAlive, Sse};
use futures::{Stream, StreamExt};
use serde::Serialize;
use tokio_stream::wrappers::BroadcastStream;
use utoipa::ToSchema;

use super::extract::SignedIn;
use super::problem::Problem;
use crate::events;
use crate::state::App;

/// What is new, as it happens: server-sent events whose data is an object of instance_id and news.
#[utoipa::path(get, path = "/events", tag = "live",
    responses((status = 200, body = events::Event, content_type = "text/event-stream"), (status = 401, body = Problem)))]
pub async fn events(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
) -> Result<Sse<impl Stream<Item = Result<Event, Infallible>>>, Problem> {
    // Groups as they are now: whoever is limited learns of instances that join them when asking anew.
    let groups = if caller.groups.is_empty() { HashMap::new() } else { app.store.groups().await? };
    let news = BroadcastStream::new(app.events.listen())
        // Those who are slow miss news, which only means one refresh less.
        .filter_map(|event| async move { event.ok() })
        .filter(move |event| {
            let sees = caller.sees(groups.get(&event.instance_id).map(String::as_str));
            async move { sees }
        })
        .filter_map(|event| async move { Event::default().json_data(event).ok().map(Ok) })
        // Else a stop would wait for every browser to go away.
        .take_until(app.stopping.clone().cancelled_owned());
    Ok(Sse::new(news).keep_alive(KeepAlive::default()))
}

/// How Hurnix itself is.
#[derive(Serialize, ToSchema)]
pub struct Health {
    /// Whether the repository answers.
    repository: bool,
    /// Version of Hurnix.
    version: String,
}

/// A sign of life for outside watchers; needs no session.
#[utoipa::path(get, path = "/health", tag = "live",
    responses((status = 200, body = Health), (status = 503, body = Health)))]
pub async fn health(State(app): State<App>) -> (StatusCode, Json<Health>) {
    let repository = app.store.is_there().await;
    let status = if repository { StatusCode::OK } else { StatusCode::SERVICE_UNAVAILABLE };
    (status, Json(Health { repository, version: env!("CARGO_PKG_VERSION").into() }))
}
