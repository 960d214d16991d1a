use axum::Json;
use axum::extract::State;
use hurnix_core::access::role::Role;
use hurnix_store::{FoundKind, FoundRow};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Query, SignedIn};
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::word::Word;
use crate::state::App;

/// Shorter texts are in too much.
const LEAST_LETTERS: usize = 3;
/// Longer ones are no name.
const MOST_LETTERS: usize = 200;

/// What to look for.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct SearchQuery {
    /// From 3 to 200 characters of a name or a text, whatever their case; a typing error is passed over where
    /// nothing else is found.
    #[param(min_length = 3, max_length = 200)]
    text: String,
}

/// What was found, by its name.
pub type FoundKindWord = Word<FoundKind>;

/// Something that was found.
#[derive(Serialize, ToSchema)]
pub struct Found {
    /// What it is.
    kind: FoundKindWord,
    /// The instance that it is on; nothing for an account.
    instance_id: Option<i32>,
    /// The number of a family or a piece of advice, the database of a table, the name of an account.
    id: String,
    /// Its text, its name, or its subject.
    title: String,
}

/// Longest title that is given, in characters.
const MOST_TITLE_LETTERS: usize = 300;

impl From<FoundRow> for Found {
    fn from(row: FoundRow) -> Self {
        let FoundRow { kind, instance_id, id, title } = row;
        Found { kind: Word(kind), instance_id, id, title: title.chars().take(MOST_TITLE_LETTERS).collect() }
    }
}

/// Statements, tables, open recommendations and accounts whose text or name holds what is looked for: a few of each,
/// the likeliest first.
#[utoipa::path(get, path = "/search", tag = "instances", params(SearchQuery),
    responses((status = 200, body = Vec<Found>)))]
pub async fn search(
    State(app): State<App>,
    SignedIn(caller): SignedIn,
    Query(query): Query<SearchQuery>,
) -> Answer<Vec<Found>> {
    let text = query.text.trim();
    if !(LEAST_LETTERS..=MOST_LETTERS).contains(&text.chars().count()) || text.contains('\0') {
        let remedy = format!("Give from {LEAST_LETTERS} to {MOST_LETTERS} characters.");
        return Err(Problem::invalid(vec![FieldProblem::new("text", text, remedy)]));
    }
    let found = app.store.search(text, &caller.groups, caller.role == Role::Administrator).await?;
    Ok(Json(found.into_iter().map(Found::from).collect()))
}
