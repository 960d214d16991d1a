//! Reports that are made by themselves each day, week or month.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use chrono::{DateTime, Utc};
use hurnix_core::{Named, Timestamp};
use hurnix_store::{Caller, ReportSchedule};
use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::clock::{DAYS, minute_of_day, time_of_day};
use crate::api::base::extract::{Body, Path, SignedIn, Tuner};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::moment;
use crate::api::base::word::Word;
use crate::api::diagnose::kept_reports::Meant;
use crate::api::diagnose::reports::{ReportKindWord, sections};
use crate::report::ReportKind;
use crate::report::cadence::Every;
use crate::report::scheduled::cadence;
use crate::state::App;
use crate::zone::is_time_zone;

/// How often a report is made.
pub type EveryWord = Word<Every>;

/// Most reports of a schedule that are kept.
const MOST_KEPT: u32 = 1_000;

/// What a schedule is set to.
#[derive(Clone, Serialize, Deserialize, ToSchema)]
pub struct ScheduleSet {
    /// Kind of report.
    kind: ReportKindWord,
    /// Number of the instance that it is of; left out where it is of many.
    instance_id: Option<i32>,
    /// Group whose instances it is of; of all when left out.
    group: Option<String>,
    /// Sections, with commas between them; all of the kind when left out.
    sections: Option<String>,
    /// How often.
    every: EveryWord,
    /// Day on which the period of a weekly one ends, such as `monday`; Monday when left out.
    weekday: Option<String>,
    /// When its period ends, such as `07:00`.
    at: String,
    /// Place whose clock counts, such as `Europe/Lisbon`, or `UTC`.
    time_zone: String,
    /// How many of its reports are kept; those that somebody wrote to stay in any case.
    #[schema(minimum = 1, maximum = 1000)]
    most_kept: u32,
}

/// A schedule, and what came of it.
#[derive(Serialize, ToSchema)]
pub struct ScheduleFigures {
    /// Number.
    schedule_id: i32,
    /// What it is set to.
    #[serde(flatten)]
    set: ScheduleSet,
    /// Label of the instance that it is of.
    instance: Option<String>,
    /// Who set it last.
    made_by: String,
    /// When the period of the next report ends.
    next_at: DateTime<Utc>,
    /// Why there is no report on the last period.
    problem: Option<String>,
}

impl ScheduleFigures {
    /// Nothing for what this version does not know.
    fn new(row: ReportSchedule) -> Option<ScheduleFigures> {
        let (instance_id, instance) = row.instance.unzip();
        Some(ScheduleFigures {
            schedule_id: row.schedule_id,
            set: ScheduleSet {
                kind: Word(ReportKind::named(&row.kind)?),
                instance_id,
                group: row.group,
                sections: (!row.sections.is_empty()).then_some(row.sections),
                every: Word(Every::named(&row.every)?),
                weekday: DAYS.get(row.weekday as usize).map(|day| (*day).to_owned()),
                at: time_of_day(row.minute_of_day),
                time_zone: row.time_zone,
                most_kept: row.most_kept,
            },
            instance,
            made_by: row.made_by,
            next_at: moment(row.next_at),
            problem: row.problem,
        })
    }
}

impl ScheduleSet {
    /// The schedule that is meant, with all faults of what was given.
    async fn check(self, app: &App, caller: &Caller) -> Result<ReportSchedule, Problem> {
        let mut errors = Vec::new();
        let kind = self.kind.0;
        if !kind.may_be_scheduled() {
            let known = ReportKind::all().filter(|kind| kind.may_be_scheduled()).map(|kind| kind.name());
            let remedy = format!("Give one of {}.", known.collect::<Vec<_>>().join(", "));
            errors.push(FieldProblem::new("kind", kind.name(), remedy));
        }
        let named = match sections(kind, self.sections.as_deref().unwrap_or_default()) {
            _ if !errors.is_empty() => Vec::new(),
            named => named?,
        };
        let weekday = match &self.weekday {
            None => Some(0),
            Some(day) => DAYS.iter().position(|known| known == day),
        };
        if weekday.is_none() {
            let remedy = format!("Give one of {}.", DAYS.join(", "));
            errors.push(FieldProblem::new("weekday", self.weekday.as_deref().unwrap_or_default(), remedy));
        }
        let minute = minute_of_day(&self.at);
        if minute.is_none() {
            errors.push(FieldProblem::new("at", &self.at, "Give a time from 00:00 to 23:59."));
        }
        if !is_time_zone(&self.time_zone) {
            let remedy = "Give a place by its name in the time zone database, such as Europe/Lisbon, or UTC.";
            errors.push(FieldProblem::new("time_zone", &self.time_zone, remedy));
        }
        if self.most_kept == 0 || self.most_kept > MOST_KEPT {
            errors.push(FieldProblem::new("most_kept", self.most_kept, format!("Give from 1 to {MOST_KEPT}.")));
        }
        let (Some(weekday), Some(minute_of_day), true) = (weekday, minute, errors.is_empty()) else {
            return Err(Problem::invalid(errors));
        };
        let meant = Meant::find(app, caller, kind.of(), self.instance_id, self.group).await?;
        let first = meant.instances.into_iter().next();
        let mut schedule = ReportSchedule {
            schedule_id: 0,
            instance: first.filter(|_| meant.instance_id.is_some()).map(|one| (one.instance_id, one.label)),
            seen_by: meant.group.clone(),
            group: meant.group,
            kind: kind.name().to_owned(),
            sections: named.into_iter().map(|section| section.name()).collect::<Vec<_>>().join(","),
            every: self.every.0.name().to_owned(),
            weekday: weekday as u32,
            minute_of_day,
            time_zone: self.time_zone,
            most_kept: self.most_kept,
            made_by: caller.name.clone(),
            next_at: Timestamp(0),
            problem: None,
        };
        let next = cadence(&schedule).map_err(Problem::internal)?.next_end(Utc::now());
        schedule.next_at = Timestamp(next.unwrap_or_default().timestamp_micros());
        Ok(schedule)
    }
}

