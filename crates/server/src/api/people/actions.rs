use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use hurnix_core::access::role::Role;
use hurnix_core::changes::action::{
    About, Action, ActionState, MayNotApprove, Person, SessionMeant, TableMeant, Target, may_approve,
};
use hurnix_core::instance::engine::Engine;
use hurnix_core::readings::activity::PREPARED;
use hurnix_store::{ActionOrder, ActionRow, Caller, Instance, Means};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::actions::{carry_out, put_in_force, statement};
use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Administrator, Body, Path, Query, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{given, moment};
use crate::api::base::word::{ActionKindWord, ActionStateWord, Word};
use crate::api::diagnose::statements::page;
use crate::state::{App, last_seconds, now};

/// Longest reason, in characters.
const LONGEST_REASON: usize = 500;
/// A session must have been seen within so many seconds to be meant.
const SEEN_SECONDS: f64 = 120.0;

/// Something that was put in force or proposed.
#[derive(Serialize, ToSchema)]
pub struct ActionFigures {
    /// Number.
    action_id: Id,
    /// Label of the instance that it concerns; nothing for what concerns Hurnix itself.
    instance: Option<String>,
    /// Kind of action.
    kind: ActionKindWord,
    /// What that is called.
    title: &'static str,
    /// What happens, and what is lost by it.
    told: String,
    /// Exactly what is sent to the watched server.
    statement: Option<String>,
    /// Why.
    reason: String,
    /// How far it has come.
    state: ActionStateWord,
    /// Who wanted it.
    proposed_by: String,
    /// When.
    proposed_at: DateTime<Utc>,
    /// Who approved, refused or withdrew it.
    decided_by: Option<String>,
    /// When.
    decided_at: Option<DateTime<Utc>>,
    /// When it was begun.
    started_at: Option<DateTime<Utc>>,
    /// When it ended.
    ended_at: Option<DateTime<Utc>>,
    /// How much of it is done, from 0 to 1, where the server tells.
    share: Option<f64>,
    /// What the server does just now.
    phase: Option<String>,
    /// Who wants it to be stopped.
    stop_asked_by: Option<String>,
    /// What came of it.
    outcome: Option<String>,
    /// Why the one who asks may not approve it; nothing where they may, and where nothing is to be approved.
    may_not_approve: Option<String>,
}

impl ActionFigures {
    fn new(row: ActionRow, caller: &Caller) -> Self {
        let may = may_approve(&row.proposed_by, row.proposed_at, person(caller), now());
        let is_open = row.state == ActionState::Proposed;
        ActionFigures {
            action_id: Id(row.action_id),
            instance: row.instance,
            kind: Word(row.action.kind()),
            title: row.action.kind().title(),
            told: row.action.told(),
            state: Word(row.state.by(row.proposed_at, row.alive_at, now())),
            statement: row.statement,
            reason: row.reason,
            proposed_by: row.proposed_by,
            proposed_at: moment(row.proposed_at),
            decided_by: row.decided_by,
            decided_at: row.decided_at.map(moment),
            started_at: row.started_at.map(moment),
            ended_at: row.ended_at.map(moment),
            share: row.share,
            phase: row.phase,
            stop_asked_by: row.stop_asked_by,
            outcome: row.outcome,
            may_not_approve: may.err().filter(|_| is_open).map(|why| why.to_string()),
        }
    }
}

fn person(caller: &Caller) -> Person<'_> {
    Person { account: &caller.name, role: caller.role, in_person: matches!(caller.means, Means::Session { .. }) }
}

/// What to put in force: as it is asked for, and as it is offered where something was found.
#[derive(Serialize, Deserialize, ToSchema)]
pub struct ActionAsked {
    /// Kind of action.
    kind: ActionKindWord,
    /// For a session: its process number.
    process: Option<i32>,
    /// For a session: when its process began, as the list of sessions tells.
    started_at: Option<DateTime<Utc>>,
    /// For a table: its database.
    database: Option<String>,
    /// For a table: its schema.
    schema: Option<String>,
    /// For a table: its name.
    table: Option<String>,
    /// Why, in a line or two; not needed for a preview.
    #[serde(default)]
    reason: String,
}

