use std::time::Duration;

use axum::body::Bytes;
use axum::extract::path::ErrorKind;
use axum::extract::rejection::PathRejection;
use axum::extract::{FromRequest, FromRequestParts, RawPathParams, Request};
use axum::http::request::Parts;
use axum::http::{HeaderMap, HeaderValue, Method, StatusCode, header};
use axum_extra::extract::cookie::SignedCookieJar;
use hurnix_core::Named;
use hurnix_core::access::role::Role;
use hurnix_store::{Caller, Means};
use serde::de::DeserializeOwned;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::input::{Holds, from_json, from_query, text_fault};
use crate::api::base::problem::{FieldProblem, Problem};
use crate::secrets;
use crate::state::App;

/// Name of the cookie that carries the session's token.
pub const COOKIE: &str = "hurnix_session";
/// Header that carries the session's CSRF token.
const CSRF_HEADER: &str = "x-csrf-token";

/// A body must have come in whole within this time.
const BODY_TIME: Duration = Duration::from_secs(30);

/// A body of JSON; what is wrong with it is told as a problem.
pub struct Body<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for Body<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        Ok(Body(from_json(&json_bytes(request, state).await?, Holds::Fields)?))
    }
}

/// A body of JSON of which nothing is repeated in what is said about it.
pub struct SecretBody<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for SecretBody<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        Ok(SecretBody(from_json(&json_bytes(request, state).await?, Holds::Passwords)?))
    }
}

/// A body of JSON that holds a list of many lines.
pub struct ListBody<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequest<S> for ListBody<T> {
    type Rejection = Problem;

    async fn from_request(request: Request, state: &S) -> Result<Self, Problem> {
        Ok(ListBody(from_json(&json_bytes(request, state).await?, Holds::List)?))
    }
}

/// The bytes of a body that says to be JSON.
async fn json_bytes<S: Send + Sync>(request: Request, state: &S) -> Result<Bytes, Problem> {
    let kind = request.headers().get(header::CONTENT_TYPE).and_then(|kind| kind.to_str().ok()).unwrap_or_default();
    let essence = kind.split(';').next().unwrap_or_default().trim().to_lowercase();
    if essence != "application/json" {
        let fault =
            FieldProblem::new("content-type", essence, "Send JSON with the header content-type: application/json.");
        return Err(Problem::unreadable(StatusCode::UNSUPPORTED_MEDIA_TYPE, fault));
    }
    let unreadable = |status, remedy: &str| Problem::unreadable(status, FieldProblem::secret("body", remedy));
    let Ok(read) = tokio::time::timeout(BODY_TIME, Bytes::from_request(request, state)).await else {
        return Err(unreadable(StatusCode::REQUEST_TIMEOUT, "It did not come in whole in time: send it again."));
    };
    read.map_err(|rejection| match rejection.status() {
        StatusCode::PAYLOAD_TOO_LARGE => {
            unreadable(StatusCode::PAYLOAD_TOO_LARGE, "It is too large: send less at a time.")
        }
        _ => unreadable(StatusCode::BAD_REQUEST, "It broke off: send it again."),
    })
}

/// The query of the address; what is wrong with it is told as a problem.
pub struct Query<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Query<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, _: &S) -> Result<Self, Problem> {
        Ok(Query(from_query(parts.uri.query().unwrap_or_default())?))
    }
}

/// Numbers and names in the address; what is wrong with them is told as a problem.
pub struct Path<T>(pub T);

impl<S: Send + Sync, T: DeserializeOwned + Send> FromRequestParts<S> for Path<T> {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, Problem> {
        let given = RawPathParams::from_request_parts(parts, state).await;
        let given: Vec<(String, String)> = given
            .map(|given| given.iter().map(|(name, value)| (name.to_owned(), value.to_owned())).collect())
            .unwrap_or_default();
        let faults: Vec<FieldProblem> = given.iter().filter_map(|(name, value)| text_fault(name, value)).collect();
        if !faults.is_empty() {
            return Err(Problem::invalid(faults));
        }
        axum::extract::Path::<T>::from_request_parts(parts, state).await.map(|path| Path(path.0)).map_err(|rejection| {
            let value = match &rejection {
                PathRejection::FailedToDeserializePathParams(fault) => match fault.kind() {
                    ErrorKind::ParseErrorAtKey { value, .. }
                    | ErrorKind::ParseErrorAtIndex { value, .. }
                    | ErrorKind::ParseError { value, .. } => value.clone(),
                    _ => String::new(),
                },
                _ => String::new(),
            };
            let field = given.iter().find(|(_, given)| *given == value).map_or("path", |(name, _)| name);
            let fault = FieldProblem::new(field, value, "Give a whole number within the range of its kind.");
            Problem::unreadable(StatusCode::BAD_REQUEST, fault)
        })
    }
}

/// What a caller shows to be recognised, kept to look again whether it still opens anything.
#[derive(Clone)]
pub enum Shown {
    /// The hash of a session's token.
    Session(Vec<u8>),
    /// The hash of a token of the API.
    Token(Vec<u8>),
}

