use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use hurnix_core::readings::blocking::blocked_behind;
use hurnix_store::SessionSeen;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::moment;
use crate::api::base::word::{WaitKindWord, Word};
use crate::state::{App, now};

/// What was seen last is told for so many seconds.
const STALE_SECONDS: f64 = 120.0;

/// A session that was not idle when the server was last looked at.
#[derive(Serialize, ToSchema)]
pub struct SessionOnServer {
    /// Process number.
    process: i32,
    /// When the process began; tells it from a later one with the same number.
    started_at: DateTime<Utc>,
    /// Wait kind; nothing when it holds a transaction open without working.
    wait_kind: Option<WaitKindWord>,
    /// The server's own name of the wait.
    event: Option<String>,
    /// Account that signed in.
    account: String,
    /// What its program calls itself.
    program: String,
    /// Where it comes from.
    client: String,
    /// Database that it works in.
    database: String,
    /// Number of the family of its statement, or of the last one.
    family_id: Option<Id>,
    /// Text of that family.
    statement: Option<String>,
    /// When that statement began.
    statement_started_at: Option<DateTime<Utc>>,
    /// Seconds that the statement had gone on for when the server was looked at, by the server's own clock.
    statement_seconds: Option<f64>,
    /// When its transaction began.
    transaction_started_at: Option<DateTime<Utc>>,
    /// Likewise of the transaction.
    transaction_seconds: Option<f64>,
    /// Processes that hold the lock it waits for.
    blocked_by: Vec<i32>,
    /// Sessions that wait behind it, directly or through others.
    blocks: usize,
}

/// How long something had gone on for when the server was looked at.
fn age(session: &SessionSeen, began: Option<Timestamp>) -> Option<f64> {
    began.map(|began| session.looked_at.seconds_since(began).max(0.0))
}

/// Sessions that were not idle when the server was last looked at, those that others wait for first, then by the
/// age of their transactions.
#[utoipa::path(get, path = "/instances/{instance_id}/sessions", tag = "watch", params(("instance_id" = i32, Path)),
    responses((status = 200, body = Vec<SessionOnServer>)))]
pub async fn sessions_on_server(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
) -> Answer<Vec<SessionOnServer>> {
    find(&app, instance_id).await?;
    let seen = app.store.newest_look(instance_id, now().plus_seconds(-STALE_SECONDS)).await?;
    let behind = blocked_behind(seen.iter().map(|session| (session.process, session.blocked_by.as_slice())));
    let mut sessions: Vec<SessionOnServer> = seen
        .iter()
        .map(|session| SessionOnServer {
            process: session.process,
            started_at: moment(session.process_started_at),
            wait_kind: session.wait_kind.map(Word),
            event: session.event.clone(),
            account: session.account.clone(),
            program: session.program.clone(),
            client: session.client.clone(),
            database: session.database.clone(),
            family_id: session.family.as_ref().map(|(id, _)| Id(*id)),
            statement: session.family.as_ref().map(|(_, text)| text.clone()),
            statement_seconds: age(session, session.statement_started_at),
            transaction_seconds: age(session, session.transaction_started_at),
            statement_started_at: session.statement_started_at.map(moment),
            transaction_started_at: session.transaction_started_at.map(moment),
            blocked_by: session.blocked_by.clone(),
            blocks: behind.get(&session.process).copied().unwrap_or_default(),
        })
        .collect();
    sessions.sort_by_key(|session| {
        let age = session.transaction_started_at.map_or(i64::MAX, |began| began.timestamp_micros());
        (std::cmp::Reverse(session.blocks), age, session.process)
    });
    Ok(Json(sessions))
}