impl ActionAsked {
    /// What to ask for to have an action put in force on a watched server; nothing where it concerns Hurnix itself.
    pub fn for_action(action: &Action) -> Option<ActionAsked> {
        let kind = Word(action.kind());
        let reason = String::new();
        let (process, started_at, database, schema, table) = (None, None, None, None, None);
        let blank = ActionAsked { kind, process, started_at, database, schema, table, reason };
        match action.target() {
            Target::Session(SessionMeant { process, started_at, .. }) => {
                Some(ActionAsked { process: Some(process), started_at: Some(moment(started_at)), ..blank })
            }
            Target::Table(TableMeant { database, schema, table }) => {
                Some(ActionAsked { database: Some(database), schema: Some(schema), table: Some(table), ..blank })
            }
            Target::Hurnix => None,
        }
    }
}

/// What an action would do.
#[derive(Serialize, ToSchema)]
pub struct ActionPreview {
    /// What it is called.
    title: &'static str,
    /// What happens, and what is lost by it.
    told: String,
    /// How it is undone; nothing where it cannot be.
    undo: Option<&'static str>,
    /// Whether it may take long: then it tells how far it is, and can be stopped.
    may_take_long: bool,
    /// Exactly what is sent to the watched server.
    statement: Option<String>,
    /// Whether a second person must approve it first.
    waits: bool,
}

/// What an action on a watched server would do, without doing it.
#[utoipa::path(post, path = "/instances/{instance_id}/actions/preview", tag = "actions", params(("instance_id" = i32, Path)),
    request_body = ActionAsked,
    responses((status = 200, body = ActionPreview)))]
pub async fn preview_action(
    State(app): State<App>,
    _: Administrator,
    Path(instance_id): Path<i32>,
    Body(asked): Body<ActionAsked>,
) -> Answer<ActionPreview> {
    let instance = find(&app, instance_id).await?;
    let mut errors = Vec::new();
    let action = meant(&app, &instance, &asked, &mut errors).await?;
    let Some(action) = action.filter(|_| errors.is_empty()) else { return Err(Problem::invalid(errors)) };
    let waits = app.store.second_person().await?;
    let kind = action.kind();
    Ok(Json(ActionPreview {
        title: kind.title(),
        told: action.told(),
        undo: kind.undo(),
        may_take_long: kind.may_take_long(),
        statement: statement(&action),
        waits,
    }))
}

/// Put something in force on a watched server. Where a second person must approve, this proposes it. What may take
/// long is still running when this answers.
#[utoipa::path(post, path = "/instances/{instance_id}/actions", tag = "actions", params(("instance_id" = i32, Path)),
    request_body = ActionAsked,
    responses((status = 201, body = ActionFigures)))]
pub async fn act_on_server(
    State(app): State<App>,
    Administrator(caller): Administrator,
    note: AuditNote,
    Path(instance_id): Path<i32>,
    Body(asked): Body<ActionAsked>,
) -> Result<(StatusCode, Json<ActionFigures>), Problem> {
    let instance = find(&app, instance_id).await?;
    let mut errors = Vec::new();
    let reason = checked_reason(&asked.reason, &mut errors);
    let action = meant(&app, &instance, &asked, &mut errors).await?;
    let Some(action) = action.filter(|_| errors.is_empty()) else { return Err(Problem::invalid(errors)) };
    note.detail(format!("{}: {reason}", action.told()));
    let row = put_in_force(&app, Some(&instance), action, reason, &caller.name).await?;
    Ok((StatusCode::CREATED, Json(ActionFigures::new(row, &caller))))
}

