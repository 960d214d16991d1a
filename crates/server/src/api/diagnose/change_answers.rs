use axum::Json;
use axum::extract::State;
use hurnix_core::Named;
use hurnix_core::findings::lasting_change::Answer as Given;
use hurnix_store::{ChangeAnswer, ChangeRow};
use serde::Deserialize;
use utoipa::ToSchema;

use crate::api::base::audit_note::AuditNote;
use crate::api::base::extract::{Body, Path, Tuner};
use crate::api::base::figures::Change;
use crate::api::base::find::find;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::word::AnswerWord;
use crate::events::News;
use crate::state::{App, now};

/// Characters of a reason.
const LONGEST_REASON: usize = 500;

/// What somebody makes of a change.
#[derive(Deserialize, ToSchema)]
pub struct GivenAnswer {
    /// What: the new normal, no trouble, or followed until it is over.
    answer: AnswerWord,
    /// Why; needed for what is dismissed.
    #[schema(max_length = 500)]
    reason: Option<String>,
}

/// Accept a change as the new normal, dismiss it with a reason, or follow it until it is over.
///
/// What is accepted or dismissed asks for attention no more: the first page, the list of instances and the first look
/// leave it out. Its statement's page tells it with who settled it and why.
#[utoipa::path(put, path = "/instances/{instance_id}/changes/{change_id}/answer", tag = "diagnose",
    params(("instance_id" = i32, Path), ("change_id" = String, Path)), request_body = GivenAnswer,
    responses((status = 200, body = Change)))]
pub async fn answer_change(
    State(app): State<App>,
    Tuner(caller): Tuner,
    note: AuditNote,
    Path((instance_id, change_id)): Path<(i32, i64)>,
    Body(given): Body<GivenAnswer>,
) -> Answer<Change> {
    let row = change(&app, instance_id, change_id).await?;
    let reason = given.reason.map(|reason| reason.trim().to_owned()).filter(|reason| !reason.is_empty());
    if given.answer.0 == Given::Dismissed && reason.is_none() {
        let remedy = "What is dismissed needs a reason: say why it is no trouble.";
        return Err(Problem::invalid(vec![FieldProblem::new("reason", "", remedy)]));
    }
    if let Some(long) = reason.as_ref().filter(|reason| reason.chars().count() > LONGEST_REASON) {
        let remedy = format!("It is too long: give {LONGEST_REASON} characters at most.");
        return Err(Problem::invalid(vec![FieldProblem::new("reason", long, remedy)]));
    }
    let what = given.answer.0.name();
    note.detail(
        [Some(what), reason.as_deref(), Some(row.text.as_str())].into_iter().flatten().collect::<Vec<_>>().join(": "),
    );
    let answer = ChangeAnswer { answer: given.answer.0, reason, by: caller.name.clone(), at: now() };
    settle(&app, instance_id, change_id, Some(&answer)).await
}

/// Take back what somebody made of a change: it asks for attention again.
#[utoipa::path(delete, path = "/instances/{instance_id}/changes/{change_id}/answer", tag = "diagnose",
    params(("instance_id" = i32, Path), ("change_id" = String, Path)),
    responses((status = 200, body = Change)))]
pub async fn take_back_answer(
    State(app): State<App>,
    _: Tuner,
    note: AuditNote,
    Path((instance_id, change_id)): Path<(i32, i64)>,
) -> Answer<Change> {
    note.detail(change(&app, instance_id, change_id).await?.text);
    settle(&app, instance_id, change_id, None).await
}

async fn change(app: &App, instance_id: i32, change_id: i64) -> Result<ChangeRow, Problem> {
    find(app, instance_id).await?;
    let row = app.store.one_change(instance_id, change_id).await?;
    row.ok_or_else(|| Problem::not_found("change_id", "lasting change", change_id))
}

async fn settle(app: &App, instance_id: i32, change_id: i64, answer: Option<&ChangeAnswer>) -> Answer<Change> {
    app.store.answer_change(change_id, answer).await?;
    app.events.tell(instance_id, News::Findings);
    Ok(Json(Change::new(&change(app, instance_id, change_id).await?)))
}
