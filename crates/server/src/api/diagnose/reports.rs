//! Reports on one instance, in every form.

use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use chrono::{DateTime, Utc};
use hurnix_core::Named;
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Path, Query, SignedIn};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, WindowQuery};
use crate::api::base::word::Word;
use crate::report::{Asked, NoReport, Report, ReportForm, ReportKind, SectionKind, make};
use crate::state::App;
use axum::Json;

/// A kind of report.
pub type ReportKindWord = Word<ReportKind>;
/// How a report is written.
pub type ReportFormWord = Word<ReportForm>;

/// Which report, and how.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ReportQuery {
    /// Its kind.
    kind: ReportKindWord,
    /// Begin of its period.
    from: DateTime<Utc>,
    /// End of its period.
    to: DateTime<Utc>,
    /// Begin of the period that it is held against; the same hours before when left out.
    then_from: Option<DateTime<Utc>>,
    /// End of that; as long after its begin as the period is long, when left out.
    then_to: Option<DateTime<Utc>>,
    /// Sections, with commas between them; all of the kind when left out.
    sections: Option<String>,
    /// How it is written; JSON when left out. CSV is an archive with a file for each table.
    form: Option<ReportFormWord>,
}

impl ReportQuery {
    fn asked(&self) -> Result<Asked, Problem> {
        let span = WindowQuery { from: self.from, to: self.to }.window()?;
        let then = match self.then_from {
            None => None,
            Some(from) => {
                let to = self.then_to.unwrap_or(from + (self.to - self.from));
                Some(WindowQuery { from, to }.named("then_from", "then_to")?)
            }
        };
        let kind = self.kind.0;
        let known = || kind.sections().iter().map(|section| section.name()).collect::<Vec<_>>().join(", ");
        let named =
            self.sections.as_deref().unwrap_or_default().split(',').map(str::trim).filter(|name| !name.is_empty());
        let section = |name: &str| {
            SectionKind::named(name).filter(|section| kind.sections().contains(section)).ok_or_else(|| {
                let remedy = format!("Give sections of this kind of report, with commas between them: {}.", known());
                Problem::invalid(vec![FieldProblem::new("sections", name, remedy)])
            })
        };
        Ok(Asked { kind, span, then, sections: named.map(section).collect::<Result<_, _>>()? })
    }
}

/// A report on an instance. A period of `period` with a restart, a crash or a reset in it is refused, and the answer names
/// the parts that can be reported on.
#[utoipa::path(get, path = "/instances/{instance_id}/report", tag = "diagnose",
    params(("instance_id" = i32, Path), ReportQuery), responses((status = 200, body = Report)))]
pub async fn one_report(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<ReportQuery>,
) -> Result<Response, Problem> {
    let asked = query.asked()?;
    let instance = find(&app, instance_id).await?;
    let report = make(&app.store, &instance, &asked).await.map_err(|why| match why {
        NoReport::Store(problem) => problem.into(),
        NoReport::Interrupted(interrupted) => Problem::invalid(vec![FieldProblem {
            parts: interrupted.parts.iter().copied().map(Span::from).collect(),
            ..FieldProblem::new("from", query.from.to_rfc3339(), interrupted.to_string())
        }]),
    })?;
    let form = query.form.map_or(ReportForm::Json, |form| form.0);
    let written = form.write(&report).map_err(Problem::internal)?;
    let name = format!("{}.{}", report.file_name(), form.ending());
    let headers = [
        (header::CONTENT_TYPE, form.media_type().to_owned()),
        (header::CONTENT_DISPOSITION, format!("attachment; filename=\"{name}\"")),
    ];
    Ok((headers, written).into_response())
}

/// Kinds of reports and their sections.
#[derive(Serialize, ToSchema)]
pub struct KindOfReport {
    /// Its name.
    kind: ReportKindWord,
    /// Its title.
    title: &'static str,
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
        sections: kind.sections().iter().map(section).collect(),
    };
    Ok(Json(ReportKind::all().map(kind).collect()))
}
