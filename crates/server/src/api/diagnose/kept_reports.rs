//! Reports that are kept: listed, fetched by link in every form, with room for people's own words.

use axum::Json;
use axum::extract::State;
use axum::http::StatusCode;
use axum::response::Response;
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use hurnix_store::{Caller, Instance, KeptReport, KeptReportFilter, KeptReportOrder};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Body, Path, Query, SignedIn, Tuner};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, moment};
use crate::api::base::word::Word;
use crate::api::diagnose::reports::{FormQuery, ReportAsked, ReportKindWord, as_file};
use crate::api::diagnose::statements::page;
use crate::report::scheduled::{Kept, keep};
use crate::report::{Report, ReportOf};
use crate::state::{App, now};

/// A kept report, without what it says.
#[derive(Serialize, ToSchema)]
pub struct KeptReportFigures {
    /// Number.
    report_id: Id,
    /// Number of the instance that it is of; nothing where it is of many.
    instance_id: Option<i32>,
    /// Label of that instance.
    instance: Option<String>,
    /// Group of that instance, or the group whose instances it is of.
    group: Option<String>,
    /// Name of its kind.
    kind: String,
    /// Its title.
    title: String,
    /// The period that it is of.
    span: Span,
    /// When it was made.
    made_at: DateTime<Utc>,
    /// Who made it, or how often it is made by itself.
    made_by: String,
    /// Number of the schedule that made it, while that exists.
    schedule_id: Option<i32>,
    /// What people wrote to it.
    words: String,
    /// Who wrote that last.
    words_by: Option<String>,
    /// When.
    words_at: Option<DateTime<Utc>>,
}

impl From<KeptReport> for KeptReportFigures {
    fn from(kept: KeptReport) -> Self {
        let (instance_id, instance) = kept.instance.unzip();
        let (words_by, words_at) = kept.written.unzip();
        KeptReportFigures {
            report_id: Id(kept.report_id),
            instance_id,
            instance,
            group: kept.group,
            kind: kept.kind,
            title: kept.title,
            span: kept.span.into(),
            made_at: moment(kept.made_at),
            made_by: kept.made_by,
            schedule_id: kept.schedule_id,
            words: kept.words,
            words_by,
            words_at: words_at.map(moment),
        }
    }
}

/// A page of kept reports.
#[derive(Serialize, ToSchema)]
pub struct KeptReports {
    /// How many match in all.
    matching: i64,
    /// Those of the page, in the order asked for.
    reports: Vec<KeptReportFigures>,
}

/// What to sort kept reports by.
pub type KeptReportOrderWord = Word<KeptReportOrder>;

/// Which kept reports to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct KeptReportsQuery {
    /// Only those of this instance.
    instance_id: Option<i32>,
    /// Only those of this kind.
    kind: Option<ReportKindWord>,
    /// Only those whose title, maker or words contain this, whatever its case.
    search: Option<String>,
    /// What to sort by; when they were made where it is left out.
    sort: Option<KeptReportOrderWord>,
    /// Smallest (or oldest) first.
    ascending: Option<bool>,
    /// Which page, from 1.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Rows on a page.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

/// Kept reports of the instances that one sees.
#[utoipa::path(get, path = "/reports", tag = "diagnose", params(KeptReportsQuery),
    responses((status = 200, body = KeptReports)))]
pub async fn list_reports(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Query(query): Query<KeptReportsQuery>,
) -> Answer<KeptReports> {
    let (page, page_size) = page(query.page, query.page_size)?;
    let filter = KeptReportFilter {
        instance_id: query.instance_id,
        kind: query.kind.map(|kind| kind.0.name().to_owned()),
        search: query.search,
        order: query.sort.map(|sort| sort.0).unwrap_or_default(),
        ascending: query.ascending.unwrap_or(false),
        groups: (!caller.groups.is_empty()).then(|| caller.groups.clone()),
        offset: i64::from(page - 1) * i64::from(page_size),
        limit: i64::from(page_size),
    };
    let (reports, matching) = app.store.kept_reports(&filter).await?;
    Ok(Json(KeptReports { matching, reports: reports.into_iter().map(KeptReportFigures::from).collect() }))
}

/// A report to be made and kept.
#[derive(Deserialize, ToSchema)]
pub struct ReportToKeep {
    /// Number of the instance that it is of; left out where it is of many.
    instance_id: Option<i32>,
    /// Group whose instances it is of; of all when left out.
    group: Option<String>,
    /// Which report.
    #[serde(flatten)]
    asked: ReportAsked,
}

/// Of whom a report or a schedule is: one instance, or those of a group, or all; and whether somebody sees them.
pub(super) struct Meant {
    pub instances: Vec<Instance>,
    pub instance_id: Option<i32>,
    pub group: Option<String>,
}

