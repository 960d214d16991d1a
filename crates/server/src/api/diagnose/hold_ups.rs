use std::cmp::Ordering;
use std::collections::{HashMap, HashSet};

use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use hurnix_core::findings::hold_up::{
    BRIEF_SECONDS, Episode, HolderWork, Lost, Repair, SessionKey, Wait, Who, deletes_from, lengths, lost_by, repairs,
};
use hurnix_core::instance::engine::Engine;
use hurnix_core::readings::activity::{AwaitedLock, PREPARED};
use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::unasked::unasked;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{WindowQuery, moment};
use crate::api::base::word::{PatternWord, Word};
use crate::api::diagnose::wait_lengths::WaitLengths;
use crate::hold_ups::{HoldUpsOf, hold_ups_of};
use crate::state::App;

/// Most hold-ups that are told, and waits of each: what further ones lost is told as a sum.
const MOST_TOLD: usize = 100;
const MOST_WAITS: usize = 200;
/// Most tables, statements and holders that are told.
const MOST_LOST: usize = 20;

/// What sessions lost in a window behind locks that others held.
#[derive(Serialize, ToSchema)]
pub struct HoldUps {
    /// Looks at the sessions in the window that are kept one by one: without one nothing is known.
    looks: usize,
    /// The newest of them.
    looked_at: Option<DateTime<Utc>>,
    /// Since when looks are kept one by one, where the window begins before that; its end where none are. Of what was over
    /// by then, only hold-ups that were not brief are kept.
    looks_since: Option<DateTime<Utc>>,
    /// Seconds that sessions lost.
    lost_seconds: f64,
    /// Hold-ups in the window that match.
    count: usize,
    /// Those that are not brief, in the order asked for; 100 at most.
    hold_ups: Vec<HoldUp>,
    /// What cost little and is over, all together.
    brief: BriefHoldUps,
    /// Seconds lost by table waited for; an empty name stands for locks of no table, or of another database.
    by_table: Vec<LostToTable>,
    /// Seconds lost by statement that waited.
    by_statement: Vec<LostToStatement>,
    /// Seconds lost by who held.
    by_holder: Vec<LostToHolder>,
    /// Waits by their length, the shortest first.
    lengths: Vec<WaitLengths>,
}

/// Hold-ups as short as such waits are every day.
#[derive(Serialize, ToSchema)]
pub struct BriefHoldUps {
    /// How many.
    count: usize,
    /// Seconds that sessions lost to all of them.
    lost_seconds: f64,
    /// Each cost less than this many seconds.
    under_seconds: f64,
}

/// Which hold-ups.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HoldUpsQuery {
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
    /// Only those in which somebody waited for a lock of this table.
    table: Option<String>,
    /// Only those of this account.
    account: Option<String>,
    /// Only those in which a statement of this family waited.
    #[param(value_type = Option<String>)]
    family_id: Option<i64>,
    /// Brief ones are told one by one as well.
    brief: Option<bool>,
    /// What comes first; what was lost most to when left out.
    #[param(inline)]
    order: Option<HoldUpOrder>,
}

/// What comes first.
#[derive(Debug, Clone, Copy, Default, Deserialize, ToSchema)]
#[serde(rename_all = "snake_case")]
pub enum HoldUpOrder {
    /// Those that sessions lost most time to.
    #[default]
    Lost,
    /// Those that began last.
    Newest,
    /// Those that held up the most sessions at once.
    Waiting,
}

/// What would keep a hold-up from coming back.
#[derive(Serialize, ToSchema)]
pub struct LastingRepair {
    /// The pattern that was seen.
    pattern: PatternWord,
    /// What shows it.
    evidence: String,
    /// What to change.
    step: &'static str,
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
    /// Whether it goes on at the end of the window.
    goes_on: bool,
    /// Share of its time in which the holder was idle in its transaction.
    idle_share: f64,
    /// Seconds that sessions lost to it.
    lost_seconds: f64,
    /// Most sessions that it held up at once.
    most_waiting: usize,
    /// Of those, the sessions of which the server was not asked who holds them up: that is taken from others who wait for
    /// the same lock.
    unasked: usize,
    /// Most holders that somebody was deep.
    depth: usize,
    /// Waits behind it, in the order in which they began.
    waits: Vec<LockWait>,
    /// Waits that are not told one by one.
    further_waits: usize,
    /// What would keep it from coming back, the likeliest first.
    repairs: Vec<LastingRepair>,
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

/// Who held up whom in a window, worst first, from looks at the sessions that are kept one by one, and before these from
/// hold-ups that were joined while theirs were. Each wait is told to within the time between two looks.
#[utoipa::path(get, path = "/instances/{instance_id}/hold-ups", tag = "watch",
    params(("instance_id" = i32, Path), HoldUpsQuery), responses((status = 200, body = HoldUps)))]
