use std::convert::Infallible;
use std::net::SocketAddr;

use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{ConnectInfo, FromRequest, FromRequestParts, RawPathParams, Request};
use axum::http::request::Parts;
use axum::http::{HeaderValue, Method, header};
use axum_extra::extract::cookie::SignedCookieJar;
use hurnix_core::role::Role;
use hurnix_store::{Caller, Means};
use serde::de::DeserializeOwned;

use super::problem::Problem;
use super::recorder::AuditNote;
use crate::secrets;
use crate::state::App;

/// Name of the cookie that carries the session's token.
pub const COOKIE: &str = "hurnix_session";
/// Header that carries the session's CSRF token.
const CSRF_HEADER: &str = "x-csrf-token";

/// A body of JSON; what is wrong with it is told as a problem.
pub struct Body<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        match axum::Json::<T>::from_request(request, state).await {
            Ok(axum::Json(value)) => Ok(Body(value)),
            Err(rejection) => {
                let remedy = match &rejection {
                    JsonRejection::MissingJsonContentType(_) => {
                        "Send JSON with the header content-type: application/json."
                    }
                    JsonRejection::BytesRejection(_) => "Send less at a time.",
                    _ => "/api/openapi.json describes what to send.",
                };
                Err(Problem::unreadable(rejection.status(), format!("{}. {remedy}", rejection.body_text())))
            }
        }
    }
}

/// The query of the address; what is wrong with it is told as a problem.
pub struct Query<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Query<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        match axum::extract::Query::<T>::from_request_parts(parts, state).await {
            Ok(axum::extract::Query(value)) => Ok(Query(value)),
            Err(rejection @ QueryRejection::FailedToDeserializeQueryString(_)) => Err(Problem::unreadable(
                rejection.status(),
                format!("{}. /api/openapi.json describes what to send.", rejection.body_text()),
            )),
            Err(rejection) => Err(Problem::unreadable(rejection.status(), rejection.body_text())),
        }
    }
}

/// Numbers in the address; what is wrong with them is told as a problem.
pub struct Path<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned + Send> FromRequestParts<S> for Path<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        match axum::extract::Path::<T>::from_request_parts(parts, state).await {
            Ok(axum::extract::Path(value)) => Ok(Path(value)),
            Err(rejection @ PathRejection::FailedToDeserializePathParams(_)) => Err(Problem::unreadable(
                rejection.status(),
                format!("{}. The address needs whole numbers.", rejection.body_text()),
            )),
            Err(rejection) => Err(Problem::unreadable(rejection.status(), rejection.body_text())),
        }
    }
}

/// Somebody who was recognised: by the cookie of a session, whose requests that change something must show
/// the session's CSRF token too, or by a token of the API. It may be that a one-time password must be
/// replaced first; [`SignedIn`] is whom most of the API is for.
pub struct Recognised(pub Caller);

impl FromRequestParts<App> for Recognised {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let caller = match bearer(parts) {
            Some(token) => app.store.caller_by_token(&secrets::token_hash(token)).await?,
            None => {
                let jar = SignedCookieJar::from_headers(&parts.headers, app.cookie_key.clone());
                let token = jar.get(COOKIE).ok_or_else(Problem::sign_in)?;
                app.store.caller_by_session(&secrets::token_hash(token.value())).await?
            }
        };
        let caller = caller.ok_or_else(Problem::sign_in)?;
        if let Some(note) = parts.extensions.get::<AuditNote>() {
            note.caller(&caller);
        }
        if let Means::Session { csrf_token, .. } = &caller.means
            && is_change(&parts.method)
            && parts.headers.get(CSRF_HEADER).map(HeaderValue::as_bytes) != Some(csrf_token.as_bytes())
        {
            return Err(Problem::forbidden(
                "The request lacks the session's token in the header x-csrf-token; GET /api/v1/session tells it.",
            ));
        }
        Ok(Recognised(caller))
    }
}

/// The token of the header `Authorization: Bearer …`.
fn bearer(parts: &Parts) -> Option<&str> {
    parts.headers.get(header::AUTHORIZATION)?.to_str().ok()?.strip_prefix("Bearer ").map(str::trim)
}

/// Whether requests of this method change something.
pub fn is_change(method: &Method) -> bool {
    !matches!(*method, Method::GET | Method::HEAD | Method::OPTIONS)
}

/// Somebody signed in who may see the instance that the address names, if it names one. To others there is no
/// such instance.
pub struct SignedIn(pub Caller);

impl FromRequestParts<App> for SignedIn {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let Recognised(caller) = Recognised::from_request_parts(parts, app).await?;
        if caller.one_time {
            return Err(Problem::set_password());
        }
        if !caller.groups.is_empty()
            && let Some(instance_id) = named_instance(parts, app).await
        {
            let instance = app.store.instance(instance_id).await?;
            if !instance.is_some_and(|instance| caller.sees(instance.group.as_deref())) {
                return Err(Problem::not_found("instance", instance_id));
            }
        }
        Ok(SignedIn(caller))
    }
}

/// The instance that the address names.
pub async fn named_instance(parts: &mut Parts, app: &App) -> Option<i32> {
    let named = RawPathParams::from_request_parts(parts, app).await.ok()?;
    named.iter().find(|(name, _)| *name == "instance_id").and_then(|(_, value)| value.parse().ok())
}

/// An administrator signed in.
pub struct Administrator(pub Caller);

impl FromRequestParts<App> for Administrator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let SignedIn(caller) = SignedIn::from_request_parts(parts, app).await?;
        if caller.role < Role::Administrator {
            return Err(Problem::forbidden("Only administrators may do this; ask one of them."));
        }
        Ok(Administrator(caller))
    }
}

/// A tuner or an administrator signed in.
pub struct Tuner(pub Caller);

impl FromRequestParts<App> for Tuner {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let SignedIn(caller) = SignedIn::from_request_parts(parts, app).await?;
        if caller.role < Role::Tuner {
            return Err(Problem::forbidden("Readers may look only; ask a tuner or an administrator."));
        }
        Ok(Tuner(caller))
    }
}

/// Where a request comes from.
pub struct Client {
    /// Address.
    pub address: String,
    /// What the program there calls itself.
    pub program: String,
    /// Whether the pages are served over TLS there.
    pub over_tls: bool,
}

/// Longer names of programs are cut.
const MOST_PROGRAM_LETTERS: usize = 200;

impl<S: Send + Sync> FromRequestParts<S> for Client {
    type Rejection = Infallible;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Infallible> {
        let address = parts.extensions.get::<ConnectInfo<SocketAddr>>().map(|info| info.0.ip().to_string());
        let header = |name| parts.headers.get(name).and_then(|value: &HeaderValue| value.to_str().ok());
        Ok(Client {
            address: address.unwrap_or_default(),
            program: header(header::USER_AGENT).unwrap_or_default().chars().take(MOST_PROGRAM_LETTERS).collect(),
            over_tls: header(header::ORIGIN).is_some_and(|origin| origin.starts_with("https://")),
        })
    }
}
