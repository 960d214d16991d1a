use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::hold_up::Tree;
use hurnix_core::instance::engine::Engine;
use hurnix_core::readings::blocking::blocked_behind;
use hurnix_core::readings::unasked::unasked;
use hurnix_core::readings::wait_kind::WaitKind;
use hurnix_core::{Timestamp, Window};
use hurnix_store::SessionSeen;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{given, moment};
use crate::api::base::word::{WaitKindWord, Word};
use crate::api::watch::held_back::{HeldBack, held_back_by};
use crate::state::{App, last_seconds};

/// What was seen last is told for so many seconds.
const STALE_SECONDS: f64 = 120.0;

/// When.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SessionsQuery {
    /// The last look at or before this moment; the newest when left out.
    at: Option<DateTime<Utc>>,
}

/// Sessions of a server at a moment.
#[derive(Serialize, ToSchema)]
pub struct SessionsSeen {
    /// When the server was looked at, by its own clock; nothing where nobody was busy then, or it was not looked at in the
    /// two minutes before.
    looked_at: Option<DateTime<Utc>>,
    /// Those that were not idle, those that others wait for first, then by the age of their transactions.
    sessions: Vec<SessionOnServer>,
    /// Waiting sessions of which the server was not asked who holds them up, because too many waited: that is taken from
    /// others who wait for the same lock.
    unasked: usize,
    /// What keeps vacuum from removing row versions just now, the oldest first: sessions, prepared transactions, slots
    /// and replicas.
    held_back_by: Vec<HeldBack>,
}

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
    /// The lock that it waits for, in words.
    awaits: Option<String>,
    /// Its place in the lines of those who wait for locks, from 0; nothing for those not concerned.
    line: Option<usize>,
    /// How many holders deep it waits; 0 where it waits for nobody.
    depth: usize,
}

/// How long something had gone on for when the server was looked at.
fn age(session: &SessionSeen, began: Option<Timestamp>) -> Option<f64> {
    began.map(|began| session.looked_at.seconds_since(began).max(0.0))
}

/// Where a session stands among those who wait for locks.
#[derive(Default)]
struct Standing {
    line: Option<usize>,
    depth: usize,
    awaits: Option<String>,
}

/// Sessions that were not idle when the server was last looked at before a moment.
#[utoipa::path(get, path = "/instances/{instance_id}/sessions", tag = "watch",
    params(("instance_id" = i32, Path), SessionsQuery), responses((status = 200, body = SessionsSeen)))]
pub async fn sessions_on_server(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<SessionsQuery>,
) -> Answer<SessionsSeen> {
    let at = query.at.map(|at| given("at", at)).transpose().map_err(|fault| Problem::invalid(vec![fault]))?;
    let instance = find(&app, instance_id).await?;
    let window = at.map_or(last_seconds(STALE_SECONDS), |to| Window { from: to.plus_seconds(-STALE_SECONDS), to });
    let seen = app.store.newest_look(instance_id, window).await?;
    let looked_at = seen.first().map(|session| session.looked_at);
    let mut standing = match looked_at {
        Some(at) => standing(&app, instance_id, at).await?,
        None => HashMap::new(),
    };
    let behind = blocked_behind(seen.iter().map(|session| (session.process, session.blocked_by.as_slice())));
    let session = |session: &SessionSeen| {
        let Standing { line, depth, awaits } = standing.remove(&session.process).unwrap_or_default();
        SessionOnServer {
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
            awaits,
            line,
            depth,
        }
    };
    let mut sessions: Vec<SessionOnServer> = seen.iter().map(session).collect();
    sessions.sort_by_key(|session| {
        let age = session.transaction_started_at.map_or(i64::MAX, |began| began.timestamp_micros());
        (std::cmp::Reverse(session.blocks), age, session.process)
    });
    let held_back_by = if at.is_none() { held_back_by(&app, &instance).await? } else { Vec::new() };
    let waiting = seen.iter().filter(|session| session.wait_kind == Some(WaitKind::Lock)).count();
    Ok(Json(SessionsSeen {
        looked_at: looked_at.map(moment),
        sessions,
        unasked: if instance.engine == Engine::Postgres { unasked(waiting) } else { 0 },
        held_back_by,
    }))
}

/// Where those stand who wait for locks, or are waited for, in one look.
async fn standing(app: &App, instance_id: i32, at: Timestamp) -> hurnix_store::Result<HashMap<i32, Standing>> {
    let looks = app.store.lock_looks(instance_id, Window { from: at.plus_seconds(-1e-6), to: at }).await?;
    let Some(look) = looks.first() else { return Ok(HashMap::new()) };
    let tree = Tree::of(look.parties());
    let told = tree.in_order().into_iter().enumerate().map(|(line, party)| {
        let awaits = look.parties()[party].awaited.as_ref();
        let awaits = awaits.map(|lock| [lock.mode.as_str(), &lock.kind, &lock.object].join(" ").trim_end().to_owned());
        let depth = tree.places[party].as_ref().map_or(0, |place| place.depth);
        (look.parties()[party].session.process, Standing { line: Some(line), depth, awaits })
    });
    Ok(told.collect())
}
