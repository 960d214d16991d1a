use crate::address::known_tls_mode;
use hurnix_core::findings::normal_range::Usual;
use hurnix_core::instance::collection_state::CollectionState;
use std::collections::HashMap;

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::findings::health::{Urgency, compare_alarms, urgency};
use hurnix_core::instance::engine::Engine;
use hurnix_core::instance::instance_settings::InstanceSettings;
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::load::Load;
use hurnix_core::{Timestamp, Window};
use hurnix_source::postgres::{Address, PostgresSource};
use hurnix_source::{ConnectProblem, Limit};
use hurnix_store::{AlarmRow, Instance};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Administrator, Body, Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::{find, there_was};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, cell_seconds, moment};
use crate::api::base::word::{CollectionStateWord, EngineWord, HealthWord, TlsModeWord, Word};
use crate::api::people::accounts::{MOST_GROUP_LETTERS, is_group};
use crate::api::watch::connection::Connection;
use crate::api::watch::markers::MarkerFigures;
use crate::state::{App, now};

/// Strips up to this long are made of single looks.
const LONGEST_FINE_STRIP_SECONDS: f64 = 3600.0;
/// Hours that the time ruler may look back: 400 days.
const MOST_HOURS: u32 = 9600;
/// Cells of the time ruler.
const RULER_CELLS: u32 = 240;

/// An instance.
#[derive(Serialize, ToSchema)]
pub struct InstanceFigures {
    /// Number.
    pub(crate) instance_id: i32,
    /// Name on the roster.
    label: String,
    /// Group that accounts may be limited to.
    group: Option<String>,
    /// What its figures come from.
    engine: EngineWord,
    /// Host name or address.
    host: String,
    /// Port.
    port: i32,
    /// Database connected to.
    database: String,
    /// Account signed in with.
    account: String,
    /// Number of the credential that the account and its password are those of.
    credential_id: Option<i32>,
    /// How the connection is encrypted; nothing where what is stored is no mode.
    tls: Option<TlsModeWord>,
    /// Certificates, in PEM form, that the server's is checked against besides those trusted anyway.
    tls_ca: Option<String>,
    /// Address of an exporter that tells of the host.
    host_endpoint: Option<String>,
    /// Whether something is stored that the exporter asks for.
    has_host_secret: bool,
    /// Whether the password may be sent in clear text or as MD5 to a server that has not proved who it is.
    allows_plain_password: bool,
    /// How it is treated.
    settings: InstanceSettings,
    /// How collection stands.
    collection: CollectionStateWord,
    /// Since when collection stands like that.
    collection_since: DateTime<Utc>,
    /// The obstacle to collecting.
    problem: Option<Obstruction>,
    /// When figures last arrived.
    last_success_at: Option<DateTime<Utc>>,
    /// Version of the server.
    server_version: Option<String>,
    /// What reading costs the server, in shares of one core; nothing before the first reading.
    cost_share: Option<f32>,
    /// Bytes read from the server in a second; nothing before the first reading.
    cost_bytes: Option<f32>,
    /// Largest factor by which an interval of reading is stretched, to keep to the budget.
    stretch: Option<f32>,
    /// Figures that this server does not give.
    limits: Vec<LimitFigures>,
    /// How it is.
    health: HealthWord,
    /// Seconds lost per second to what its alarms are about.
    lost_seconds_per_second: f64,
    /// Alarms that ask for attention.
    alarms: usize,
    /// The most urgent of them.
    worst: Option<WorstAlarm>,
    /// Name of the maintenance window that is open for it: its alarms are silent.
    silenced_by: Option<String>,
    /// Advice that waits for a decision.
    open_advice: i64,
    /// Load of the last hours in equal cells; `null` where the server was not looked at.
    strip: Vec<Option<f64>>,
    /// Seconds of one cell of the strip.
    strip_cell_seconds: i64,
    /// Lower end of the usual load in each cell; empty where nothing was learnt yet.
    strip_low: Vec<f64>,
    /// Upper end of the usual load in each cell; empty where nothing was learnt yet.
    strip_high: Vec<f64>,
}

/// The most urgent alarm of an instance.
#[derive(Serialize, ToSchema)]
pub struct WorstAlarm {
    /// Number.
    alarm_id: Id,
    /// How it asks for attention.
    asks: HealthWord,
    /// In one sentence.
    text: String,
    /// When the trouble began, as far as is known.
    began_at: DateTime<Utc>,
}