/// Reports that are made by themselves, those due next first.
#[utoipa::path(get, path = "/report-schedules", tag = "diagnose", responses((status = 200, body = Vec<ScheduleFigures>)))]
pub async fn list_schedules(State(app): State<App>, SignedIn(caller): SignedIn) -> Answer<Vec<ScheduleFigures>> {
    let mut schedules = app.store.report_schedules().await?;
    schedules.retain(|schedule| caller.sees(schedule.seen_by.as_deref()));
    Ok(Json(schedules.into_iter().filter_map(ScheduleFigures::new).collect()))
}

/// Have a report made by itself.
#[utoipa::path(post, path = "/report-schedules", tag = "diagnose", request_body = ScheduleSet,
    responses((status = 201, body = ScheduleFigures)))]
pub async fn add_schedule(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Body(set): Body<ScheduleSet>,
) -> Result<(StatusCode, Json<ScheduleFigures>), Problem> {
    Ok((StatusCode::CREATED, Json(write(&app, &caller, &note, None, set).await?)))
}

/// Change such a schedule.
#[utoipa::path(put, path = "/report-schedules/{schedule_id}", tag = "diagnose", params(("schedule_id" = i32, Path)),
    request_body = ScheduleSet, responses((status = 200, body = ScheduleFigures)))]
pub async fn change_schedule(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(schedule_id): Path<i32>,
    Body(set): Body<ScheduleSet>,
) -> Answer<ScheduleFigures> {
    seen(&app, &caller, schedule_id).await?;
    Ok(Json(write(&app, &caller, &note, Some(schedule_id), set).await?))
}

/// A schedule that the caller sees.
async fn seen(app: &App, caller: &Caller, schedule_id: i32) -> Result<ReportSchedule, Problem> {
    let found = app.store.report_schedules().await?.into_iter().find(|schedule| schedule.schedule_id == schedule_id);
    let found = found.filter(|schedule| caller.sees(schedule.seen_by.as_deref()));
    found.ok_or_else(|| Problem::not_found("schedule_id", "report schedule", schedule_id))
}

async fn write(
    app: &App,
    caller: &Caller,
    note: &AuditNote,
    schedule_id: Option<i32>,
    set: ScheduleSet,
) -> Result<ScheduleFigures, Problem> {
    let schedule = set.check(app, caller).await?;
    note.detail(format!("{} each {}", schedule.kind, schedule.every));
    let written = app.store.write_report_schedule(schedule_id, &schedule).await?;
    let gone = || Problem::not_found("schedule_id", "report schedule", schedule_id.unwrap_or_default());
    let number = written.ok_or_else(gone)?;
    ScheduleFigures::new(ReportSchedule { schedule_id: number, ..schedule }).ok_or_else(gone)
}

/// Have a report no longer made by itself. Its reports stay.
#[utoipa::path(delete, path = "/report-schedules/{schedule_id}", tag = "diagnose", params(("schedule_id" = i32, Path)),
    responses((status = 204)))]
pub async fn remove_schedule(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(schedule_id): Path<i32>,
) -> Result<StatusCode, Problem> {
    let schedule = seen(&app, &caller, schedule_id).await?;
    note.detail(format!("{} each {}", schedule.kind, schedule.every));
    app.store.remove_report_schedule(schedule_id).await?;
    Ok(StatusCode::NO_CONTENT)
}
