use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::findings::alarm::{Alarm, Handled, NotHandled};
use hurnix_core::findings::first_look::Page;
use hurnix_core::findings::health::compare_alarms;
use hurnix_store::{AlarmFilter, AlarmRow, Caller, Instance};
use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Body, Path, Query, SignedIn, Tuner};
use crate::api::base::figures::Id;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{given, moment};
use crate::api::base::word::{HappeningWord, HealthWord, PageNameWord, TroubleWord, Word};
use crate::api::diagnose::first_look::{ActionOffer, shown};
use crate::api::diagnose::statements::page;
use crate::api::people::actions::ActionAsked;
use crate::events::News;
use crate::maintenance::OpenWindows;
use crate::state::{App, now};

/// Characters of a comment.
const LONGEST_COMMENT: usize = 2_000;

/// Which alarms are asked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum AlarmState {
    /// Their trouble stands.
    Open,
    /// Their trouble is gone.
    Closed,
}

/// Which alarms are asked for, by name.
pub type AlarmStateWord = Word<AlarmState>;

/// Which alarms to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AlarmQuery {
    /// Open or closed; open when left out.
    #[param(inline)]
    state: Option<AlarmStateWord>,
    /// Only those of one instance.
    instance_id: Option<i32>,
    /// Page, from 1.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Alarms on a page, 200 at most.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

/// A page of alarms.
#[derive(Serialize, ToSchema)]
pub struct AlarmList {
    /// How many there are, on all pages.
    matching: i64,
    /// Open ones by how they ask for attention, then by time lost, then the newest first; closed ones the last closed
    /// first.
    alarms: Vec<AlarmFigures>,
}

/// An alarm.
#[derive(Serialize, ToSchema)]
pub struct AlarmFigures {
    /// Number.
    alarm_id: Id,
    /// Number of its instance.
    instance_id: i32,
    /// Label of its instance.
    instance: String,
    /// What it is about.
    trouble: TroubleWord,
    /// What that is called.
    title: &'static str,
    /// Of what; empty for the server as a whole.
    object: String,
    /// How urgent it is.
    verdict: HealthWord,
    /// How it asks for attention; nothing where it is closed, snoozed or silenced.
    asks: Option<HealthWord>,
    /// In one sentence.
    text: String,
    /// When the trouble began, as far as is known.
    began_at: DateTime<Utc>,
    /// When it was opened, or opened again.
    opened_at: DateTime<Utc>,
    /// When the trouble was last seen.
    seen_at: DateTime<Utc>,
    /// When it was closed; nothing while it is open.
    closed_at: Option<DateTime<Utc>>,
    /// Seconds lost to it in a second.
    lost_seconds_per_second: f64,
    /// Who has taken notice.
    acknowledged_by: Option<String>,
    /// Who is to see to it.
    assigned_to: Option<String>,
    /// Until when it is to be quiet; nothing where it is not.
    snoozed_until: Option<DateTime<Utc>>,
    /// Name of the maintenance window that silences it; nothing where none is open.
    silenced_by: Option<String>,
    /// What was seen together with it and comes from it.
    consequences: Vec<String>,
    /// What it rests on.
    facts: Vec<AlarmFact>,
    /// What to do about it.
    step: String,
    /// Statements to run on the server for that.
    statement: Option<String>,
    /// Where more is shown.
    page: Option<PageNameWord>,
    /// Number of the family or advice that is shown there.
    page_id: Option<Id>,
    /// What Hurnix itself can put in force for that.
    action: Option<ActionOffer>,
    /// What happened to it, in order of time.
    story: Vec<AlarmEntry>,
}

/// A piece of evidence of an alarm.
#[derive(Serialize, ToSchema)]
pub struct AlarmFact {
    /// What it is of.
    what: String,
    /// The figure, with its unit.
    value: String,
}

/// One entry of the story of an alarm.
#[derive(Serialize, ToSchema)]
pub struct AlarmEntry {
    /// When.
    at: DateTime<Utc>,
    /// What.
    what: HappeningWord,
    /// Who did it; nothing where Hurnix saw it.
    by: Option<String>,
    /// More about it.
    text: String,
}

