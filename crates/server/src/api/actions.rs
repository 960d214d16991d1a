use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::action::{Action, MayNotApprove, Person, SessionMeant, may_approve};
use hurnix_core::activity::PREPARED;
use hurnix_core::role::Role;
use hurnix_store::{ActionRow, Caller, Engine, Instance, Means};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use super::extract::{Administrator, Body, Path, Query, SignedIn};
use super::figures::Id;
use super::instances::find;
use super::problem::{Answer, FieldProblem, Problem};
use super::recorder::AuditNote;
use super::statements::page;
use super::window::{given, moment};
use crate::actions::{carry_out, put_in_force, statement};
use crate::state::{App, now};

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
    /// `cancel_statement`, `end_session` or `lift_second_person`.
    kind: &'static str,
    /// What happens, and what is lost by it.
    told: String,
    /// Exactly what is sent to the watched server.
    statement: Option<String>,
    /// Why.
    reason: String,
    /// `proposed`, `void` (proposed too long ago), `refused`, `withdrawn`, `approved` (not carried out yet),
    /// `done` or `failed`.
    state: String,
    /// Who wanted it.
    proposed_by: String,
    /// When.
    proposed_at: DateTime<Utc>,
    /// Who approved, refused or withdrew it.
    decided_by: Option<String>,
    /// When.
    decided_at: Option<DateTime<Utc>>,
    /// What came of it.
    outcome: Option<String>,
    /// Why the one who asks may not approve it; nothing where they may, and where nothing is to be approved.
    may_not_approve: Option<String>,
}

impl ActionFigures {
    fn new(row: ActionRow, caller: &Caller) -> Self {
        let may = may_approve(&row.proposed_by, row.proposed_at, person(caller), now());
        let is_open = row.state == "proposed";
        let is_void = is_open && may == Err(MayNotApprove::Void);
        ActionFigures {
            action_id: Id(row.action_id),
            instance: row.instance,
            kind: row.action.kind(),
            told: row.action.told(),
            statement: row.statement,
            reason: row.reason,
            state: if is_void { "void".into() } else { row.state },
            proposed_by: row.proposed_by,
            proposed_at: moment(row.proposed_at),
            decided_by: row.decided_by,
            decided_at: row.decided_at.map(moment),
            outcome: row.outcome,
            may_not_approve: may.err().filter(|_| is_open).map(|why| why.to_string()),
        }
    }
}

fn person(caller: &Caller) -> Person<'_> {
    Person { account: &caller.name, role: caller.role, in_person: matches!(caller.means, Means::Session { .. }) }
}

/// What to do to a session.
#[derive(Deserialize, ToSchema)]
pub struct SessionAction {
    /// `cancel_statement` or `end_session`.
    kind: String,
    /// Process number of the session.
    process: i32,
    /// When its process began, as the list of sessions tells.
    started_at: DateTime<Utc>,
    /// Why, in a line or two; not needed for a preview.
    #[serde(default)]
    reason: String,
}

/// What an action would do.
#[derive(Serialize, ToSchema)]
pub struct ActionPreview {
    /// What happens, and what is lost by it.
    told: String,
    /// Exactly what is sent to the watched server.
    statement: Option<String>,
    /// Whether a second person must approve it first.
    waits: bool,
}

/// What cancelling a statement or ending a session would do, without doing it.
#[utoipa::path(post, path = "/instances/{instance_id}/actions/preview", tag = "actions", params(("instance_id" = i32, Path)),
    request_body = SessionAction,
    responses((status = 200, body = ActionPreview)))]
pub async fn preview_action(
    State(app): State<App>,
    _: Administrator,
    Path(instance_id): Path<i32>,
    Body(asked): Body<SessionAction>,
) -> Answer<ActionPreview> {
    let instance = find(&app, instance_id).await?;
    let mut errors = Vec::new();
    let action = meant(&app, &instance, &asked, &mut errors).await?;
    let Some(action) = action.filter(|_| errors.is_empty()) else { return Err(Problem::invalid(errors)) };
    let waits = app.store.second_person().await?;
    Ok(Json(ActionPreview { told: action.told(), statement: statement(&action), waits }))
}