/// The action that was asked for, on something that was seen lately; nothing where there is none, with the faults.
async fn meant(
    app: &App,
    instance: &Instance,
    asked: &ActionAsked,
    errors: &mut Vec<FieldProblem>,
) -> Result<Option<Action>, Problem> {
    if instance.engine != Engine::Postgres {
        let remedy = "Its figures come without a connection: nothing can be put in force on it.";
        errors.push(FieldProblem::new("instance_id", instance.instance_id, remedy));
    }
    let kind = asked.kind.0;
    let target = match kind.about() {
        About::Session => session_meant(app, instance, asked, errors).await?.map(Target::Session),
        About::Table => table_meant(app, instance, asked, errors).await?.map(Target::Table),
        About::Hurnix => {
            let remedy = "It concerns Hurnix itself: set the rule under Actions and approvals.";
            errors.push(FieldProblem::new("kind", kind.name(), remedy));
            None
        }
    };
    Ok(target.and_then(|target| kind.on(target)))
}

/// What must be given, or the fault that it was not.
fn needed<T: Clone>(field: &str, of: &str, value: Option<&T>, errors: &mut Vec<FieldProblem>) -> Option<T> {
    if value.is_none() {
        errors.push(FieldProblem::secret(field, format!("It is missing: say which {of} is meant.")));
    }
    value.cloned()
}

async fn session_meant(
    app: &App,
    instance: &Instance,
    asked: &ActionAsked,
    errors: &mut Vec<FieldProblem>,
) -> Result<Option<SessionMeant>, Problem> {
    let process = needed("process", "session", asked.process.as_ref(), errors);
    let started_at = needed("started_at", "session", asked.started_at.as_ref(), errors);
    let (Some(process), Some(started_at)) = (process, started_at) else { return Ok(None) };
    let started_at = match given("started_at", started_at) {
        Ok(started_at) => started_at,
        Err(fault) => {
            errors.push(fault);
            return Ok(None);
        }
    };
    if process == PREPARED {
        let remedy =
            "A prepared transaction has no session: end it by its name, with ROLLBACK PREPARED or COMMIT PREPARED.";
        errors.push(FieldProblem::new("process", process, remedy));
        return Ok(None);
    }
    let seen = app.store.newest_look(instance.instance_id, last_seconds(SEEN_SECONDS)).await?;
    let found = seen.into_iter().find(|seen| seen.process == process && seen.process_started_at == started_at);
    if found.is_none() {
        let remedy = "No session with this number and start was busy when last looked at: look at the list anew.";
        errors.push(FieldProblem::new("process", process, remedy));
    }
    Ok(found.map(|seen| SessionMeant {
        process: seen.process,
        started_at: seen.process_started_at,
        account: seen.account,
        program: seen.program,
    }))
}

async fn table_meant(
    app: &App,
    instance: &Instance,
    asked: &ActionAsked,
    errors: &mut Vec<FieldProblem>,
) -> Result<Option<TableMeant>, Problem> {
    let database = needed("database", "table", asked.database.as_ref(), errors);
    let schema = needed("schema", "table", asked.schema.as_ref(), errors);
    let table = needed("table", "table", asked.table.as_ref(), errors);
    let (Some(database), Some(schema), Some(table)) = (database, schema, table) else { return Ok(None) };
    let catalogs = app.store.catalogs(instance.instance_id).await?;
    let Some(catalog) = catalogs.iter().find(|catalog| catalog.database == database) else {
        let remedy = "The tables of no such database are read: give one that is, or have its tables read first.";
        errors.push(FieldProblem::new("database", database, remedy));
        return Ok(None);
    };
    if !catalog.tables.iter().any(|known| known.schema == schema && known.name == table) {
        let remedy = format!("No table {schema}.{table} was there when last looked at.");
        errors.push(FieldProblem::new("table", table, remedy));
        return Ok(None);
    }
    Ok(Some(TableMeant { database, schema, table }))
}

fn checked_reason<'a>(reason: &'a str, errors: &mut Vec<FieldProblem>) -> &'a str {
    let trimmed = reason.trim();
    if trimmed.is_empty() || trimmed.chars().count() > LONGEST_REASON {
        let remedy = format!("Say why, in 1 to {LONGEST_REASON} characters: it is kept with the action.");
        errors.push(FieldProblem::new("reason", reason, remedy));
    }
    trimmed
}

/// What to sort actions by.
pub type ActionOrderWord = Word<ActionOrder>;