impl AlarmFigures {
    fn new(row: AlarmRow, silenced_by: Option<&str>) -> AlarmFigures {
        let at = now();
        let AlarmRow { alarm_id, instance_id, label, alarm, .. } = row;
        let silenced_by = silenced_by.filter(|_| alarm.is_open());
        let asks = alarm.asks(at, silenced_by.is_some());
        let (verdict, began_at, is_snoozed) = (alarm.verdict(), alarm.began_at(), alarm.handling.is_snoozed(at));
        let Alarm { sign, consequences, opened_at, seen_at, closed_at, handling, story, .. } = alarm;
        let action = sign.action.as_ref().and_then(|action| {
            ActionAsked::for_action(action).map(|asked| ActionOffer { title: action.kind().title(), asked })
        });
        AlarmFigures {
            alarm_id: Id(alarm_id),
            instance_id,
            instance: label,
            trouble: Word(sign.trouble),
            title: sign.trouble.title(),
            object: sign.object,
            verdict: Word(verdict),
            asks: asks.map(Word),
            text: sign.text,
            began_at: moment(began_at),
            opened_at: moment(opened_at),
            seen_at: moment(seen_at),
            closed_at: closed_at.map(moment),
            lost_seconds_per_second: sign.lost_seconds_per_second,
            acknowledged_by: handling.acknowledged_by,
            assigned_to: handling.assigned_to,
            snoozed_until: handling.snoozed_until.filter(|_| is_snoozed).map(moment),
            silenced_by: silenced_by.map(str::to_owned),
            consequences: consequences.into_iter().map(|consequence| consequence.text).collect(),
            facts: sign.facts.into_iter().map(|fact| AlarmFact { what: fact.what, value: fact.value }).collect(),
            step: sign.step,
            statement: sign.statement,
            page: sign.page.map(|page| Word(page.into())),
            page_id: sign.page.and_then(|page: Page| shown(page)),
            action,
            story: story
                .into_iter()
                .map(|entry| AlarmEntry {
                    at: moment(entry.at),
                    what: Word(entry.what),
                    by: entry.by,
                    text: entry.text,
                })
                .collect(),
        }
    }
}

/// Alarms of the instances that one sees, or of one of them.
#[utoipa::path(get, path = "/alarms", tag = "watch", params(AlarmQuery), responses((status = 200, body = AlarmList)))]
pub async fn list_alarms(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Query(query): Query<AlarmQuery>,
) -> Answer<AlarmList> {
    let (page, page_size) = page(query.page, query.page_size)?;
    let (offset, limit) = (i64::from(page - 1) * i64::from(page_size), i64::from(page_size));
    if query.state.is_some_and(|state| state.0 == AlarmState::Closed) {
        let groups = (!caller.groups.is_empty()).then(|| caller.groups.clone());
        let filter = AlarmFilter { instance_id: query.instance_id, groups, offset, limit };
        let (rows, matching) = app.store.closed_alarms(&filter).await?;
        let alarms = rows.into_iter().map(|row| AlarmFigures::new(row, None)).collect();
        return Ok(Json(AlarmList { matching, alarms }));
    }
    let mut instances = app.store.instances().await?;
    instances.retain(|instance| {
        caller.sees(instance.group.as_deref()) && query.instance_id.is_none_or(|id| id == instance.instance_id)
    });
    let ids: Vec<i32> = instances.iter().map(|instance| instance.instance_id).collect();
    let windows = OpenWindows::now(&app).await?;
    let mut rows: Vec<AlarmRow> = app.store.open_alarms(&ids).await?.into_values().flatten().collect();
    rows.sort_by(|a, b| compare_alarms(&a.alarm, &b.alarm, now()).then(a.alarm_id.cmp(&b.alarm_id)));
    let matching = rows.len() as i64;
    let window_of = |id: i32| instances.iter().find(|one| one.instance_id == id).and_then(|one| windows.of(one));
    let alarms = rows
        .into_iter()
        .skip(offset as usize)
        .take(limit as usize)
        .map(|row| {
            let silenced_by = window_of(row.instance_id);
            AlarmFigures::new(row, silenced_by)
        })
        .collect();
    Ok(Json(AlarmList { matching, alarms }))
}

/// One alarm, with its evidence and its story.
#[utoipa::path(get, path = "/alarms/{alarm_id}", tag = "watch", params(("alarm_id" = String, Path)),
    responses((status = 200, body = AlarmFigures)))]
pub async fn one_alarm(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Path(alarm_id): Path<i64>,
) -> Answer<AlarmFigures> {
    let row = find_alarm(&app, &caller, alarm_id).await?;
    told(&app, row).await
}

/// Whether somebody has taken notice.
#[derive(Deserialize, ToSchema)]
pub struct Acknowledgement {
    /// Whether.
    acknowledged: bool,
}

/// Take notice of an alarm, or no longer: one of which somebody has taken notice is worth a look at most, until it is
/// worse.
#[utoipa::path(put, path = "/alarms/{alarm_id}/acknowledgement", tag = "watch", params(("alarm_id" = String, Path)),
    request_body = Acknowledgement, responses((status = 200, body = AlarmFigures)))]
pub async fn acknowledge_alarm(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(alarm_id): Path<i64>,
    Body(given): Body<Acknowledgement>,
) -> Answer<AlarmFigures> {
    handle(&app, &caller, &note, alarm_id, Handled::Acknowledge(given.acknowledged), "acknowledged").await
}

