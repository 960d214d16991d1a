//! Reports in every form, made when they are asked for.

use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use chrono::{DateTime, TimeDelta, Utc};
use hurnix_core::Named;
use hurnix_store::Instance;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, WindowQuery, moment};
use crate::api::base::word::Word;
use crate::report::{Asked, NoReport, Report, ReportForm, ReportKind, ReportOf, SectionKind, make};
use crate::state::App;
use axum::Json;

/// A kind of report.
pub type ReportKindWord = Word<ReportKind>;
/// How a report is written.
pub type ReportFormWord = Word<ReportForm>;

/// Which report.
#[derive(Debug, Clone, Deserialize, IntoParams, ToSchema)]
#[into_params(parameter_in = Query)]
pub struct ReportAsked {
    /// Its kind.
    kind: ReportKindWord,
    /// Number of the statement, for a report on one.
    family_id: Option<String>,
    /// Number of the first snapshot, for a report between two.
    first: Option<String>,
    /// Number of the second snapshot.
    second: Option<String>,
    /// Begin of its period; a day before its end when left out. A first look is of the last day, whatever is given.
    from: Option<DateTime<Utc>>,
    /// End of its period; now when left out.
    to: Option<DateTime<Utc>>,
    /// Begin of the period that it is held against; the same hours before when left out.
    then_from: Option<DateTime<Utc>>,
    /// End of that; as long after its begin as the period is long, when left out.
    then_to: Option<DateTime<Utc>>,
    /// Sections, with commas between them; all of the kind when left out.
    sections: Option<String>,
}

/// How a report is written.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct FormQuery {
    /// How it is written; JSON when left out. CSV is an archive with a file for each table.
    pub(super) form: Option<ReportFormWord>,
}

/// A kind that is of something else than it is asked of.
fn wrong_kind(kind: ReportKind, of: &str) -> Problem {
    let remedy = format!("Ask for this kind of report {of}.");
    Problem::invalid(vec![FieldProblem::new("kind", kind.name(), remedy)])
}

/// Sections by name, with commas between them.
pub(super) fn sections(kind: ReportKind, named: &str) -> Result<Vec<SectionKind>, Problem> {
    let known = || kind.sections().iter().map(|section| section.name()).collect::<Vec<_>>().join(", ");
    let section = |name: &str| {
        SectionKind::named(name).filter(|section| kind.sections().contains(section)).ok_or_else(|| {
            let remedy = format!("Give sections of this kind of report, with commas between them: {}.", known());
            Problem::invalid(vec![FieldProblem::new("sections", name, remedy)])
        })
    };
    named.split(',').map(str::trim).filter(|name| !name.is_empty()).map(section).collect()
}

impl ReportAsked {
    /// Its kind.
    pub(super) fn kind(&self) -> ReportKind {
        self.kind.0
    }

    /// Refuses a kind that is of one instance.
    pub(super) fn must_be_of_many(&self) -> Result<(), Problem> {
        match self.kind().of() {
            ReportOf::Instances => Ok(()),
            _ => Err(wrong_kind(self.kind(), "on an instance, at /api/v1/instances/{instance_id}/report")),
        }
    }

    /// What is asked, of one instance or of those of a group.
    pub(super) fn asked(&self, group: Option<String>) -> Result<Asked, Problem> {
        let to = self.to.unwrap_or_else(Utc::now);
        let from = self.from.unwrap_or(to - TimeDelta::days(1));
        let span = WindowQuery { from, to }.window()?;
        let then = match self.then_from {
            None => None,
            Some(then_from) => {
                let (from, to) = (then_from, self.then_to.unwrap_or(then_from + (to - from)));
                Some(WindowQuery { from, to }.named("then_from", "then_to")?)
            }
        };
        let kind = self.kind.0;
        let number = |field: &str, given: &Option<String>, remedy: &str| {
            let text = given.as_deref().unwrap_or_default();
            text.parse::<i64>().map_err(|_| Problem::invalid(vec![FieldProblem::new(field, text, remedy)]))
        };
        let family = match kind.of() {
            ReportOf::Statement => {
                let remedy = "Give the number of the statement that the report is of.";
                Some(number("family_id", &self.family_id, remedy)?)
            }
            _ => None,
        };
        let snapshots = match kind.is_between_snapshots() {
            true => {
                let remedy = "Give the number of a snapshot of this instance that has a name.";
                Some([number("first", &self.first, remedy)?, number("second", &self.second, remedy)?])
            }
            false => None,
        };
        let sections = sections(kind, self.sections.as_deref().unwrap_or_default())?;
        Ok(Asked { kind, family, snapshots, group, span, then, sections })
    }