impl Meant {
    /// Whom the inputs mean, for a report that is of one instance, or of many.
    pub async fn find(
        app: &App,
        caller: &Caller,
        of: ReportOf,
        instance_id: Option<i32>,
        group: Option<String>,
    ) -> Result<Meant, Problem> {
        let group = group.map(|group| group.trim().to_owned()).filter(|group| !group.is_empty());
        if of != ReportOf::Instances {
            let Some(id) = instance_id else {
                let remedy = "Give the number of the instance that the report is of.";
                return Err(Problem::invalid(vec![FieldProblem::new("instance_id", "", remedy)]));
            };
            let instance = find(app, id).await?;
            if !caller.sees(instance.group.as_deref()) {
                return Err(Problem::not_found("instance_id", "instance", id));
            }
            return Ok(Meant { instances: vec![instance], instance_id, group: None });
        }
        if let Some(id) = instance_id {
            let remedy =
                "This kind of report is of many instances: leave it out, and give a group to have those of one group.";
            return Err(Problem::invalid(vec![FieldProblem::new("instance_id", id, remedy)]));
        }
        if !caller.sees(group.as_deref()) {
            let remedy = format!("Give a group that you see: {}.", caller.groups.join(", "));
            return Err(Problem::invalid(vec![FieldProblem::new("group", group.unwrap_or_default(), remedy)]));
        }
        let mut instances = app.store.instances().await?;
        instances.retain(|instance| group.is_none() || instance.group == group);
        if let (true, Some(group)) = (instances.is_empty(), &group) {
            let remedy = "No instance is in this group: give one that has instances.";
            return Err(Problem::invalid(vec![FieldProblem::new("group", group, remedy)]));
        }
        Ok(Meant { instances, instance_id: None, group })
    }
}

/// Which report on many instances, besides its kind and period.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct GroupQuery {
    /// Group whose instances it is of; of all when left out.
    group: Option<String>,
}

/// A report on all instances, or on those of a group.
#[utoipa::path(get, path = "/report", tag = "diagnose", params(ReportAsked, GroupQuery, FormQuery),
    responses((status = 200, body = Report)))]
pub async fn report_on_many(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Query(query): Query<ReportAsked>,
    Query(group): Query<GroupQuery>,
    Query(form): Query<FormQuery>,
) -> Result<Response, Problem> {
    query.must_be_of_many()?;
    let meant = Meant::find(&app, &caller, ReportOf::Instances, None, group.group).await?;
    let asked = query.asked(meant.group.clone())?;
    as_file(&query.make(&app, &meant.instances, &asked).await?, form.form)
}

/// Make a report and keep it, so that it can be fetched by link, also when its figures are no longer kept.
#[utoipa::path(post, path = "/reports", tag = "diagnose", request_body = ReportToKeep,
    responses((status = 201, body = KeptReportFigures)))]
pub async fn keep_report(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Body(new): Body<ReportToKeep>,
) -> Result<(StatusCode, Json<KeptReportFigures>), Problem> {
    let meant = Meant::find(&app, &caller, new.asked.kind().of(), new.instance_id, new.group).await?;
    let asked = new.asked.asked(meant.group.clone())?;
    let report = new.asked.make(&app, &meant.instances, &asked).await?;
    note.detail(report.title.clone());
    let of = Kept {
        instance_id: meant.instance_id,
        group: meant.group.as_deref(),
        schedule_id: None,
        made_by: &caller.name,
    };
    let report_id = keep(&app, &report, of).await.map_err(Problem::internal)?;
    let (kept, _) = find_kept(&app, &caller, report_id).await?;
    Ok((StatusCode::CREATED, Json(kept.into())))
}

async fn find_kept(app: &App, caller: &Caller, report_id: i64) -> Result<(KeptReport, serde_json::Value), Problem> {
    let found = app.store.kept_report(report_id).await?.filter(|(kept, _)| caller.sees(kept.group.as_deref()));
    found.ok_or_else(|| Problem::not_found("report_id", "kept report", report_id))
}

/// A kept report, in every form, with what people wrote to it.
#[utoipa::path(get, path = "/reports/{report_id}", tag = "diagnose", params(("report_id" = String, Path), FormQuery),
    responses((status = 200, body = Report)))]
pub async fn kept_report(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Path(report_id): Path<i64>,
    Query(form): Query<FormQuery>,
) -> Result<Response, Problem> {
    let (kept, document) = find_kept(&app, &caller, report_id).await?;
    let report: Report = serde_json::from_value(document).map_err(Problem::internal)?;
    as_file(&Report { words: kept.words, ..report }, form.form)
}

/// Words to a report.
#[derive(Deserialize, ToSchema)]
pub struct Words {
    /// What to write to it, in lines; nothing takes away what was there.
    words: String,
}

/// Write to a kept report, in place of what was written to it before.
#[utoipa::path(put, path = "/reports/{report_id}/words", tag = "diagnose", params(("report_id" = String, Path)),
    request_body = Words, responses((status = 200, body = KeptReportFigures)))]
pub async fn write_words(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(report_id): Path<i64>,
    Body(Words { words }): Body<Words>,
) -> Answer<KeptReportFigures> {
    let (kept, _) = find_kept(&app, &caller, report_id).await?;
    note.detail(kept.title);
    app.store.write_words(report_id, words.trim_end(), &caller.name, now()).await?;
    let (kept, _) = find_kept(&app, &caller, report_id).await?;
    Ok(Json(kept.into()))
}

/// Delete a kept report.
#[utoipa::path(delete, path = "/reports/{report_id}", tag = "diagnose", params(("report_id" = String, Path)),
    responses((status = 204)))]
pub async fn remove_report(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path(report_id): Path<i64>,
) -> Result<StatusCode, Problem> {
    let (kept, _) = find_kept(&app, &caller, report_id).await?;
    note.detail(kept.title);
    app.store.remove_kept_report(report_id).await?;
    Ok(StatusCode::NO_CONTENT)
}
