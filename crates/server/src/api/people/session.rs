use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum_extra::extract::cookie::{Cookie, SameSite, SignedCookieJar};
use hurnix_core::access::preferences::{MOST_FOLDED, MOST_PINNED, Preferences, check_boards};
use hurnix_store::{Caller, Means, NewSession};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::client::Client;
use crate::api::base::extract::{Body, COOKIE, Recognised, SecretBody, SignedIn, in_person};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::word::{RoleWord, Word};
use crate::gate::{GivenFrom, Passed, known_browser};
use crate::secrets;
use crate::secrets::{hex, random_text};
use crate::state::{App, now};

/// A session ends by itself after this.
const SESSION_SECONDS: f64 = 12.0 * 3600.0;
/// What stands in the audit trail for a name that is no account's: it may be a password.
const NO_ACCOUNT: &str = "(no such account)";
/// Name of the cookie by which a browser that has signed in is known again: mistakes of others do not count for it.
const BROWSER_COOKIE: &str = "hurnix_browser";
/// Longest name of an account.
pub const MOST_NAME_LETTERS: usize = 100;

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
    role: RoleWord,
    /// Groups of instances that the account is limited to; it sees all while there are none.
    groups: Vec<String>,
    /// Whether the password serves for nothing but to set another one, by `PUT /account/password`.
    must_set_password: bool,
    /// To be sent as the header x-csrf-token with requests that change something; empty for a token of the API,
    /// which needs none.
    csrf_token: String,
    /// What was chosen for the pages.
    preferences: Preferences,
}

impl Current {
    fn new(caller: Caller, preferences: Preferences) -> Self {
        Current {
            preferences,
            name: caller.name,
            role: Word(caller.role),
            groups: caller.groups,
            must_set_password: caller.one_time,
            csrf_token: match caller.means {
                Means::Session { csrf_token, .. } => csrf_token,
                Means::Token(_) => String::new(),
            },
        }
    }
}

/// What a browser that has signed in before is known by.
pub fn browser_of(jar: &SignedCookieJar) -> Option<String> {
    jar.get(BROWSER_COOKIE).map(|cookie| hex(&secrets::token_hash(cookie.value())))
}

/// Sign in. Who gives wrong passwords must wait before the next one is looked at.
#[utoipa::path(post, path = "/session", tag = "session", request_body = SignIn,
    responses((status = 200, body = Current), (status = 429, body = Problem)))]
pub async fn sign_in(
    State(app): State<App>,
    jar: SignedCookieJar,
    client: Client,
    note: AuditNote,
    SecretBody(who): SecretBody<SignIn>,
) -> Result<(SignedCookieJar, Json<Current>), Problem> {
    if who.name.chars().count() > MOST_NAME_LETTERS {
        // It is not repeated: people type passwords into the wrong field.
        let remedy = format!("A name has {MOST_NAME_LETTERS} characters at most.");
        return Err(Problem::invalid(vec![FieldProblem::secret("name", remedy)]));
    }
    let is_account = app.store.account(&who.name).await?.is_some();
    note.account(if is_account { &who.name } else { NO_ACCOUNT }, "password");
    let browser = browser_of(&jar);
    let from = GivenFrom { address: &client.address, browser: browser.as_deref() };
    let account = match app.gate.pass(&app.store, &who.name, who.password, from).await? {
        Passed::Right(account) => account,
        Passed::Wrong => return Err(Problem::wrong_password()),
        Passed::Wait(seconds) => return Err(Problem::wait(seconds)),
    };
    note.begin(&app).await?;
    let (token, csrf_token) = (random_text(40), random_text(40));
    let session = NewSession {
        account_id: account.account_id,
        token_hash: &secrets::token_hash(&token),
        csrf_token: &csrf_token,
        client: &client.address,
        program: &client.program,
        expires_at: now().plus_seconds(SESSION_SECONDS),
    };
    app.store.begin_session(&session).await?;
    // The browser holds one session: the one that this replaces would go on unseen.
    if let Some(replaced) = jar.get(COOKIE) {
        app.store.end_session_of(&secrets::token_hash(replaced.value())).await?;
    }
    let (jar, browser) = match browser {
        Some(browser) => (jar, browser),
        None => {
            let value = random_text(40);
            let browser = hex(&secrets::token_hash(&value));
            let cookie = Cookie::build((BROWSER_COOKIE, value)).permanent();
            let cookie = cookie.path("/api/v1").http_only(true).same_site(SameSite::Strict);
            (jar.add(cookie.secure(client.over_tls)), browser)
        }
    };
    app.store.note_known_client(account.account_id, &known_browser(&browser)).await?;
    let cookie = Cookie::build((COOKIE, token))
        .path("/")
        .http_only(true)
        .same_site(SameSite::Strict)
        .secure(client.over_tls)
        .build();
    let current = Current {
        name: account.name,
        role: Word(account.role),
        groups: account.groups,
        must_set_password: account.one_time,
        csrf_token,
        preferences: app.store.preferences(account.account_id).await?,
    };
    Ok((jar.add(cookie), Json(current)))
}

/// Who is signed in.
#[utoipa::path(get, path = "/session", tag = "session",
    responses((status = 200, body = Current)))]
pub async fn current_session(State(app): State<App>, Recognised(caller): Recognised) -> Answer<Current> {
    let preferences = app.store.preferences(caller.account_id).await?;
    Ok(Json(Current::new(caller, preferences)))
}

/// Keep what whoever is signed in has chosen for the pages, in place of what was chosen before.
#[utoipa::path(put, path = "/session/preferences", tag = "session", request_body = Preferences,
    responses((status = 204)))]
pub async fn set_preferences(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Body(preferences): Body<Preferences>,
) -> Result<StatusCode, Problem> {
    let mut faults = Vec::new();
    if preferences.pinned.len() > MOST_PINNED {
        let remedy = format!("Pin {MOST_PINNED} instances at most.");
        faults.push(FieldProblem::new("pinned", preferences.pinned.len(), remedy));
    }
    if preferences.folded_groups.len() > MOST_FOLDED {
        let remedy = format!("Fold {MOST_FOLDED} groups at most.");
        faults.push(FieldProblem::new("folded_groups", preferences.folded_groups.len(), remedy));
    }
    if let Some(odd) = preferences.folded_groups.iter().find(|group| group.contains('\0')) {
        faults.push(FieldProblem::new("folded_groups", odd, "A group has no such character in its name."));
    }
    if let Err(fault) = check_boards(&preferences.boards) {
        let names: Vec<&str> = preferences.boards.iter().map(|board| board.name.as_str()).collect();
        faults.push(FieldProblem::new("boards", names.join(", "), format!("It cannot be kept: {fault}.")));
    }
    if !faults.is_empty() {
        return Err(Problem::invalid(faults));
    }
    app.store.set_preferences(caller.account_id, &preferences).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Sign out.
#[utoipa::path(delete, path = "/session", tag = "session",
    responses((status = 204)))]
pub async fn sign_out(
    State(app): State<App>,
    jar: SignedCookieJar,
    Recognised(caller): Recognised,
) -> Result<(SignedCookieJar, StatusCode), Problem> {
    let session_id = in_person(&caller)?;
    app.store.end_session(caller.account_id, session_id).await?;
    Ok((jar.remove(Cookie::build(COOKIE).path("/")), StatusCode::NO_CONTENT))
}
