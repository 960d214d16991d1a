use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum_extra::extract::cookie::{Cookie, SameSite, SignedCookieJar};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::extract::{Body, COOKIE, SignedIn, token_hash};
use super::problem::{Answer, Problem};
use crate::secrets::random_text;
use crate::state::{App, now};
use crate::{passwords, secrets};

/// A session ends by itself after this.
const SESSION_SECONDS: f64 = 12.0 * 3600.0;

/// Who wants to sign in.
#[derive(Deserialize, ToSchema)]
pub struct SignIn {
    /// Name of the account.
    name: String,
    /// Its password.
    password: String,
}

/// Who is signed in.
#[derive(Serialize, ToSchema)]
pub struct Current {
    /// Name of the account.
    name: String,
    /// `reader`, `tuner` or `administrator`.
    role: String,
    /// To be sent as the header x-csrf-token with requests that change something.
    csrf_token: String,
}

/// Sign in.
#[utoipa::path(post, path = "/session", tag = "session", request_body = SignIn,
    responses((status = 200, body = Current), (status = 401, body = Problem)))]
pub async fn sign_in(
    State(app): State<App>,
    jar: SignedCookieJar,
    Body(who): Body<SignIn>,
) -> Result<(SignedCookieJar, Json<Current>), Problem> {
    let account = app.store.account(&who.name).await?;
    let hash = account.as_ref().map(|account| account.password_hash.clone());
    // Hashing is heavy work on purpose.
    let right = tokio::task::spawn_blocking(move || passwords::verify(&who.password, hash.as_deref())).await;
    let account = account.filter(|_| right.unwrap_or(false)).ok_or_else(Problem::wrong_password)?;

    let (token, csrf_token) = (random_text(40), random_text(40));
    let hash = secrets::token_hash(&token);
    app.store.begin_session(account.account_id, &hash, &csrf_token, now().plus_seconds(SESSION_SECONDS)).await?;
    let cookie = Cookie::build((COOKIE, token)).path("/").http_only(true).same_site(SameSite::Strict).build();
    Ok((jar.add(cookie), Json(Current { name: account.name, role: account.role, csrf_token })))
}

/// Who is signed in.
#[utoipa::path(get, path = "/session", tag = "session",
    responses((status = 200, body = Current), (status = 401, body = Problem)))]
pub async fn current_session(SignedIn(session): SignedIn) -> Answer<Current> {
    Ok(Json(Current { name: session.name, role: session.role, csrf_token: session.csrf_token }))
}

/// Sign out.
#[utoipa::path(delete, path = "/session", tag = "session",
    responses((status = 204), (status = 401, body = Problem)))]
pub async fn sign_out(
    State(app): State<App>,
    jar: SignedCookieJar,
    _: SignedIn,
) -> Result<(SignedCookieJar, StatusCode), Problem> {
    if let Some(token) = token_hash(&jar) {
        app.store.end_session(&token).await?;
    }
    Ok((jar.remove(Cookie::build(COOKIE).path("/")), StatusCode::NO_CONTENT))
}
