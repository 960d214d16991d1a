use std::collections::{HashMap, HashSet};

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use hurnix_core::findings::hold_up::{Episode, Episodes, Lost, SessionKey, Wait, Who, lost_by};
use hurnix_core::readings::activity::{AwaitedLock, PREPARED};
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{WindowQuery, moment};
use crate::state::App;

/// Most hold-ups that are told, and waits of each: what further ones lost is told as a sum.
const MOST_TOLD: usize = 100;
const MOST_WAITS: usize = 200;
/// Most tables, statements and holders that are told.
const MOST_LOST: usize = 20;
/// A hold-up goes on where one of the last few looks saw it.
const GOING_LOOKS: usize = 3;

/// What sessions lost in a window behind locks that others held.
#[derive(Serialize, ToSchema)]
pub struct HoldUps {
    /// Looks at the sessions in the window that are kept one by one: without one nothing is known.
    looks: usize,
    /// The newest of them.
    looked_at: Option<DateTime<Utc>>,
    /// Seconds that sessions lost.
    lost_seconds: f64,
    /// Hold-ups in the window.
    count: usize,
    /// The worst of them first.
    hold_ups: Vec<HoldUp>,
    /// Seconds lost by table waited for; an empty name stands for locks of no table, or of another database.
    by_table: Vec<LostToTable>,
    /// Seconds lost by statement that waited.
    by_statement: Vec<LostToStatement>,
    /// Seconds lost by who held.
    by_holder: Vec<LostToHolder>,
}

/// What one holder held up.
#[derive(Serialize, ToSchema)]
pub struct HoldUp {
    /// The holder; of sessions that waited for each other, one of them.
    holder: LockSession,
    /// Whether it is prepared transactions, which no session holds any more.
    is_prepared: bool,
    /// Whether sessions waited for each other in a circle.
    is_circle: bool,
    /// Number of the family of the holder's statement, or of its last one.
    family_id: Option<Id>,
    /// Text of that family.
    statement: Option<String>,
    /// When its transaction began.
    transaction_started_at: Option<DateTime<Utc>>,
    /// First look that saw it.
    from: DateTime<Utc>,
    /// Last look that saw it.
    to: DateTime<Utc>,
    /// Whether it goes on.
    goes_on: bool,
    /// Share of its time in which the holder was idle in its transaction.
    idle_share: f64,
    /// Seconds that sessions lost to it.
    lost_seconds: f64,
    /// Most sessions that it held up at once.
    most_waiting: usize,
    /// Most holders that somebody was deep.
    depth: usize,
    /// Waits behind it, in the order in which they began.
    waits: Vec<LockWait>,
    /// Waits that are not told one by one.
    further_waits: usize,
}

/// A session that waited for a lock.
#[derive(Serialize, ToSchema)]
pub struct LockWait {
    /// The session.
    session: LockSession,
    /// Number of the family of its statement.
    family_id: Option<Id>,
    /// Text of that family.
    statement: Option<String>,
    /// Mode of the lock, by the server's own name; nothing where that was not seen.
    mode: Option<String>,
    /// What it is a lock of, by the server's own name.
    kind: Option<String>,
    /// The table; empty where it is of none, or of another database.
    table: String,
    /// Process of the holder in whose lane it stood, as last seen.
    lane: i32,
    /// Process that waited for the same directly before it.
    behind: Option<i32>,
    /// Whether it waited for its turn only: the holder kept nothing from it, but somebody before it wanted what would.
    is_queued: bool,
    /// How many holders deep: 1 waits for the first one.
    depth: usize,
    /// First look that saw it.
    from: DateTime<Utc>,
    /// Last look that saw it.
    to: DateTime<Utc>,
    /// Seconds that it lost.
    lost_seconds: f64,
}

/// A session that held or waited.
#[derive(Serialize, ToSchema)]
pub struct LockSession {
    /// Process number.
    process: i32,
    /// When the process began; nothing where nobody saw it.
    started_at: Option<DateTime<Utc>>,
    /// Account that signed in.
    account: String,
    /// What its program calls itself.
    program: String,
    /// Where it comes from.
    client: String,
    /// Database that it works in.
    database: String,
}

/// What was lost waiting for locks of a table.
#[derive(Serialize, ToSchema)]
pub struct LostToTable {
    /// The table.
    table: String,
    /// Mode of the lock that was waited for; nothing where that was not seen.
    mode: Option<String>,
    /// Seconds.
    lost_seconds: f64,
    /// Waits.
    waits: usize,
}

/// What a statement lost waiting.
#[derive(Serialize, ToSchema)]
pub struct LostToStatement {
    /// Number of its family.
    family_id: Option<Id>,
    /// Text of that family.
    statement: Option<String>,
    /// Seconds.
    lost_seconds: f64,
    /// Waits.
    waits: usize,
}

/// What was lost to holders of one account and program.
#[derive(Serialize, ToSchema)]
pub struct LostToHolder {
    /// Account that held.
    account: String,
    /// Its program.
    program: String,
    /// Seconds.
    lost_seconds: f64,
    /// Waits.
    waits: usize,
}

/// Who held up whom in a window, worst first, from looks at the sessions that are kept one by one. Each wait is told to
/// within the time between two looks.
#[utoipa::path(get, path = "/instances/{instance_id}/hold-ups", tag = "watch",
    params(("instance_id" = i32, Path), WindowQuery), responses((status = 200, body = HoldUps)))]
