//! The OpenAPI document: what the handlers say, and what holds for every operation of its shape. The refusals that
//! extractors give are said here, once, and not at each handler.

use utoipa::OpenApi;
use utoipa::openapi::path::{Operation, ParameterIn, PathItem};
use utoipa::openapi::{Content, OpenApi as Described, Ref, RefOr, Response};

use crate::api::base::examples::Examples;
use crate::api::diagnose::{executions, kept_reports, load, log, reports, statements};
use crate::api::people::{actions, audit};
use crate::api::tune::index_review;

const PROBLEM: &str = "#/components/schemas/Problem";
const PROBLEM_TYPE: &str = "application/problem+json";
/// Operations that nobody need be signed in for.
const OPEN_TO_ALL: [&str; 2] = ["sign_in", "health"];

/// What the handlers do not say.
#[derive(OpenApi)]
#[openapi(
    // Enumerations used in queries only, which are not found by themselves.
    components(schemas(
        executions::ExecutionOrderWord,
        index_review::IndexFindingOrderWord,
        kept_reports::KeptReportOrderWord,
        load::DimensionWord,
        log::LogOrderWord,
        reports::ReportFormWord,
        statements::StatementOrderWord,
        audit::AuditOrderWord,
        actions::ActionOrderWord
    )),
    info(
    title = "Hurnix",
    description = "Figures, changes and advice for database administrators. Errors are problem details (RFC 9457): each refusal names the field, the value and the remedy.",
    license(name = "Apache-2.0", identifier = "Apache-2.0")
))]
pub struct Document;

/// The document with all refusals of every operation, and an example of each.
pub fn complete(mut document: Described) -> Described {
    let examples = Examples::of(document.components.as_ref());
    for item in document.paths.paths.values_mut() {
        for (operation, changes) in operations(item) {
            add_refusals(operation, changes);
            examples.add_to(operation);
        }
    }
    document
}

/// The operations of a path, with whether they change something.
fn operations(item: &mut PathItem) -> impl Iterator<Item = (&mut Operation, bool)> {
    let PathItem { get, put, post, delete, patch, .. } = item;
    [(get, false), (put, true), (post, true), (delete, true), (patch, true)]
        .into_iter()
        .filter_map(|(operation, changes)| Some((operation.as_mut()?, changes)))
}

fn add_refusals(operation: &mut Operation, changes: bool) {
    let is_open = operation.operation_id.as_deref().is_some_and(|id| OPEN_TO_ALL.contains(&id));
    let takes = |place: ParameterIn| {
        let parameters = operation.parameters.iter().flatten();
        parameters.into_iter().any(|parameter| matches!(parameter, RefOr::T(one) if one.parameter_in == place))
    };
    let (in_path, in_query, in_body) =
        (takes(ParameterIn::Path), takes(ParameterIn::Query), operation.request_body.is_some());
    let statuses = [
        (400, in_path || in_body),
        (401, !is_open || changes),
        // A right that is missing, a one-time password, a page of somebody else's.
        (403, !is_open || changes),
        (404, in_path),
        (408, in_body),
        (413, in_body),
        (415, in_body),
        (422, in_path || in_query || in_body),
        (503, true),
    ];
    for (status, _) in statuses.into_iter().filter(|(_, holds)| *holds) {
        let problem = Content::builder().schema(Some(Ref::new(PROBLEM))).build();
        let response = Response::builder().content(PROBLEM_TYPE, problem).build();
        operation.responses.responses.entry(status.to_string()).or_insert(RefOr::T(response));
    }
    for (status, response) in &mut operation.responses.responses {
        let RefOr::T(response) = response else { continue };
        if response.description.is_empty() {
            response.description = meaning(status).into();
        }
        let is_problem = |content: &RefOr<Content>| matches!(content, RefOr::T(Content { schema: Some(RefOr::Ref(of)), .. }) if of.ref_location == PROBLEM);
        if response.content.get("application/json").is_some_and(is_problem)
            && let Some(content) = response.content.shift_remove("application/json")
        {
            response.content.insert(PROBLEM_TYPE.into(), content);
        }
    }
}

fn meaning(status: &str) -> &'static str {
    match status {
        "200" => "As asked.",
        "201" => "Made.",
        "202" => "Asked for; it is done as soon as it can be.",
        "204" => "Done.",
        "400" => "The request cannot be read.",
        "401" => "Nobody is signed in, or the password is wrong.",
        "403" => "The account may not do this, or the request comes from another page.",
        "404" => "There is no such thing.",
        "408" => "The body did not come in whole in time.",
        "409" => "It does not fit how things stand.",
        "413" => "The body is too large.",
        "415" => "The body is no JSON.",
        "422" => "An input is not right.",
        "429" => "Too many wrong passwords; the header Retry-After says for how long.",
        "503" => "The repository is away.",
        _ => "",
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_refusal_is_a_problem_document_and_said_to_be_one() {
        let mut document = crate::api_document();
        let mut seen = 0;
        for (path, item) in &mut document.paths.paths {
            for (operation, _) in operations(item) {
                let id = operation.operation_id.clone().unwrap_or_default();
                for (status, response) in &operation.responses.responses {
                    let RefOr::T(response) = response else { panic!("{id} {status}") };
                    assert!(!response.description.is_empty(), "{path} {id} {status}");
                    if status.as_str() >= "400" && id != "health" {
                        assert!(response.content.contains_key(PROBLEM_TYPE), "{path} {id} {status}");
                        seen += 1;
                    }
                }
            }
        }
        assert!(seen > 300, "{seen}");
    }
}