/// Cancel the statement that a session runs, or end the session. Where a second person must approve, this
/// proposes it.
#[utoipa::path(post, path = "/instances/{instance_id}/actions", tag = "actions", params(("instance_id" = i32, Path)),
    request_body = SessionAction,
    responses((status = 201, body = ActionFigures)))]
pub async fn act_on_session(
    State(app): State<App>,
    Administrator(caller): Administrator,
    note: AuditNote,
    Path(instance_id): Path<i32>,
    Body(asked): Body<SessionAction>,
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

/// The action that was asked for, on a session that was seen lately; nothing where there is none, with the faults.
async fn meant(
    app: &App,
    instance: &Instance,
    asked: &SessionAction,
    errors: &mut Vec<FieldProblem>,
) -> Result<Option<Action>, Problem> {
    if instance.engine != Engine::Postgres {
        let remedy = "Its figures come without a connection: nothing can be done to its sessions.";
        errors.push(FieldProblem::new("instance_id", instance.instance_id, remedy));
    }
    let started_at = match given("started_at", asked.started_at) {
        Ok(started_at) => started_at,
        Err(fault) => {
            errors.push(fault);
            return Ok(None);
        }
    };
    if asked.process == PREPARED {
        let remedy =
            "A prepared transaction has no session: end it by its name, with ROLLBACK PREPARED or COMMIT PREPARED.";
        errors.push(FieldProblem::new("process", asked.process, remedy));
        return Ok(None);
    }
    let seen = app.store.newest_look(instance.instance_id, now().plus_seconds(-SEEN_SECONDS)).await?;
    let Some(seen) =
        seen.into_iter().find(|seen| seen.process == asked.process && seen.process_started_at == started_at)
    else {
        let remedy = "No session with this number and start was busy when last looked at: look at the list anew.";
        errors.push(FieldProblem::new("process", asked.process, remedy));
        return Ok(None);
    };
    let session = SessionMeant {
        process: seen.process,
        started_at: seen.process_started_at,
        account: seen.account,
        program: seen.program,
    };
    match asked.kind.as_str() {
        "cancel_statement" => Ok(Some(Action::CancelStatement(session))),
        "end_session" => Ok(Some(Action::EndSession(session))),
        other => {
            errors.push(FieldProblem::new("kind", other, "Give cancel_statement or end_session."));
            Ok(None)
        }
    }
}

fn checked_reason<'a>(reason: &'a str, errors: &mut Vec<FieldProblem>) -> &'a str {
    let trimmed = reason.trim();
    if trimmed.is_empty() || trimmed.chars().count() > LONGEST_REASON {
        let remedy = format!("Say why, in 1 to {LONGEST_REASON} characters: it is kept with the action.");
        errors.push(FieldProblem::new("reason", reason, remedy));
    }
    trimmed
}

/// Which actions to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ActionQuery {
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
    /// Those on this page: what waits for a decision first, then the newest.
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
    let (rows, matching) = app.store.actions(i64::from(page - 1) * i64::from(page_size), i64::from(page_size)).await?;
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
    let row = decided(&app, &caller, row, "approved").await?;
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
    let state = if row.proposed_by == caller.name { "withdrawn" } else { "refused" };
    Ok(Json(ActionFigures::new(decided(&app, &caller, row, state).await?, &caller)))
}

/// A proposal that waits for a decision. Administrators see all instances.
async fn open_action(app: &App, action_id: i64) -> Result<ActionRow, Problem> {
    let row = app.store.action(action_id).await?.ok_or_else(|| Problem::not_found("action_id", "action", action_id))?;
    if row.state == "proposed" { Ok(row) } else { Err(already(action_id, &row.state)) }
}

async fn decided(app: &App, caller: &Caller, row: ActionRow, state: &str) -> Result<ActionRow, Problem> {
    if app.store.decide_action(row.action_id, state, &caller.name).await? {
        Ok(ActionRow { state: state.into(), decided_by: Some(caller.name.clone()), decided_at: Some(now()), ..row })
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
