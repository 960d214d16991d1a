use axum::Json;
use axum::extract::State;
use chrono::{DateTime, Utc};
use hurnix_core::changes::advice::{Advice, AdviceState, Outcome, TrackRecord, track_record};
use hurnix_core::findings::effect::{Effect, LEAST_BUCKETS};
use hurnix_core::findings::lasting_change::Interval;
use hurnix_core::{Named, Timestamp, Window};
use hurnix_source::postgres::{Piece, statement_to_run};
use hurnix_store::{AdviceFilter, AdviceRow};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Body, Path, Query, SignedIn, Tuner};
use crate::api::base::figures::{Id, IntervalFigures};
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{Span, given, moment};
use crate::api::base::word::{AdviceKindWord, AdviceStateWord, VerdictWord, Word};
use crate::api::diagnose::statements::page;
use crate::state::{App, now};

/// Which pages of the book to list.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct ListQuery {
    /// Only in this state.
    #[param(inline)]
    state: Option<AdviceStateWord>,
    /// Newest first, instead of the largest predicted effect.
    by_age: Option<bool>,
    /// Page, from 1.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Rows on a page, 200 at most.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

/// A page of the advice book.
#[derive(Serialize, ToSchema)]
pub struct AdviceList {
    /// How much advice there is of that state.
    matching: i64,
    /// The advice on this page, open ones first.
    advice: Vec<AdviceFigures>,
    /// How often advice of each kind was right on this instance.
    record: Vec<RecordFigures>,
}

/// How often advice of a kind was right on an instance.
#[derive(Serialize, ToSchema)]
pub struct RecordFigures {
    /// Kind of advice.
    kind: AdviceKindWord,
    /// What that is called.
    title: &'static str,
    /// Pieces that were confirmed.
    right: usize,
    /// Pieces that had no effect or did harm.
    wrong: usize,
    /// Pieces of which it is too early to tell, or cannot be told.
    undecided: usize,
    /// Median of measured ÷ predicted, of what was promised and measured.
    measured_share: Option<f64>,
    /// Each piece that was measured and had time to save.
    outcomes: Vec<OutcomeFigures>,
}

/// What was predicted and measured of one piece of advice.
#[derive(Serialize, ToSchema)]
pub struct OutcomeFigures {
    /// Its number.
    advice_id: Id,
    /// In a word.
    verdict: VerdictWord,
    /// Predicted time saved, in seconds per day.
    predicted_seconds_per_day: f64,
    /// Measured time saved, in seconds per day; negative when it costs time.
    measured_seconds_per_day: f64,
}

fn record_figures(outcomes: &[Outcome]) -> Vec<RecordFigures> {
    let of = |record: TrackRecord| RecordFigures {
        kind: Word(record.kind),
        title: record.kind.title(),
        right: record.right,
        wrong: record.wrong,
        undecided: record.undecided,
        measured_share: record.measured_share,
        outcomes: outcomes
            .iter()
            .filter(|outcome| outcome.kind == record.kind && outcome.predicted_seconds_per_day > 0.0)
            .filter_map(|outcome| {
                Some(OutcomeFigures {
                    advice_id: Id(outcome.advice_id),
                    verdict: Word(outcome.verdict),
                    predicted_seconds_per_day: outcome.predicted_seconds_per_day,
                    measured_seconds_per_day: outcome.measured_seconds_per_day?,
                })
            })
            .collect(),
    };
    track_record(outcomes).into_iter().map(of).collect()
}

/// One piece of advice.
#[derive(Serialize, ToSchema)]
pub struct AdviceFigures {
    /// Number.
    advice_id: Id,
    /// Kind of advice.
    kind: AdviceKindWord,
    /// What that is called.
    title: &'static str,
    /// What it is about.
    subject: String,
    /// How far it has come.
    state: AdviceStateWord,
    /// When it was first given.
    made_at: DateTime<Utc>,
    /// When its figures were last brought up to date.
    updated_at: DateTime<Utc>,
    /// Window of the figures that it rests on.
    evidence: Span,
    /// Predicted effect: time saved, in seconds per day; 0 where none is promised.
    predicted_seconds_per_day: f64,
    /// Predicted effect: space given back, in bytes; 0 where none is promised.
    predicted_freed_bytes: f64,
    /// When it was not yet applied for certain.
    applied_from: Option<DateTime<Utc>>,
    /// When it was applied for certain.
    applied_at: Option<DateTime<Utc>>,
    /// Who said so: an account, or `collector` when Hurnix found it done.
    applied_by: Option<String>,
    /// Statement families that it would help.
    families: Vec<Id>,
    /// What came of it.
    effect: Option<EffectFigures>,
    /// When the same would last have been recommended again, and was not because of what was measured.
    withheld_at: Option<DateTime<Utc>>,
}