impl Shown {
    /// What the headers of a request show, if anything.
    pub fn of(headers: &HeaderMap, app: &App) -> Option<Shown> {
        if let Some(token) = bearer(headers) {
            return Some(Shown::Token(secrets::token_hash(token)));
        }
        let jar = SignedCookieJar::from_headers(headers, app.cookie_key.clone());
        jar.get(COOKIE).map(|cookie| Shown::Session(secrets::token_hash(cookie.value())))
    }

    /// Who shows it, while it opens anything.
    pub async fn caller(&self, app: &App) -> hurnix_store::Result<Option<Caller>> {
        match self {
            Shown::Session(hash) => app.store.caller_by_session(hash).await,
            Shown::Token(hash) => app.store.caller_by_token(hash).await,
        }
    }
}

/// Who sends a request, whatever it is; nobody where nothing is shown that opens anything.
pub async fn sender(headers: &HeaderMap, app: &App) -> hurnix_store::Result<Option<Caller>> {
    match Shown::of(headers, app) {
        Some(shown) => shown.caller(app).await,
        None => Ok(None),
    }
}

/// Somebody who was recognised: by the cookie of a session, whose requests that change something must show
/// the session's CSRF token too, or by a token of the API. It may be that a one-time password must be
/// replaced first; [`SignedIn`] is whom most of the API is for.
pub struct Recognised(pub Caller);

impl FromRequestParts<App> for Recognised {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let caller = sender(&parts.headers, app).await?.ok_or_else(Problem::sign_in)?;
        let note = parts.extensions.get::<AuditNote>().cloned();
        if let Some(note) = &note {
            note.caller(&caller);
        }
        if let Means::Session { csrf_token, .. } = &caller.means
            && is_change(&parts.method)
            && parts.headers.get(CSRF_HEADER).map(HeaderValue::as_bytes) != Some(csrf_token.as_bytes())
        {
            return Err(Problem::forbidden(FieldProblem::secret(
                CSRF_HEADER,
                "The request lacks the session's token in the header x-csrf-token; GET /api/v1/session tells it.",
            )));
        }
        // What cannot be recorded is not done.
        if let Some(note) = &note {
            note.begin(app).await?;
        }
        Ok(Recognised(caller))
    }
}

/// The token of the header `Authorization: Bearer …`; the name of the scheme has no case (RFC 9110).
pub fn bearer(headers: &HeaderMap) -> Option<&str> {
    let (scheme, token) = headers.get(header::AUTHORIZATION)?.to_str().ok()?.trim().split_once(' ')?;
    scheme.eq_ignore_ascii_case("bearer").then(|| token.trim())
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
                return Err(Problem::not_found("instance_id", "instance", instance_id));
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

/// A person: somebody signed in with the password, and no program with a token. Tokens do what their role may on
/// data, and nothing on accounts.
pub struct InPerson(pub Caller);

impl FromRequestParts<App> for InPerson {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let SignedIn(caller) = SignedIn::from_request_parts(parts, app).await?;
        in_person(&caller)?;
        Ok(InPerson(caller))
    }
}

/// The number of a caller's session; programs with a token have none, and may not do what needs one.
pub fn in_person(caller: &Caller) -> Result<i32, Problem> {
    match caller.means {
        Means::Session { session_id, .. } => Ok(session_id),
        Means::Token(_) => {
            let remedy = "A token may not do this: sign in with the password.";
            Err(Problem::forbidden(FieldProblem::secret("authorization", remedy)))
        }
    }
}

/// An administrator signed in with the password.
pub struct AdministratorInPerson(pub Caller);

impl FromRequestParts<App> for AdministratorInPerson {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let Administrator(caller) = Administrator::from_request_parts(parts, app).await?;
        in_person(&caller)?;
        Ok(AdministratorInPerson(caller))
    }
}

/// An administrator signed in.
pub struct Administrator(pub Caller);

impl FromRequestParts<App> for Administrator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let SignedIn(caller) = SignedIn::from_request_parts(parts, app).await?;
        if caller.role < Role::Administrator {
            return Err(lacks_role(&caller, "Only administrators may do this; ask one of them."));
        }
        Ok(Administrator(caller))
    }
}

fn lacks_role(caller: &Caller, remedy: &str) -> Problem {
    Problem::forbidden(FieldProblem::new("role", caller.role.name(), remedy))
}

/// A tuner or an administrator signed in.
pub struct Tuner(pub Caller);

impl FromRequestParts<App> for Tuner {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let SignedIn(caller) = SignedIn::from_request_parts(parts, app).await?;
        if caller.role < Role::Tuner {
            return Err(lacks_role(&caller, "Readers may look only; ask a tuner or an administrator."));
        }
        Ok(Tuner(caller))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_scheme_of_a_token_has_no_case() {
        let of = |value: &str| {
            let mut headers = HeaderMap::new();
            headers.insert(header::AUTHORIZATION, value.parse().unwrap());
            bearer(&headers).map(str::to_owned)
        };
        for value in ["Bearer abc", "bearer abc", "BEARER  abc "] {
            assert_eq!(of(value).as_deref(), Some("abc"), "{value}");
        }
        assert_eq!(of("Basic abc"), None);
        assert_eq!(of("Bearer"), None);
    }
}