/// What stands beside an instance where it is shown.
pub(crate) struct Beside<'a> {
    /// Its load at a glance.
    pub(crate) strip: Strip,
    /// What is usual in each cell of it.
    pub(crate) usual: Vec<Usual>,
    /// Its open alarms.
    pub(crate) alarms: &'a [AlarmRow],
    /// Advice that waits for a decision.
    pub(crate) open_advice: i64,
    /// Name of the maintenance window that is open for it.
    pub(crate) silenced_by: Option<&'a str>,
}

/// The obstacle to collecting.
#[derive(Serialize, ToSchema)]
pub struct Obstruction {
    /// One sentence.
    message: String,
    /// What removes it.
    remedy: String,
}

/// Figures that a server does not give.
#[derive(Serialize, ToSchema)]
pub struct LimitFigures {
    /// Which.
    figures: String,
    /// Why, and what is lost by it.
    reason: String,
    /// What would give them.
    remedy: String,
    /// Whether only a newer version of the server would.
    by_version: bool,
}

/// What a trial of a connection found.
#[derive(Serialize, ToSchema)]
pub struct Trial {
    /// Version of the server.
    server_version: String,
    /// Figures that it does not give.
    limits: Vec<LimitFigures>,
}

/// What was added.
#[derive(Serialize, ToSchema)]
pub struct Added {
    /// Its number.
    instance_id: i32,
}

fn limits(limits: Vec<Limit>) -> Vec<LimitFigures> {
    let limit =
        |Limit { figures, reason, remedy, by_version, .. }| LimitFigures { figures, reason, remedy, by_version };
    limits.into_iter().map(limit).collect()
}

/// An instance as it is shown, with its place in the order of those who ask for attention.
pub(crate) fn shaped(instance: Instance, beside: Beside) -> (Urgency, InstanceFigures) {
    let Beside { strip, usual, alarms, open_advice, silenced_by } = beside;
    let is_told_of = instance.collection == CollectionState::Collecting || instance.engine == Engine::Bundle;
    let (at, is_silenced) = (now(), silenced_by.is_some());
    let urgency = urgency(alarms.iter().map(|row| &row.alarm), at, is_told_of, is_silenced);
    let asking = alarms.iter().filter_map(|row| Some((row, row.alarm.asks(at, is_silenced)?)));
    let worst = asking.min_by(|(a, _), (b, _)| compare_alarms(&a.alarm, &b.alarm, at)).map(|(row, asks)| WorstAlarm {
        alarm_id: Id(row.alarm_id),
        asks: Word(asks),
        text: row.alarm.sign.text.clone(),
        began_at: moment(row.alarm.began_at()),
    });
    let tls = known_tls_mode(&instance).map(Word);
    let problem: Option<ConnectProblem> = instance.problem.and_then(|problem| serde_json::from_value(problem).ok());
    let figures = InstanceFigures {
        instance_id: instance.instance_id,
        label: instance.label,
        group: instance.group,
        engine: Word(instance.engine),
        host: instance.host,
        port: instance.port,
        database: instance.database_name,
        account: instance.account_name,
        credential_id: instance.credential_id,
        tls,
        tls_ca: instance.tls_ca,
        host_endpoint: instance.host_endpoint,
        has_host_secret: instance.host_secret_sealed.is_some(),
        allows_plain_password: instance.allows_plain_password,
        settings: instance.settings,
        collection: Word(instance.collection),
        collection_since: moment(instance.collection_since),
        problem: problem.map(|ConnectProblem { message, remedy, .. }| Obstruction { message, remedy }),
        last_success_at: instance.last_success_at.map(moment),
        server_version: instance.server_version,
        cost_share: instance.cost_share,
        cost_bytes: instance.cost_bytes,
        stretch: instance.stretch,
        limits: limits(serde_json::from_value(instance.limits).unwrap_or_default()),
        health: Word(urgency.health),
        lost_seconds_per_second: urgency.lost_seconds_per_second,
        alarms: urgency.alarms,
        worst,
        silenced_by: silenced_by.map(str::to_owned),
        open_advice,
        strip: strip.cells,
        strip_cell_seconds: strip.cell_seconds,
        strip_low: usual.iter().map(|usual| hundredths(usual.low)).collect(),
        strip_high: usual.iter().map(|usual| hundredths(usual.high)).collect(),
    };
    (urgency, figures)
}

