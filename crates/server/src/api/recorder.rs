//! Whatever changes something is recorded: who did or tried what, from where, and what came of it.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use axum::extract::{FromRequestParts, MatchedPath, Request, State};
use axum::http::request::Parts;
use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use hurnix_store::{AuditEntry, Caller, Means};
use utoipa::openapi::OpenApi;

use super::extract::{Client, is_change, named_instance};
use super::problem::{Problem, ProblemKind};
use crate::state::App;

/// What a request that changes something leaves in the audit trail.
#[derive(Debug, Clone, Default)]
pub struct AuditNote(Arc<Mutex<Noted>>);

#[derive(Debug, Clone, Default)]
struct Noted {
    account: Option<String>,
    means: String,
    detail: String,
}

impl AuditNote {
    fn change(&self, change: impl FnOnce(&mut Noted)) {
        change(&mut self.0.lock().unwrap_or_else(PoisonError::into_inner));
    }

    /// Who it was.
    pub fn caller(&self, caller: &Caller) {
        self.change(|noted| {
            noted.account = Some(caller.name.clone());
            noted.means = match &caller.means {
                Means::Session { .. } => "session".into(),
                Means::Token(name) => format!("token {name}"),
            };
        });
    }

    /// Who says to be who.
    pub fn account(&self, name: &str) {
        self.change(|noted| (noted.account, noted.means) = (Some(name.to_owned()), "password".into()));
    }

    /// What else is to be known of it. Never a secret.
    pub fn detail(&self, detail: impl Into<String>) {
        self.change(|noted| noted.detail = detail.into());
    }
}

impl<S: Send + Sync> FromRequestParts<S> for AuditNote {
    type Rejection = std::convert::Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Self::Rejection> {
        Ok(parts.extensions.get::<AuditNote>().cloned().unwrap_or_default())
    }
}

/// What requests are called, by method and path: the names of the operations in the API's document.
pub type Actions = Arc<HashMap<(Method, String), String>>;

/// Operations that send something and change nothing, here or on a watched server.
const CHANGE_NOTHING: [&str; 2] = ["preview_list", "preview_action"];

/// The operations of the document that change something.
pub fn actions(document: &OpenApi) -> Actions {
    let mut actions = HashMap::new();
    for (path, item) in &document.paths.paths {
        let operations = [
            (Method::POST, &item.post),
            (Method::PUT, &item.put),
            (Method::DELETE, &item.delete),
            (Method::PATCH, &item.patch),
        ];
        for (method, operation) in operations {
            let name = operation.as_ref().and_then(|operation| operation.operation_id.clone());
            if let Some(name) = name.filter(|name| !CHANGE_NOTHING.contains(&name.as_str())) {
                actions.insert((method, path.clone()), name);
            }
        }
    }
    Arc::new(actions)
}

/// Refuses what a page of somebody else's sends, and records what changes something.
pub async fn record(State((app, actions)): State<(App, Actions)>, request: Request, next: Next) -> Response {
    if !is_change(request.method()) {
        return next.run(request).await;
    }
    if is_foreign(request.headers(), request.uri()) {
        return Problem::forbidden("The request comes from a page that is not one of Hurnix: open Hurnix itself.")
            .into_response();
    }
    let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
    let action = path.and_then(|path| actions.get(&(request.method().clone(), path)).cloned());
    let Some(action) = action else { return next.run(request).await };
    let (mut parts, body) = request.into_parts();
    let Ok(client) = Client::from_request_parts(&mut parts, &app).await;
    let instance_id = named_instance(&mut parts, &app).await;
    let note = AuditNote::default();
    parts.extensions.insert(note.clone());
    let response = next.run(Request::from_parts(parts, body)).await;

    let Noted { account, means, detail } = note.0.lock().unwrap_or_else(PoisonError::into_inner).clone();
    // Strangers leave nothing, and neither does who must wait: else they could fill the repository.
    if let Some(account) = account
        && response.status() != StatusCode::TOO_MANY_REQUESTS
    {
        let outcome = match response.status() {
            status if status.is_server_error() => "failed",
            status if status.is_client_error() => "refused",
            _ => "done",
        };
        let why = response.extensions().get::<ProblemKind>().map(|ProblemKind(kind)| kind.as_str());
        let detail = [Some(detail.as_str()).filter(|detail| !detail.is_empty()), why];
        let detail = detail.into_iter().flatten().collect::<Vec<_>>().join("; ");
        let client = client.address;
        let entry = AuditEntry { account, means, client, action, instance_id, detail, outcome };
        if let Err(error) = app.store.add_audit(&entry).await {
            tracing::error!(%error, ?entry, "the audit trail could not be written");
        }
    }
    response
}

/// Whether a request was sent by a page that comes from elsewhere. Programs that are no browsers tell no origin.
fn is_foreign(headers: &HeaderMap, uri: &Uri) -> bool {
    let text = |name| headers.get(name).map(|value| value.to_str().unwrap_or("?"));
    let Some(origin) = text(header::ORIGIN) else { return false };
    let host = text(header::HOST).or_else(|| uri.authority().map(|authority| authority.as_str()));
    origin.split_once("://").map(|(_, host)| host) != host
}

#[cfg(test)]
mod tests {
    use super::*;

    fn foreign(origin: Option<&str>, host: &str) -> bool {
        let mut headers = HeaderMap::new();
        headers.insert(header::HOST, host.parse().unwrap());
        if let Some(origin) = origin {
            headers.insert(header::ORIGIN, origin.parse().unwrap());
        }
        is_foreign(&headers, &Uri::from_static("/api/v1/session"))
    }

    #[test]
    fn pages_from_elsewhere_are_told_from_ones_own() {
        assert!(!foreign(None, "hurnix.skerry.example"));
        assert!(!foreign(Some("https://hurnix.skerry.example"), "hurnix.skerry.example"));
        assert!(!foreign(Some("http://127.0.0.1:8470"), "127.0.0.1:8470"));
        assert!(foreign(Some("http://127.0.0.1:8471"), "127.0.0.1:8470"));
        assert!(foreign(Some("https://hurnix.skerry.example.gull.example"), "hurnix.skerry.example"));
        assert!(foreign(Some("null"), "hurnix.skerry.example"));
    }

    #[test]
    fn every_change_in_the_document_has_a_name() {
        let document = crate::api_document();
        let actions = actions(&document);
        assert_eq!(actions[&(Method::POST, "/api/v1/session".to_owned())], "sign_in");
        assert_eq!(actions[&(Method::PUT, "/api/v1/instances/{instance_id}/pace".to_owned())], "set_pace");
    }
}
