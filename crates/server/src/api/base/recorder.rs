//! Whatever changes something is recorded: who did or tried what, from where, and what came of it.

use std::collections::HashMap;
use std::sync::Arc;

use axum::extract::{FromRequestParts, MatchedPath, Request, State};
use axum::http::{HeaderMap, Method, StatusCode, Uri, header};
use axum::middleware::Next;
use axum::response::{IntoResponse, Response};
use hurnix_core::access::audit_outcome::AuditOutcome;
use utoipa::openapi::OpenApi;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::client::Client;
use crate::api::base::extract::{is_change, named_instance, sender};
use crate::api::base::problem::{FieldProblem, Problem, ProblemKind};
use crate::state::App;

/// What requests are called, by method and path: the names of the operations in the API's document.
pub type Actions = Arc<HashMap<(Method, String), String>>;

/// Longer origins are cut.
const MOST_ORIGIN_LETTERS: usize = 200;

/// Operations that send something and change nothing for anybody but whoever sends it.
const CHANGE_NOTHING: [&str; 4] = ["preview_list", "preview_action", "read_plans", "set_preferences"];

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
    let foreign = foreign_origin(request.headers(), request.uri());
    let path = request.extensions().get::<MatchedPath>().map(|path| path.as_str().to_owned());
    let action = path.and_then(|path| actions.get(&(request.method().clone(), path)).cloned());
    let Some(action) = action else {
        return match foreign {
            Some(origin) => refuse_foreign(&origin),
            None => next.run(request).await,
        };
    };
    let (mut parts, body) = request.into_parts();
    let Ok(client) = Client::from_request_parts(&mut parts, &app).await;
    let note = AuditNote::new(client.address, action, named_instance(&mut parts, &app).await);
    let response = match foreign {
        Some(origin) => {
            if let Ok(Some(caller)) = sender(&parts.headers, &app).await {
                note.caller(&caller);
                note.detail(format!("from {origin}"));
            }
            refuse_foreign(&origin)
        }
        None => {
            parts.extensions.insert(note.clone());
            next.run(Request::from_parts(parts, body)).await
        }
    };
    let outcome = match response.status() {
        status if status.is_server_error() => AuditOutcome::Failed,
        status if status.is_client_error() => AuditOutcome::Refused,
        _ => AuditOutcome::Done,
    };
    let why = response.extensions().get::<ProblemKind>().map(|ProblemKind(kind)| kind.as_str());
    note.end(&app, outcome, why, response.status() == StatusCode::TOO_MANY_REQUESTS).await;
    response
}

fn refuse_foreign(origin: &str) -> Response {
    let remedy = "The request comes from a page that is not one of Hurnix: open Hurnix itself.";
    Problem::forbidden(FieldProblem::new("origin", origin, remedy)).into_response()
}

/// Where the page comes from that sent a request, if that is elsewhere. Programs that are no browsers tell no
/// origin.
fn foreign_origin(headers: &HeaderMap, uri: &Uri) -> Option<String> {
    let text = |name| headers.get(name).map(|value| value.to_str().unwrap_or("?"));
    let origin = text(header::ORIGIN)?;
    let host = text(header::HOST).or_else(|| uri.authority().map(|authority| authority.as_str()));
    let is_foreign = origin.split_once("://").map(|(_, host)| host) != host;
    is_foreign.then(|| origin.chars().take(MOST_ORIGIN_LETTERS).collect())
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
        foreign_origin(&headers, &Uri::from_static("/api/v1/session")).is_some()
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