/// Who is to see to an alarm.
#[derive(Deserialize, ToSchema)]
pub struct Assignment {
    /// Name of an account; nobody when left out.
    assigned_to: Option<String>,
}

/// Say who is to see to an alarm.
#[utoipa::path(put, path = "/alarms/{alarm_id}/assignment", tag = "watch", params(("alarm_id" = String, Path)),
    request_body = Assignment, responses((status = 200, body = AlarmFigures)))]
pub async fn assign_alarm(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(alarm_id): Path<i64>,
    Body(given): Body<Assignment>,
) -> Answer<AlarmFigures> {
    let to = given.assigned_to.map(|name| name.trim().to_owned()).filter(|name| !name.is_empty());
    if let Some(name) = &to
        && !app.store.accounts().await?.iter().any(|(account, _)| account.name == *name)
    {
        let remedy = "There is no account of this name: give one of those under Accounts, or leave it out.";
        return Err(Problem::invalid(vec![FieldProblem::new("assigned_to", name, remedy)]));
    }
    handle(&app, &caller, &note, alarm_id, Handled::Assign(to), "assigned_to").await
}

/// What somebody wrote.
#[derive(Deserialize, ToSchema)]
pub struct Comment {
    /// The text.
    #[schema(max_length = 2000)]
    comment: String,
}

/// Write something to the story of an alarm.
#[utoipa::path(post, path = "/alarms/{alarm_id}/comments", tag = "watch", params(("alarm_id" = String, Path)),
    request_body = Comment, responses((status = 200, body = AlarmFigures)))]
pub async fn comment_alarm(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(alarm_id): Path<i64>,
    Body(given): Body<Comment>,
) -> Answer<AlarmFigures> {
    let comment = given.comment.trim().to_owned();
    if comment.is_empty() || comment.chars().count() > LONGEST_COMMENT {
        let remedy = format!("Give 1 to {LONGEST_COMMENT} characters.");
        return Err(Problem::invalid(vec![FieldProblem::new("comment", &given.comment, remedy)]));
    }
    handle(&app, &caller, &note, alarm_id, Handled::Comment(comment), "comment").await
}

/// Until when an alarm is to be quiet.
#[derive(Deserialize, ToSchema)]
pub struct Snooze {
    /// Until when; no longer when left out.
    snoozed_until: Option<DateTime<Utc>>,
}

/// Let an alarm be quiet until a moment: it asks for no attention until then, or until it is worse.
#[utoipa::path(put, path = "/alarms/{alarm_id}/snooze", tag = "watch", params(("alarm_id" = String, Path)),
    request_body = Snooze, responses((status = 200, body = AlarmFigures)))]
pub async fn snooze_alarm(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(alarm_id): Path<i64>,
    Body(asked): Body<Snooze>,
) -> Answer<AlarmFigures> {
    let until = asked.snoozed_until.map(|until| given("snoozed_until", until)).transpose();
    let until = until.map_err(|fault| Problem::invalid(vec![fault]))?;
    handle(&app, &caller, &note, alarm_id, Handled::Snooze(until), "snoozed_until").await
}

/// An alarm of an instance that the caller sees.
pub(crate) async fn find_alarm(app: &App, caller: &Caller, alarm_id: i64) -> Result<AlarmRow, Problem> {
    let row = app.store.one_alarm(alarm_id).await?.filter(|row| caller.sees(row.group.as_deref()));
    row.ok_or_else(|| Problem::not_found("alarm_id", "alarm", alarm_id))
}

async fn told(app: &App, row: AlarmRow) -> Answer<AlarmFigures> {
    let instance: Option<Instance> = app.store.instance(row.instance_id).await?;
    let windows = OpenWindows::now(app).await?;
    Ok(Json(AlarmFigures::new(row, instance.as_ref().and_then(|instance| windows.of(instance)))))
}

async fn handle(
    app: &App,
    caller: &Caller,
    note: &AuditNote,
    alarm_id: i64,
    handled: Handled,
    field: &str,
) -> Answer<AlarmFigures> {
    let row = find_alarm(app, caller, alarm_id).await?;
    note.detail(format!("{}: {}", row.label, row.alarm.sign.text));
    let refused = |fault: NotHandled| {
        let value = match &handled {
            Handled::Snooze(Some(until)) => moment(*until).to_rfc3339(),
            _ => String::new(),
        };
        Problem::invalid(vec![FieldProblem::new(field, value, format!("It cannot be done: {fault}."))])
    };
    match app.store.handle_alarm(alarm_id, handled.clone(), &caller.name, now()).await? {
        None => return Err(Problem::not_found("alarm_id", "alarm", alarm_id)),
        Some(outcome) => outcome.map_err(refused)?,
    }
    app.events.tell(row.instance_id, News::Alarms);
    told(app, find_alarm(app, caller, alarm_id).await?).await
}