/// What is drawn some pixels high need not be told to all its digits, five hundred times.
fn hundredths(value: f64) -> f64 {
    (value * 100.0).round() / 100.0
}

/// Load in equal cells.
#[derive(Debug, Clone, PartialEq)]
pub(crate) struct Strip {
    /// Start of the first cell.
    pub(crate) start: Timestamp,
    /// Seconds of one cell.
    pub(crate) cell_seconds: i64,
    /// Load by cell; nothing where the server was not looked at.
    pub(crate) cells: Vec<Option<f64>>,
}

/// Load of a window at a glance: from ten minutes on, where the window is longer than an hour.
async fn strip(app: &App, instance: &Instance, window: Window, most: u32) -> Result<Strip, Problem> {
    let least = if window.seconds() > LONGEST_FINE_STRIP_SECONDS { Detail::TenMinutes } else { Detail::Fine };
    let instance_id = instance.instance_id;
    let pieces = app
        .store
        .pieces(instance_id, &[RetentionGroup::Activity], window, Detail::for_window(window).max(least), now())
        .await?;
    let cell_seconds = cell_seconds(&pieces, most, app.intervals_of(instance).activity);
    let loads = app.store.load(instance_id, &pieces, cell_seconds, &[]).await?;
    let loads: HashMap<Timestamp, Load> = loads.into_iter().map(|cell| (cell.at, cell.load)).collect();
    let starts = pieces.window().cells(cell_seconds);
    let cells = starts.iter().map(|at| loads.get(at).and_then(Load::total)).collect();
    Ok(Strip { start: starts.first().copied().unwrap_or(window.from), cell_seconds, cells })
}

/// Add an instance. Collection starts at once.
#[utoipa::path(post, path = "/instances", tag = "instances", request_body = Connection,
    responses((status = 201, body = Added), (status = 409, body = Problem)))]
pub async fn add_instance(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(connection): Body<Connection>,
) -> Result<(StatusCode, Json<Added>), Problem> {
    note.detail(connection.told());
    let instance_id = app.store.add_instance(&connection.checked(&app, None).await?).await?;
    app.instances_changed.notify_one();
    Ok((StatusCode::CREATED, Json(Added { instance_id })))
}

/// Change how to reach a server; its history stays.
#[utoipa::path(put, path = "/instances/{instance_id}", tag = "instances", params(("instance_id" = i32, Path)),
    request_body = Connection,
    responses((status = 204), (status = 409, body = Problem)))]
pub async fn change_instance(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(instance_id): Path<i32>,
    Body(connection): Body<Connection>,
) -> Result<StatusCode, Problem> {
    note.detail(connection.told());
    let instance = find(&app, instance_id).await?;
    if instance.engine != Engine::Postgres {
        let remedy = "It has no connection to change: its figures are simulated, or imported from bundles.";
        return Err(Problem::invalid(vec![FieldProblem::new("label", &instance.label, remedy)]));
    }
    let new = connection.checked(&app, Some(&instance)).await?;
    there_was(instance_id, app.store.change_instance(instance_id, &new).await?)?;
    app.instances_changed.notify_one();
    Ok(StatusCode::NO_CONTENT)
}

/// Try the connection of an instance as it would be changed, without changing it: where no password is given,
/// with the stored one.
#[utoipa::path(post, path = "/instances/{instance_id}/trial", tag = "instances", params(("instance_id" = i32, Path)),
    request_body = Connection,
    responses((status = 200, body = Trial)))]
pub async fn try_changed_connection(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(instance_id): Path<i32>,
    Body(connection): Body<Connection>,
) -> Answer<Trial> {
    note.detail(connection.told());
    let instance = find(&app, instance_id).await?;
    tried(&connection.address(&app, Some(&instance)).await?).await
}

/// Remove an instance with all that is known of it. It cannot be undone: export it first to keep its history.
#[utoipa::path(delete, path = "/instances/{instance_id}", tag = "instances", params(("instance_id" = i32, Path)),
    responses((status = 204)))]
