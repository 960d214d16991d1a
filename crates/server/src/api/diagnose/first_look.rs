use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::changes::remedy::Remedy;
use hurnix_core::findings::first_look::{Fact, Finding, Page, Point, Step, first_look};
use hurnix_core::findings::health::Health;
use hurnix_core::instance::engine::Engine;
use hurnix_source::postgres::remedy_statement;
use hurnix_store::Instance;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::extract::{Path, SignedIn};
use crate::api::base::figures::Id;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, Problem};
use crate::api::base::window::{Span, moment};
use crate::api::base::word::{CheckWord, HealthWord, PageNameWord, Word};
use crate::api::people::actions::ActionAsked;
use crate::first_look::{LATELY_SECONDS, evidence};
use crate::state::App;

/// What somebody who has never seen an instance goes through first.
#[derive(Serialize, ToSchema)]
pub struct FirstLook {
    /// Label of the instance.
    instance: String,
    /// Where it is: host, port and database, or what stands for them.
    place: String,
    /// Version as the server writes it.
    server_version: Option<String>,
    /// When it was looked at.
    at: DateTime<Utc>,
    /// What is called lately.
    lately: Span,
    /// Checks by verdict.
    verdicts: Verdicts,
    /// One for each check, in their order.
    findings: Vec<FindingFigures>,
}

/// Checks by verdict.
#[derive(Default, Serialize, ToSchema)]
pub struct Verdicts {
    /// Where somebody should act.
    act: usize,
    /// Worth a look.
    look: usize,
    /// Of which too little is known.
    no_data: usize,
    /// Without a trouble.
    quiet: usize,
}

/// What a check found.
#[derive(Serialize, ToSchema)]
pub struct FindingFigures {
    /// Name of the check.
    check: CheckWord,
    /// Its heading.
    title: &'static str,
    /// The question that it answers.
    asks: &'static str,
    /// That of the most urgent point.
    verdict: HealthWord,
    /// In one sentence.
    summary: String,
    /// What was found, the most urgent first.
    points: Vec<PointFigures>,
    /// What that rests on.
    facts: Vec<FactFigures>,
}

/// One thing that was found.
#[derive(Serialize, ToSchema)]
pub struct PointFigures {
    /// How urgent it is; never `quiet`.
    verdict: HealthWord,
    /// What was found.
    text: String,
    /// When it began, where that is known.
    since: Option<DateTime<Utc>>,
    /// What to do about it.
    step: String,
    /// Statements to run for that, where there are any.
    statement: Option<String>,
    /// Where more is shown.
    page: Option<PageNameWord>,
    /// Number of the family or advice that is shown there.
    id: Option<Id>,
    /// What Hurnix itself can put in force for that.
    action: Option<ActionOffer>,
}

/// Something that Hurnix itself can put in force.
#[derive(Serialize, ToSchema)]
pub struct ActionOffer {
    /// What it is called.
    pub(crate) title: &'static str,
    /// What to ask for; a reason is to be added.
    pub(crate) asked: ActionAsked,
}

/// A piece of evidence.
#[derive(Serialize, ToSchema)]
pub struct FactFigures {
    /// What it is of.
    what: String,
    /// The figure, with its unit; empty where a moment is all.
    value: String,
    /// The moment that it is, or that the figure belongs to.
    at: Option<DateTime<Utc>>,
}

impl From<Point> for PointFigures {
    fn from(point: Point) -> Self {
        let Step { text: step, remedy, page } = point.step;
        let statement = remedy.as_ref().and_then(remedy_statement);
        let action = match &remedy {
            Some(Remedy::Act(action)) => {
                ActionAsked::for_action(action).map(|asked| ActionOffer { title: action.kind().title(), asked })
            }
            _ => None,
        };
        let (page, id) = (page.map(|page| Word(page.into())), page.and_then(shown));
        let since = point.since.map(moment);
        PointFigures { verdict: Word(point.verdict), text: point.text, since, step, statement, page, id, action }
    }
}

/// Of what a page is shown.
pub(crate) fn shown(page: Page) -> Option<Id> {
    match page {
        Page::Family(id) | Page::Advice(id) => Some(Id(id)),
        Page::Instances
        | Page::Collection
        | Page::Load
        | Page::Resources
        | Page::Blocking
        | Page::Sessions
        | Page::Statements => None,
    }
}

impl From<Fact> for FactFigures {
    fn from(fact: Fact) -> Self {
        FactFigures { what: fact.what, value: fact.value, at: fact.at.map(moment) }
    }
}

impl From<Finding> for FindingFigures {
    fn from(finding: Finding) -> Self {
        FindingFigures {
            check: Word(finding.check),
            title: finding.check.title(),
            asks: finding.check.asks(),
            verdict: Word(finding.verdict()),
            summary: finding.summary,
            points: finding.points.into_iter().map(PointFigures::from).collect(),
            facts: finding.facts.into_iter().map(FactFigures::from).collect(),
        }
    }
}

async fn look(app: &App, instance: &Instance) -> Result<FirstLook, Problem> {
    let evidence = evidence(app, instance, LATELY_SECONDS).await?;
    let findings = first_look(&evidence);
    let mut verdicts = Verdicts::default();
    for finding in &findings {
        let count = match finding.verdict() {
            Health::Act => &mut verdicts.act,
            Health::Look => &mut verdicts.look,
            Health::NoData => &mut verdicts.no_data,
            Health::Quiet => &mut verdicts.quiet,
        };
        *count += 1;
    }
    Ok(FirstLook {
        instance: instance.label.clone(),
        place: match instance.engine {
            Engine::Postgres => format!("{}:{}/{}", instance.host, instance.port, instance.database_name),
            Engine::Simulated => "a simulated server".into(),
            Engine::Bundle => "imported from bundles".into(),
        },
        server_version: instance.server_version.clone(),
        at: moment(evidence.at),
        lately: evidence.lately.window.into(),
        verdicts,
        findings: findings.into_iter().map(FindingFigures::from).collect(),
    })
}

/// The ordered checklist on an instance: each check with verdict, evidence and next step.
#[utoipa::path(get, path = "/instances/{instance_id}/first-look", tag = "diagnose", params(("instance_id" = i32, Path)),
    responses((status = 200, body = FirstLook)))]
pub async fn take_first_look(State(app): State<App>, _: SignedIn, Path(instance_id): Path<i32>) -> Answer<FirstLook> {
    let instance = find(&app, instance_id).await?;
    Ok(Json(look(&app, &instance).await?))
}
