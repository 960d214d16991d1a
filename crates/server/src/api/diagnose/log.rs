use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use hurnix_core::readings::server_log::LogKind;
use hurnix_store::{KeptLogEntry, LogFilter, LogOrder};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::Answer;
use crate::api::base::window::{WindowQuery, moment};
use crate::api::base::word::{LogKindWord, Word};
use crate::api::diagnose::load::STRIP_CELLS;
use crate::api::diagnose::statements::page;
use crate::state::App;

/// What to sort entries of a server's log by.
pub type LogOrderWord = Word<LogOrder>;

/// Which entries of a server's log to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct LogQuery {
    /// Begin.
    from: DateTime<Utc>,
    /// End.
    to: DateTime<Utc>,
    /// Only entries of this kind.
    #[param(inline)]
    kind: Option<LogKindWord>,
    /// Only entries whose message, account or statement contains this.
    search: Option<String>,
    /// Only entries about statements of this family.
    family_id: Option<i64>,
    /// Only entries of this account.
    account: Option<String>,
    /// Only entries after this moment of the window; the cells show the whole window.
    entries_from: Option<DateTime<Utc>>,
    /// Only entries up to this moment of the window, likewise.
    entries_to: Option<DateTime<Utc>>,
    /// What to sort by; time when left out.
    sort: Option<LogOrderWord>,
    /// Smallest (or oldest) first.
    ascending: Option<bool>,
    /// Page, from 1.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Entries on a page, 200 at most.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

/// A page of a server's log.
#[derive(Serialize, ToSchema)]
pub struct LogList {
    /// What the window holds by kind, the gravest first; kinds of which there is nothing are left out.
    kinds: Vec<LogKindFigures>,
    /// Starts of the cells of time, in order.
    starts: Vec<DateTime<Utc>>,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// Entries that match.
    matching: i64,
    /// The entries on this page, in the order asked for.
    entries: Vec<LogEntryFigures>,
}

/// What a window holds of one kind.
#[derive(Serialize, ToSchema)]
pub struct LogKindFigures {
    /// The kind.
    kind: LogKindWord,
    /// Lines.
    times: i64,
    /// Bytes of temporary files or of log not read, seconds of waits, checkpoints and upkeep.
    value: Option<f64>,
    /// Lines by cell of time.
    cells: Vec<i64>,
}

/// A line of a server's log, or several of one reading that say the same.
#[derive(Serialize, ToSchema)]
pub struct LogEntryFigures {
    /// When the first of them was written, by the server's clock.
    at: DateTime<Utc>,
    /// Its kind.
    kind: LogKindWord,
    /// The server's own word for how grave it is.
    severity: String,
    /// State by the SQL standard; `00000` where nothing went wrong.
    state: String,
    /// What it says.
    message: String,
    /// More of it.
    detail: String,
    /// Statement that it is about; without its literals, unless the instance keeps them.
    statement: String,
    /// Family of that statement.
    family_id: Option<Id>,
    /// Account of the session.
    account: String,
    /// Its database.
    database: String,
    /// Its program.
    program: String,
    /// Where it came from.
    client: String,
    /// Number of the server's process.
    process: i32,
    /// How many lines they are.
    times: i64,
    /// Bytes or seconds, as the kind says, of all of them.
    value: Option<f64>,
}

impl From<KeptLogEntry> for LogEntryFigures {
    fn from(entry: KeptLogEntry) -> Self {
        let KeptLogEntry { line, kind, times, value, family_id, has_literals: _ } = entry;
        LogEntryFigures {
            at: moment(line.at),
            kind: Word(kind),
            severity: line.severity,
            state: line.state,
            message: line.message,
            detail: line.detail,
            statement: line.statement,
            family_id: family_id.map(Id),
            account: line.account,
            database: line.database,
            program: line.program,
            client: line.client,
            process: line.process,
            times,
            value,
        }
    }
}

/// What a server wrote to its log in a window: errors, deadlocks, cancelled statements, long waits for locks,
/// temporary files, checkpoints, upkeep.
#[utoipa::path(get, path = "/instances/{instance_id}/log", tag = "diagnose",
    params(("instance_id" = i32, Path), LogQuery),
    responses((status = 200, body = LogList)))]
pub async fn list_log(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<LogQuery>,
) -> Answer<LogList> {
    let window = WindowQuery { from: query.from, to: query.to }.window()?;
    let within =
        WindowQuery { from: query.entries_from.unwrap_or(query.from), to: query.entries_to.unwrap_or(query.to) };
    let within = within.named("entries_from", "entries_to")?;
    let (page, page_size) = page(query.page, query.page_size)?;
    find(&app, instance_id).await?;
    let filter = LogFilter {
        kinds: query.kind.map(|kind| kind.0).into_iter().collect(),
        search: query.search.map(|search| search.trim().to_owned()).filter(|search| !search.is_empty()),
        family_id: query.family_id,
        account: query.account.filter(|account| !account.is_empty()),
        order: query.sort.map(|sort| sort.0).unwrap_or_default(),
        ascending: query.ascending.unwrap_or_default(),
        offset: i64::from(page - 1) * i64::from(page_size),
        limit: i64::from(page_size),
    };
    let (entries, matching) = app.store.log_entries(instance_id, within, &filter).await?;
    let counts = app.store.log_counts(instance_id, window, &filter).await?;
    let cell_seconds = window.cell_seconds(STRIP_CELLS, 1);
    let starts = window.cells(cell_seconds);
    let by_cell = app.store.log_cells(instance_id, window, &filter, cell_seconds).await?;
    let of_kind = |kind: LogKind| {
        let count = counts.iter().find(|count| count.kind == kind)?;
        let cells = starts.iter().map(|start| by_cell.get(&(kind, *start)).copied().unwrap_or_default()).collect();
        Some(LogKindFigures { kind: Word(kind), times: count.times, value: count.value, cells })
    };
    Ok(Json(LogList {
        kinds: LogKind::all().filter_map(of_kind).collect(),
        starts: starts.iter().copied().map(moment).collect(),
        cell_seconds,
        matching,
        entries: entries.into_iter().map(LogEntryFigures::from).collect(),
    }))
}