/// Which actions to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ActionQuery {
    /// What to sort by; what waits for a decision first, then the newest, when left out.
    sort: Option<ActionOrderWord>,
    /// Smallest (or oldest) first.
    ascending: Option<bool>,
    /// Page, from 1.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Actions on a page, 200 at most.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

/// A page of actions.
#[derive(Serialize, ToSchema)]
pub struct ActionPage {
    /// Actions in all.
    matching: i64,
    /// Those on this page.
    actions: Vec<ActionFigures>,
}

/// What was put in force or proposed.
#[utoipa::path(get, path = "/actions", tag = "actions", params(ActionQuery),
    responses((status = 200, body = ActionPage)))]
pub async fn list_actions(
    State(app): State<App>,
    Administrator(caller): Administrator,
    Query(query): Query<ActionQuery>,
) -> Answer<ActionPage> {
    let (page, page_size) = page(query.page, query.page_size)?;
    let (offset, limit) = (i64::from(page - 1) * i64::from(page_size), i64::from(page_size));
    let order = query.sort.map(|sort| sort.0);
    let (rows, matching) = app.store.actions(order, query.ascending.unwrap_or(false), offset, limit).await?;
    let actions = rows.into_iter().map(|row| ActionFigures::new(row, &caller)).collect();
    Ok(Json(ActionPage { matching, actions }))
}

/// Approve what somebody else proposed, and carry it out.
#[utoipa::path(post, path = "/actions/{action_id}/approval", tag = "actions", params(("action_id" = String, Path)),
    responses((status = 200, body = ActionFigures), (status = 409, body = Problem)))]
pub async fn approve_action(
    State(app): State<App>,
    Administrator(caller): Administrator,
    note: AuditNote,
    Path(action_id): Path<i64>,
) -> Answer<ActionFigures> {
    let row = open_action(&app, action_id).await?;
    note.detail(format!("{} of {}: {}", row.action.told(), row.proposed_by, row.reason));
    may_approve(&row.proposed_by, row.proposed_at, person(&caller), now()).map_err(|why| match why {
        MayNotApprove::Void => Problem::conflict(not_approved(action_id, why)),
        _ => Problem::forbidden(not_approved(action_id, why)),
    })?;
    let row = decided(&app, &caller, row, ActionState::Approved).await?;
    Ok(Json(ActionFigures::new(carry_out(&app, row).await?, &caller)))
}

/// Refuse what somebody else proposed, or take back what one proposed.
#[utoipa::path(delete, path = "/actions/{action_id}", tag = "actions", params(("action_id" = String, Path)),
    responses((status = 200, body = ActionFigures), (status = 409, body = Problem)))]
pub async fn refuse_action(
    State(app): State<App>,
    Administrator(caller): Administrator,
    note: AuditNote,
    Path(action_id): Path<i64>,
) -> Answer<ActionFigures> {
    let row = open_action(&app, action_id).await?;
    note.detail(format!("{} of {}", row.action.told(), row.proposed_by));
    let state = if row.proposed_by == caller.name { ActionState::Withdrawn } else { ActionState::Refused };
    Ok(Json(ActionFigures::new(decided(&app, &caller, row, state).await?, &caller)))
}

/// One action, as it stands: how far it is while it runs, and what came of it.
#[utoipa::path(get, path = "/actions/{action_id}", tag = "actions", params(("action_id" = String, Path)),
    responses((status = 200, body = ActionFigures)))]
pub async fn one_action(
    State(app): State<App>,
    Administrator(caller): Administrator,
    Path(action_id): Path<i64>,
) -> Answer<ActionFigures> {
    Ok(Json(ActionFigures::new(find_action(&app, action_id).await?, &caller)))
}

/// Stop an action that runs. It ends soon after this has answered.
#[utoipa::path(post, path = "/actions/{action_id}/stop", tag = "actions", params(("action_id" = String, Path)),
    responses((status = 200, body = ActionFigures), (status = 409, body = Problem)))]