/// What came of applied advice.
#[derive(Serialize, ToSchema)]
pub struct EffectFigures {
    /// In a word.
    verdict: VerdictWord,
    /// Measured effect: time saved, in seconds per day.
    saved_seconds_per_day: Option<IntervalFigures>,
    /// Mean time per call of the touched statements before, in milliseconds.
    before_ms: Option<f64>,
    /// The same after.
    after_ms: Option<f64>,
    /// By what factor untouched statements changed meanwhile.
    drift: f64,
    /// The same, with how surely it is known; nothing where it was measured by an earlier version.
    drift_between: Option<IntervalFigures>,
    /// How many of them there were.
    controls: usize,
    /// Buckets of time since the change.
    after_buckets: usize,
    /// Buckets needed for a verdict.
    needed_buckets: usize,
    /// Statement families that it is measured on.
    families: usize,
    /// Touched families of which too little was seen so far.
    waiting: usize,
    /// Recommendations that were carried out at the same time for the same statements: the effect is that of all.
    together_with: Vec<Id>,
    /// When the next recommendation for the same statements was carried out: what came later is left out.
    after_until: Option<DateTime<Utc>>,
    /// What else happened meanwhile that may have moved the statements, such as a setting or a release.
    meanwhile: Vec<String>,
    /// Whether the server has not once read the index since it was made.
    never_read: bool,
    /// When it was measured.
    measured_at: Option<DateTime<Utc>>,
}

/// One piece of advice in full.
#[derive(Serialize, ToSchema)]
pub struct AdviceInFull {
    /// The advice.
    advice: AdviceFigures,
    /// What its kind tells of it.
    details: Advice,
    /// Texts of the families that it is meant for.
    family_texts: Vec<FamilyText>,
    /// The statement in pieces: texts to be run as they are, and decisions to be taken.
    statement: Vec<StatementPiece>,
    /// Whether the instance is a replica: the statement is to be run on its primary.
    on_replica: bool,
}

/// The text of a family.
#[derive(Serialize, ToSchema)]
pub struct FamilyText {
    /// Number of the family.
    family_id: Id,
    /// Its text.
    text: String,
}

/// A piece of a statement that is to be run.
#[derive(Serialize, ToSchema)]
#[serde(tag = "piece", rename_all = "snake_case")]
pub enum StatementPiece {
    /// Text as it is.
    Text {
        /// The text.
        text: String,
    },
    /// Something to be decided.
    Decision {
        /// Name of the decision.
        name: String,
        /// The question.
        question: String,
        /// What can be chosen, with what follows from it. Empty when a name is to be typed.
        choices: Vec<Choice>,
        /// A name to start from, where one is to be typed.
        suggestion: Option<String>,
    },
}

/// One way to decide.
#[derive(Serialize, ToSchema)]
pub struct Choice {
    /// What it puts into the statement.
    text: String,
    /// What it is called.
    label: String,
    /// What follows from it.
    consequence: String,
}

fn figures(row: &AdviceRow) -> AdviceFigures {
    let (kind, told) = (row.advice.kind(), row.advice.told());
    let prediction = told.prediction();
    AdviceFigures {
        families: told.families().into_iter().map(Id).collect(),
        advice_id: Id(row.advice_id),
        kind: Word(kind),
        title: kind.title(),
        subject: row.subject.clone(),
        state: Word(row.state),
        made_at: moment(row.made_at),
        updated_at: moment(row.updated_at),
        evidence: row.evidence.into(),
        predicted_seconds_per_day: prediction.saved_seconds_per_day,
        predicted_freed_bytes: prediction.freed_bytes,
        applied_from: row.applied_from.map(moment),
        applied_at: row.applied_at.map(moment),
        applied_by: row.applied_by.clone(),
        effect: row.effect.as_ref().map(|effect| effect_figures(effect, row.effect_at)),
        withheld_at: row.withheld_at.map(moment),
    }
}

