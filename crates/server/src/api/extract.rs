use axum::extract::rejection::{JsonRejection, PathRejection, QueryRejection};
use axum::extract::{FromRequest, FromRequestParts, Request};
use axum::http::Method;
use axum::http::request::Parts;
use axum_extra::extract::cookie::SignedCookieJar;
use hurnix_store::Session;
use serde::de::DeserializeOwned;

use super::problem::Problem;
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
                    JsonRejection::BytesRejection(_) => "A body may have 64 KiB at most.",
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

/// Somebody signed in. Requests that change something must show the session's CSRF token too.
pub struct SignedIn(pub Session);

impl FromRequestParts<App> for SignedIn {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let jar = SignedCookieJar::from_headers(&parts.headers, app.cookie_key.clone());
        let token = token_hash(&jar).ok_or_else(Problem::sign_in)?;
        let session = app.store.session(&token).await?.ok_or_else(Problem::sign_in)?;
        let changes = !matches!(parts.method, Method::GET | Method::HEAD);
        let shown = parts.headers.get(CSRF_HEADER).map(|value| value.as_bytes());
        if changes && shown != Some(session.csrf_token.as_bytes()) {
            return Err(Problem::forbidden(
                "The request lacks the session's token in the header x-csrf-token; GET /api/v1/session tells it.",
            ));
        }
        Ok(SignedIn(session))
    }
}

/// An administrator signed in.
pub struct Administrator;

impl FromRequestParts<App> for Administrator {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let SignedIn(session) = SignedIn::from_request_parts(parts, app).await?;
        if session.role != "administrator" {
            return Err(Problem::forbidden("Only administrators may do this; ask one of them."));
        }
        Ok(Administrator)
    }
}

/// A tuner or an administrator signed in.
pub struct Tuner(pub Session);

impl FromRequestParts<App> for Tuner {
    type Rejection = Problem;

    async fn from_request_parts(parts: &mut Parts, app: &App) -> Result<Self, Problem> {
        let SignedIn(session) = SignedIn::from_request_parts(parts, app).await?;
        if session.role == "reader" {
            return Err(Problem::forbidden("Readers may look only; ask a tuner or an administrator."));
        }
        Ok(Tuner(session))
    }
}

/// What the repository knows a session's token by.
pub fn token_hash(jar: &SignedCookieJar) -> Option<Vec<u8>> {
    jar.get(COOKIE).map(|cookie| secrets::token_hash(cookie.value()))
}