    /// Makes it; why there is none is told by the input that is at fault.
    pub(super) async fn make(&self, app: &App, instances: &[Instance], asked: &Asked) -> Result<Report, Problem> {
        make(app, instances, asked).await.map_err(|why| match why {
            NoReport::Store(problem) => problem.into(),
            NoReport::NoSnapshots(why) => {
                let second = self.second.clone().unwrap_or_default();
                Problem::invalid(vec![FieldProblem::new("second", second, why)])
            }
            NoReport::NoStatement(number) => Problem::not_found("family_id", "statement family", number),
            NoReport::Interrupted(interrupted) => Problem::invalid(vec![FieldProblem {
                parts: interrupted.parts.iter().copied().map(Span::from).collect(),
                ..FieldProblem::new("from", moment(asked.span.from).to_rfc3339(), interrupted.to_string())
            }]),
        })
    }
}

/// A report in a form, as a file with a name.
pub(super) fn as_file(report: &Report, form: Option<ReportFormWord>) -> Result<Response, Problem> {
    let form = form.map_or(ReportForm::Json, |form| form.0);
    let written = form.write(report).map_err(Problem::internal)?;
    let name = format!("{}.{}", report.file_name(), form.ending());
    let headers = [
        (header::CONTENT_TYPE, form.media_type().to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
    ];
    Ok((headers, written).into_response())
}

/// A report on an instance, or on one of its statements. A period of `period` with a restart, a crash or a reset in it is
/// refused, and the answer names the parts that can be reported on.
#[utoipa::path(get, path = "/instances/{instance_id}/report", tag = "diagnose",
    params(("instance_id" = i32, Path), ReportAsked, FormQuery), responses((status = 200, body = Report)))]
pub async fn one_report(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<ReportAsked>,
    Query(form): Query<FormQuery>,
) -> Result<Response, Problem> {
    let asked = query.asked(None)?;
    if asked.kind.of() == ReportOf::Instances {
        return Err(wrong_kind(asked.kind, "on all instances, or on those of a group, at /api/v1/report"));
    }
    let instance = find(&app, instance_id).await?;
    as_file(&query.make(&app, &[instance], &asked).await?, form.form)
}

/// Kinds of reports and their sections.
#[derive(Serialize, ToSchema)]
pub struct KindOfReport {
    /// Its name.
    kind: ReportKindWord,
    /// Its title.
    title: &'static str,
    /// Whether it is of many instances.
    is_of_many: bool,
    /// Whether it is of the time between two snapshots.
    is_between_snapshots: bool,
    /// Whether it can be made by itself each day, week or month.
    may_be_scheduled: bool,
    /// Its sections in order.
    sections: Vec<KindOfSection>,
}

/// One section of a kind of report.
#[derive(Serialize, ToSchema)]
pub struct KindOfSection {
    /// Its name.
    section: &'static str,
    /// Its title.
    title: &'static str,
}

/// The kinds of reports that there are.
#[utoipa::path(get, path = "/reports/kinds", tag = "diagnose", responses((status = 200, body = Vec<KindOfReport>)))]
pub async fn kinds_of_reports(_: SignedIn) -> Answer<Vec<KindOfReport>> {
    let section = |section: &SectionKind| KindOfSection { section: section.name(), title: section.title() };
    let kind = |kind: ReportKind| KindOfReport {
        kind: Word(kind),
        title: kind.title(),
        is_of_many: kind.of() == ReportOf::Instances,
        is_between_snapshots: kind.is_between_snapshots(),
        may_be_scheduled: kind.may_be_scheduled(),
        sections: kind.sections().iter().map(section).collect(),
    };
    Ok(Json(ReportKind::all().map(kind).collect()))
}