fn effect_figures(effect: &Effect, measured_at: Option<Timestamp>) -> EffectFigures {
    EffectFigures {
        verdict: Word(effect.verdict),
        saved_seconds_per_day: effect.saved_seconds_per_day.map(Into::into),
        before_ms: effect.before_ms,
        after_ms: effect.after_ms,
        drift: effect.drift,
        drift_between: effect.drift_between.map(|(low, high)| Interval { value: effect.drift, low, high }.into()),
        controls: effect.controls,
        after_buckets: effect.after_buckets,
        needed_buckets: LEAST_BUCKETS,
        families: effect.families,
        waiting: effect.waiting,
        together_with: effect.together_with.iter().copied().map(Id).collect(),
        after_until: effect.after_until.map(moment),
        meanwhile: effect.meanwhile.clone(),
        never_read: effect.never_read,
        measured_at: measured_at.map(moment),
    }
}

async fn in_full(app: &App, row: AdviceRow) -> Result<AdviceInFull, Problem> {
    let advice = figures(&row);
    let numbers = row.advice.told().families();
    let texts = app.store.family_texts(row.instance_id, &numbers).await?;
    let mut pieces = statement_to_run(&row.advice);
    let connected = app.store.instance(row.instance_id).await?.map(|instance| instance.database_name);
    let database = row.advice.told().database();
    if !database.is_empty() && connected.is_some_and(|connected| connected != database) {
        pieces.insert(0, Piece::Text(format!("-- In the database {database}:\n")));
    }
    Ok(AdviceInFull {
        advice,
        on_replica: app.store.is_replica(row.instance_id, now()).await?.unwrap_or(false),
        family_texts: texts.into_iter().map(|(family, text)| FamilyText { family_id: Id(family), text }).collect(),
        statement: pieces.into_iter().map(StatementPiece::from).collect(),
        details: row.advice,
    })
}

impl From<Piece> for StatementPiece {
    fn from(piece: Piece) -> Self {
        match piece {
            Piece::Text(text) => StatementPiece::Text { text },
            Piece::Choice { name, question, ways } => StatementPiece::Decision {
                name: name.into(),
                question: question.into(),
                choices: ways
                    .into_iter()
                    .map(|(text, label, consequence)| Choice {
                        text: text.into(),
                        label: label.into(),
                        consequence: consequence.into(),
                    })
                    .collect(),
                suggestion: None,
            },
            Piece::Name { name, question, suggestion } => StatementPiece::Decision {
                name: name.into(),
                question: question.into(),
                choices: Vec::new(),
                suggestion: Some(suggestion),
            },
        }
    }
}

/// The advice book of an instance.
#[utoipa::path(get, path = "/instances/{instance_id}/advice", tag = "tune",
    params(("instance_id" = i32, Path), ListQuery),
    responses((status = 200, body = AdviceList)))]
pub async fn list_advice(
    State(app): State<App>,
    _: SignedIn,
    Path(instance_id): Path<i32>,
    Query(query): Query<ListQuery>,
) -> Answer<AdviceList> {
    let (page, page_size) = page(query.page, query.page_size)?;
    find(&app, instance_id).await?;
    let filter = AdviceFilter {
        state: query.state.map(|state| state.0),
        by_age: query.by_age.unwrap_or(false),
        offset: i64::from(page - 1) * i64::from(page_size),
        limit: i64::from(page_size),
    };
    let (rows, matching) = app.store.advice_list(instance_id, &filter).await?;
    let record = record_figures(&app.store.advice_outcomes(instance_id).await?);
    Ok(Json(AdviceList { matching, advice: rows.iter().map(figures).collect(), record }))
}

async fn find_advice(app: &App, instance_id: i32, advice_id: i64) -> Result<AdviceRow, Problem> {
    find(app, instance_id).await?;
    app.store.advice(instance_id, advice_id).await?.ok_or_else(|| Problem::not_found("advice_id", "advice", advice_id))
}

/// One piece of advice with its evidence, the reasons, and the statement to run.
#[utoipa::path(get, path = "/instances/{instance_id}/advice/{advice_id}", tag = "tune",
    params(("instance_id" = i32, Path), ("advice_id" = String, Path)),
    responses((status = 200, body = AdviceInFull)))]