pub async fn list_hold_ups(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<WindowQuery>,
) -> Answer<HoldUps> {
    let window = query.window()?;
    find(&app, instance_id).await?;
    let looks = app.store.lock_looks(instance_id, window).await?;
    let times: Vec<Timestamp> = looks.iter().map(|look| look.at).collect();
    let joined = tokio::task::spawn_blocking(move || {
        let mut going = Episodes::default();
        let mut episodes: Vec<Episode> = looks.iter().flat_map(|look| going.go_on(look)).collect();
        episodes.extend(going.into_open());
        episodes.sort_by(|a, b| b.lost_seconds.total_cmp(&a.lost_seconds));
        episodes
    });
    let episodes = joined.await.map_err(Problem::internal)?;
    let waits = || episodes.iter().flat_map(|episode| &episode.waits);
    let families: HashSet<i64> =
        episodes.iter().filter_map(|episode| episode.family).chain(waits().filter_map(|wait| wait.family)).collect();
    let texts = app.store.family_texts(instance_id, &families.into_iter().collect::<Vec<_>>()).await?;
    Ok(Json(told(&episodes, &times, &texts)))
}

fn told(episodes: &[Episode], looks: &[Timestamp], texts: &HashMap<i64, String>) -> HoldUps {
    let goes_on_from = looks.iter().rev().nth(GOING_LOOKS - 1).or(looks.first()).copied();
    let by_table = lost_by(episodes, |_, wait| {
        wait.lock.as_ref().map_or_else(Default::default, |lock| (lock.object.clone(), Some(lock.mode.clone())))
    });
    let by_statement = lost_by(episodes, |_, wait| wait.family);
    let by_holder = lost_by(episodes, |episode, _| (episode.who.account.clone(), episode.who.program.clone()));
    HoldUps {
        looks: looks.len(),
        looked_at: looks.last().copied().map(moment),
        lost_seconds: episodes.iter().map(|episode| episode.lost_seconds).sum(),
        count: episodes.len(),
        hold_ups: episodes.iter().take(MOST_TOLD).map(|episode| hold_up(episode, goes_on_from, texts)).collect(),
        by_table: by_table
            .into_iter()
            .take(MOST_LOST)
            .map(|Lost { key: (table, mode), seconds, waits }| LostToTable {
                table,
                mode,
                lost_seconds: seconds,
                waits,
            })
            .collect(),
        by_statement: by_statement
            .into_iter()
            .take(MOST_LOST)
            .map(|Lost { key, seconds, waits }| LostToStatement {
                family_id: key.map(Id),
                statement: text(key, texts),
                lost_seconds: seconds,
                waits,
            })
            .collect(),
        by_holder: by_holder
            .into_iter()
            .take(MOST_LOST)
            .map(|Lost { key: (account, program), seconds, waits }| LostToHolder {
                account,
                program,
                lost_seconds: seconds,
                waits,
            })
            .collect(),
    }
}

fn text(family: Option<i64>, texts: &HashMap<i64, String>) -> Option<String> {
    texts.get(&family?).cloned()
}

fn hold_up(episode: &Episode, goes_on_from: Option<Timestamp>, texts: &HashMap<i64, String>) -> HoldUp {
    HoldUp {
        holder: session(episode.holder, &episode.who),
        is_prepared: episode.holder.process == PREPARED,
        is_circle: episode.is_circle,
        family_id: episode.family.map(Id),
        statement: text(episode.family, texts),
        transaction_started_at: episode.transaction_started_at.map(moment),
        from: moment(episode.from),
        to: moment(episode.to),
        goes_on: goes_on_from.is_some_and(|from| episode.to >= from),
        idle_share: if episode.seconds > 0.0 { episode.idle_seconds / episode.seconds } else { 0.0 },
        lost_seconds: episode.lost_seconds,
        most_waiting: episode.most_waiting,
        depth: episode.depth,
        waits: episode.waits.iter().take(MOST_WAITS).map(|wait| lock_wait(wait, texts)).collect(),
        further_waits: episode.waits.len().saturating_sub(MOST_WAITS),
    }
}

fn lock_wait(wait: &Wait, texts: &HashMap<i64, String>) -> LockWait {
    let lock: Option<&AwaitedLock> = wait.lock.as_ref();
    LockWait {
        session: session(wait.session, &wait.who),
        family_id: wait.family.map(Id),
        statement: text(wait.family, texts),
        mode: lock.map(|lock| lock.mode.clone()),
        kind: lock.map(|lock| lock.kind.clone()),
        table: lock.map_or_else(String::new, |lock| lock.object.clone()),
        lane: wait.lane.process,
        behind: wait.behind.map(|behind| behind.process),
        is_queued: wait.is_queued,
        depth: wait.depth,
        from: moment(wait.from),
        to: moment(wait.to),
        lost_seconds: wait.lost_seconds,
    }
}

fn session(key: SessionKey, who: &Who) -> LockSession {
    LockSession {
        process: key.process,
        started_at: (key.started_at > Timestamp(0)).then(|| moment(key.started_at)),
        account: who.account.clone(),
        program: who.program.clone(),
        client: who.client.clone(),
        database: who.database.clone(),
    }
}