pub async fn list_hold_ups(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<HoldUpsQuery>,
) -> Answer<HoldUps> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let instance = find(&app, instance_id).await?;
    let HoldUpsOf { mut episodes, looks, looked_at, looks_since } =
        hold_ups_of(&app.store, instance_id, window).await?;
    episodes.retain(|episode| query.matches(episode));
    episodes.sort_by(|a, b| query.order.unwrap_or_default().compare(a, b));
    let waits = || episodes.iter().flat_map(|episode| &episode.waits);
    let families: HashSet<i64> =
        episodes.iter().filter_map(|episode| episode.family).chain(waits().filter_map(|wait| wait.family)).collect();
    let texts = app.store.family_texts(instance_id, &families.into_iter().collect::<Vec<_>>()).await?;
    // What refers to what matters only where somebody deletes.
    let is_deleting = |family: i64| texts.get(&family).is_some_and(|text| deletes_from(text).is_some());
    let catalogs = if episodes.iter().filter_map(|episode| episode.family).any(is_deleting) {
        app.store.catalogs(instance_id).await?
    } else {
        Vec::new()
    };
    let known = Known { texts: &texts, catalogs: &catalogs, asks: instance.engine == Engine::Postgres };
    let told = told(&episodes, query.brief.unwrap_or_default(), known);
    let (looked_at, looks_since) = (looked_at.map(moment), looks_since.map(moment));
    Ok(Json(HoldUps { looks, looked_at, looks_since, ..told }))
}

impl HoldUpsQuery {
    fn matches(&self, episode: &Episode) -> bool {
        let waited_for = |table: &str| {
            let of = |wait: &Wait| wait.lock.as_ref().is_some_and(|lock| lock.object == table);
            episode.waits.iter().any(of)
        };
        let waited = |family: i64| episode.waits.iter().any(|wait| wait.family == Some(family));
        self.table.as_deref().is_none_or(waited_for)
            && self.account.as_deref().is_none_or(|account| episode.who.account == account)
            && self.family_id.is_none_or(waited)
    }
}

impl HoldUpOrder {
    fn compare(self, a: &Episode, b: &Episode) -> Ordering {
        let lost = b.lost_seconds.total_cmp(&a.lost_seconds);
        match self {
            HoldUpOrder::Lost => lost,
            HoldUpOrder::Newest => b.from.cmp(&a.from).then(lost),
            HoldUpOrder::Waiting => b.most_waiting.cmp(&a.most_waiting).then(lost),
        }
    }
}

/// What is known besides the hold-ups themselves.
#[derive(Clone, Copy)]
struct Known<'a> {
    texts: &'a HashMap<i64, String>,
    catalogs: &'a [Catalog],
    /// Whether the server is asked of a bounded number of waiting sessions who holds them up.
    asks: bool,
}

fn told(episodes: &[Episode], tells_brief: bool, known: Known) -> HoldUps {
    let by_table = lost_by(episodes, |_, wait| {
        wait.lock.as_ref().map_or_else(Default::default, |lock| (lock.object.clone(), Some(lock.mode.clone())))
    });
    let by_statement = lost_by(episodes, |_, wait| wait.family);
    let by_holder = lost_by(episodes, |episode, _| (episode.who.account.clone(), episode.who.program.clone()));
    let brief: Vec<&Episode> = episodes.iter().filter(|episode| episode.is_brief()).collect();
    let lost = |of: &mut dyn Iterator<Item = &Episode>| of.map(|episode| episode.lost_seconds).sum();
    let shown = episodes.iter().filter(|episode| tells_brief || !episode.is_brief());
    HoldUps {
        looks: 0,
        looked_at: None,
        looks_since: None,
        lost_seconds: lost(&mut episodes.iter()),
        count: episodes.len(),
        brief: BriefHoldUps {
            count: brief.len(),
            lost_seconds: lost(&mut brief.into_iter()),
            under_seconds: BRIEF_SECONDS,
        },
        hold_ups: shown.take(MOST_TOLD).map(|episode| hold_up(episode, known)).collect(),
        lengths: lengths(episodes).into_iter().map(WaitLengths::from).collect(),
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
                statement: text(key, known.texts),
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

fn hold_up(episode: &Episode, known: Known) -> HoldUp {
    let Known { texts, catalogs, asks } = known;
    let statement = text(episode.family, texts);
    let of_holder = |catalog: &&Catalog| catalog.database == episode.who.database;
    let work = HolderWork {
        statement: statement.as_deref().unwrap_or_default(),
        catalog: catalogs.iter().find(of_holder).or(catalogs.first()),
    };
    let repair = |Repair { pattern, evidence, step }| LastingRepair { pattern: Word(pattern), evidence, step };
    HoldUp {
        repairs: repairs(episode, work).into_iter().map(repair).collect(),
        holder: session(episode.holder, &episode.who),
        is_prepared: episode.holder.process == PREPARED,
        is_circle: episode.is_circle,
        family_id: episode.family.map(Id),
        statement,
        transaction_started_at: episode.transaction_started_at.map(moment),
        from: moment(episode.from),
        to: moment(episode.to),
        goes_on: episode.goes_on(),
        idle_share: episode.idle_share(),
        lost_seconds: episode.lost_seconds,
        most_waiting: episode.most_waiting,
        unasked: if asks { unasked(episode.most_waiting) } else { 0 },
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