pub async fn one_advice(
    State(app): State<App>,
    _: SignedIn,
    Path((instance_id, advice_id)): Path<(i32, i64)>,
) -> Answer<AdviceInFull> {
    let row = find_advice(&app, instance_id, advice_id).await?;
    Ok(Json(in_full(&app, row).await?))
}

/// When advice was applied.
#[derive(Deserialize, ToSchema)]
pub struct Applied {
    /// When; now when left out. After the evidence, not in the future.
    applied_at: Option<DateTime<Utc>>,
}

/// Mark an open recommendation as applied. Its effect is measured from then on.
#[utoipa::path(post, path = "/instances/{instance_id}/advice/{advice_id}/applied", tag = "tune",
    params(("instance_id" = i32, Path), ("advice_id" = String, Path)), request_body = Applied,
    responses((status = 200, body = AdviceInFull), (status = 409, body = Problem)))]
pub async fn mark_applied(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path((instance_id, advice_id)): Path<(i32, i64)>,
    Body(applied): Body<Applied>,
) -> Answer<AdviceInFull> {
    let row = find_advice(&app, instance_id, advice_id).await?;
    note.detail(row.subject.clone());
    let at = applied.applied_at.map_or(Ok(now()), |at| given("applied_at", at));
    let at = at.map_err(|fault| Problem::invalid(vec![fault]))?;
    if at < row.evidence.to || at > now().plus_seconds(60.0) {
        let remedy = format!(
            "It must lie after the evidence ({}) and not in the future: give such a time, or none for now.",
            moment(row.evidence.to).to_rfc3339()
        );
        return Err(Problem::invalid(vec![FieldProblem::new("applied_at", moment(at).to_rfc3339(), remedy)]));
    }
    let between = Window { from: row.evidence.to, to: at };
    go(&app, &row, AdviceState::Open, AdviceState::Applied, Some((between, caller.name.as_str()))).await
}

/// Set an open recommendation aside: it is not given again.
#[utoipa::path(post, path = "/instances/{instance_id}/advice/{advice_id}/set-aside", tag = "tune",
    params(("instance_id" = i32, Path), ("advice_id" = String, Path)),
    responses((status = 200, body = AdviceInFull), (status = 409, body = Problem)))]
pub async fn set_aside(
    State(app): State<App>,
    _: Tuner,
    note: AuditNote,
    Path((instance_id, advice_id)): Path<(i32, i64)>,
) -> Answer<AdviceInFull> {
    let row = find_advice(&app, instance_id, advice_id).await?;
    note.detail(row.subject.clone());
    go(&app, &row, AdviceState::Open, AdviceState::SetAside, None).await
}

/// Reopen a recommendation that was marked as applied or set aside by mistake.
#[utoipa::path(post, path = "/instances/{instance_id}/advice/{advice_id}/reopen", tag = "tune",
    params(("instance_id" = i32, Path), ("advice_id" = String, Path)),
    responses((status = 200, body = AdviceInFull), (status = 409, body = Problem)))]
pub async fn reopen(
    State(app): State<App>,
    _: Tuner,
    note: AuditNote,
    Path((instance_id, advice_id)): Path<(i32, i64)>,
) -> Answer<AdviceInFull> {
    let row = find_advice(&app, instance_id, advice_id).await?;
    note.detail(row.subject.clone());
    let from = if row.state == AdviceState::SetAside { AdviceState::SetAside } else { AdviceState::Applied };
    go(&app, &row, from, AdviceState::Open, None).await
}

async fn go(
    app: &App,
    row: &AdviceRow,
    from: AdviceState,
    to: AdviceState,
    applied: Option<(Window, &str)>,
) -> Answer<AdviceInFull> {
    if !app.store.move_advice(row.advice_id, from, to, applied).await? {
        let remedy = format!(
            "The advice is {}, or the same advice is open already. Reload the page to see how it stands.",
            row.state.name().replace('_', " ")
        );
        return Err(Problem::conflict(FieldProblem::new("advice_id", row.advice_id, remedy)));
    }
    app.events.tell(row.instance_id, crate::events::News::Findings);
    let row = find_advice(app, row.instance_id, row.advice_id).await?;
    Ok(Json(in_full(app, row).await?))
}