pub async fn remove_instance(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(instance_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    note.detail(find(&app, instance_id).await?.label);
    there_was(instance_id, app.store.remove_instance(instance_id).await?)?;
    app.instances_changed.notify_one();
    Ok(StatusCode::NO_CONTENT)
}

/// A group of instances.
#[derive(Deserialize, ToSchema)]
pub struct Group {
    /// Its name, from 1 to 60 characters; left out for none.
    group: Option<String>,
}

/// Put an instance into a group, or into none.
#[utoipa::path(put, path = "/instances/{instance_id}/group", tag = "instances", params(("instance_id" = i32, Path)),
    request_body = Group,
    responses((status = 204)))]
pub async fn set_group(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Path(instance_id): Path<i32>,
    Body(Group { group }): Body<Group>,
) -> Result<StatusCode, Problem> {
    let group = group.as_deref().map(str::trim);
    if let Some(name) = group.filter(|name| !is_group(name)) {
        let remedy = format!("Give a name of 1 to {MOST_GROUP_LETTERS} characters, or leave it out for no group.");
        return Err(Problem::invalid(vec![FieldProblem::new("group", name, remedy)]));
    }
    find(&app, instance_id).await?;
    note.detail(group.unwrap_or("none"));
    there_was(instance_id, app.store.set_group(instance_id, group).await?)?;
    Ok(StatusCode::NO_CONTENT)
}

/// Try a connection without keeping anything. An obstacle is named with its remedy.
#[utoipa::path(post, path = "/instances/trial", tag = "instances", request_body = Connection,
    responses((status = 200, body = Trial)))]
pub async fn try_connection(
    State(app): State<App>,
    _: Administrator,
    note: AuditNote,
    Body(connection): Body<Connection>,
) -> Answer<Trial> {
    note.detail(connection.told());
    let address = connection.address(&app, None).await?;
    tried(&address).await
}

async fn tried(address: &Address) -> Answer<Trial> {
    let source = PostgresSource::connect(address).await.map_err(|problem| Problem::connection(&problem))?;
    let server = source.server().clone();
    source.close().await;
    Ok(Json(Trial { server_version: server.version, limits: limits(server.limits) }))
}

/// How far back the ruler may look.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct HistoryQuery {
    /// Only what lies this many hours back at most, from 1 to 9600.
    #[param(minimum = 1, maximum = 9600)]
    hours: Option<u32>,
}

/// The history kept of an instance, for the time ruler.
#[derive(Serialize, ToSchema)]
pub struct History {
    /// From the first cell to now; nothing while nothing was read.
    span: Option<Span>,
    /// Seconds of one cell.
    cell_seconds: i64,
    /// Load by cell; `null` where the server was not looked at.
    cells: Vec<Option<f64>>,
    /// What happened meanwhile.
    markers: Vec<MarkerFigures>,
}

/// The history kept of an instance in one strip, with markers.
#[utoipa::path(get, path = "/instances/{instance_id}/history", tag = "instances",
    params(("instance_id" = i32, Path), HistoryQuery),
    responses((status = 200, body = History)))]
pub async fn instance_history(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<HistoryQuery>,
) -> Answer<History> {
    if let Some(hours) = query.hours.filter(|hours| !(1..=MOST_HOURS).contains(hours)) {
        let remedy = format!("Give from 1 to {MOST_HOURS} hours.");
        return Err(Problem::invalid(vec![FieldProblem::new("hours", hours, remedy)]));
    }
    let instance = find(&app, instance_id).await?;
    let Some((first, last)) = app.store.retained(instance_id).await? else {
        return Ok(Json(History { span: None, cell_seconds: 1, cells: Vec::new(), markers: Vec::new() }));
    };
    let to = now().max(last.plus_seconds(1.0));
    let earliest = query.hours.map_or(first, |hours| to.plus_seconds(-3600.0 * f64::from(hours)));
    let whole = Window { from: first.max(earliest).min(to.plus_seconds(-60.0)), to };
    let Strip { start, cell_seconds, cells } = strip(&app, &instance, whole, RULER_CELLS).await?;
    let span = Window { from: start, to };
    let markers = app.store.markers(instance_id, span).await?;
    Ok(Json(History {
        span: Some(span.into()),
        cell_seconds,
        cells,
        markers: markers.into_iter().map(MarkerFigures::from).collect(),
    }))
}