pub async fn stop_action(
    State(app): State<App>,
    Administrator(caller): Administrator,
    note: AuditNote,
    Path(action_id): Path<i64>,
) -> Answer<ActionFigures> {
    let row = find_action(&app, action_id).await?;
    note.detail(format!("{} of {}", row.action.told(), row.proposed_by));
    if !app.store.ask_to_stop(action_id, &caller.name).await? {
        return Err(already(action_id, row.state.name()));
    }
    Ok(Json(ActionFigures::new(find_action(&app, action_id).await?, &caller)))
}

async fn find_action(app: &App, action_id: i64) -> Result<ActionRow, Problem> {
    app.store.action(action_id).await?.ok_or_else(|| Problem::not_found("action_id", "action", action_id))
}

/// A proposal that waits for a decision. Administrators see all instances.
async fn open_action(app: &App, action_id: i64) -> Result<ActionRow, Problem> {
    let row = find_action(app, action_id).await?;
    if row.state == ActionState::Proposed { Ok(row) } else { Err(already(action_id, row.state.name())) }
}

async fn decided(app: &App, caller: &Caller, row: ActionRow, state: ActionState) -> Result<ActionRow, Problem> {
    if app.store.decide_action(row.action_id, state, &caller.name).await? {
        Ok(ActionRow { state, decided_by: Some(caller.name.clone()), decided_at: Some(now()), ..row })
    } else {
        Err(already(row.action_id, "decided"))
    }
}

fn not_approved(action_id: i64, why: MayNotApprove) -> FieldProblem {
    FieldProblem::new("action_id", action_id, format!("This may not be approved: {why}."))
}

fn already(action_id: i64, state: &str) -> Problem {
    let remedy = format!("It is {state} already: look at the list anew.");
    Problem::conflict(FieldProblem::new("action_id", action_id, remedy))
}

/// Rules that all keep to.
#[derive(Serialize, ToSchema)]
pub struct HouseRules {
    /// Whether whatever is put in force needs the approval of a second person.
    second_person: bool,
    /// What was proposed by the change: lifting the rule must be approved by a second person, too.
    proposed: Option<ActionFigures>,
}

/// The rules that all keep to.
#[utoipa::path(get, path = "/house-rules", tag = "actions", responses((status = 200, body = HouseRules)))]
pub async fn house_rules(State(app): State<App>, _: SignedIn) -> Answer<HouseRules> {
    Ok(Json(HouseRules { second_person: app.store.second_person().await?, proposed: None }))
}

/// What the rules are to be.
#[derive(Deserialize, ToSchema)]
pub struct NewHouseRules {
    /// Whether whatever is put in force is to need the approval of a second person.
    second_person: bool,
    /// Why.
    reason: String,
}

/// Set the rule that a second person must approve whatever is put in force, or propose to lift it.
#[utoipa::path(put, path = "/house-rules", tag = "actions", request_body = NewHouseRules,
    responses((status = 200, body = HouseRules)))]
pub async fn set_house_rules(
    State(app): State<App>,
    Administrator(caller): Administrator,
    note: AuditNote,
    Body(new): Body<NewHouseRules>,
) -> Answer<HouseRules> {
    let mut errors = Vec::new();
    let reason = checked_reason(&new.reason, &mut errors);
    let is_on = app.store.second_person().await?;
    if new.second_person && !is_on {
        let accounts = app.store.accounts().await?;
        let ready = accounts.iter().filter(|(account, _)| account.role == Role::Administrator && !account.one_time);
        if ready.count() < 2 {
            let remedy = "Nobody else could approve: make a second administrator first, who sets a password.";
            errors.push(FieldProblem::new("second_person", true, remedy));
        }
    }
    if !errors.is_empty() {
        return Err(Problem::invalid(errors));
    }
    note.detail(format!("second person {}: {reason}", if new.second_person { "on" } else { "off" }));
    let proposed = match (is_on, new.second_person) {
        (false, true) => {
            app.store.set_second_person(true).await?;
            None
        }
        (true, false) => Some(put_in_force(&app, None, Action::LiftSecondPerson, reason, &caller.name).await?),
        _ => None,
    };
    Ok(Json(HouseRules {
        second_person: app.store.second_person().await?,
        proposed: proposed.map(|row| ActionFigures::new(row, &caller)),
    }))
}
