use axum::Json;
use axum::http::{HeaderValue, StatusCode, header};
use axum::response::{IntoResponse, Response};
use hurnix_store::StoreProblem;
use serde::Serialize;
use utoipa::ToSchema;

/// What went wrong (RFC 9457).
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct Problem {
    /// Which problem, for programs.
    #[serde(rename = "type")]
    pub kind: String,
    /// Which problem, for people.
    pub title: String,
    /// HTTP status.
    pub status: u16,
    /// What exactly, and what to do.
    pub detail: String,
    /// The inputs that are at fault.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<FieldProblem>,
}

/// An input that is at fault.
#[derive(Debug, Clone, Serialize, ToSchema)]
pub struct FieldProblem {
    /// Its name.
    pub field: String,
    /// What was given. Secrets are not repeated.
    pub value: String,
    /// What is wrong with it, and what to give instead.
    pub remedy: String,
}

/// Which problem a response tells of, for what passes it on.
#[derive(Debug, Clone)]
pub struct ProblemKind(pub String);

impl FieldProblem {
    /// A secret at fault: its value is not repeated.
    pub fn secret(field: &str, remedy: impl Into<String>) -> Self {
        FieldProblem { field: field.into(), value: String::new(), remedy: remedy.into() }
    }

    /// An input at fault.
    pub fn new(field: &str, value: impl ToString, remedy: impl Into<String>) -> Self {
        FieldProblem { field: field.into(), value: value.to_string(), remedy: remedy.into() }
    }
}

impl Problem {
    fn new(status: StatusCode, kind: &str, title: &str, detail: impl Into<String>) -> Self {
        Problem {
            kind: format!("urn:hurnix:problem:{kind}"),
            title: title.into(),
            status: status.as_u16(),
            detail: detail.into(),
            errors: Vec::new(),
        }
    }

    /// Inputs are at fault.
    pub fn invalid(errors: Vec<FieldProblem>) -> Self {
        let told = |error: &FieldProblem| match error.value.as_str() {
            "" => format!("{}: {}", error.field, error.remedy),
            value => format!("{} {value:?}: {}", error.field, error.remedy),
        };
        let detail: Vec<String> = errors.iter().map(told).collect();
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        Problem { errors, ..Problem::new(status, "invalid", "An input is not right", detail.join(" ")) }
    }

    /// The request cannot be read.
    pub fn unreadable(status: StatusCode, detail: impl Into<String>) -> Self {
        Problem::new(status, "unreadable", "The request could not be read", detail)
    }

    /// Nobody is signed in.
    pub fn sign_in() -> Self {
        let detail = "Sign in first: there is no session, or it has ended.";
        Problem::new(StatusCode::UNAUTHORIZED, "sign-in", "You are not signed in", detail)
    }

    /// Name or password is wrong.
    pub fn wrong_password() -> Self {
        let detail = "There is no account with this name and password.";
        Problem::new(StatusCode::UNAUTHORIZED, "wrong-password", "Not signed in", detail)
    }

    /// A one-time password serves for nothing but to set another.
    pub fn set_password() -> Self {
        let detail = "The password is a one-time password: set another one first, by PUT /api/v1/account/password.";
        Problem::new(StatusCode::FORBIDDEN, "set-password", "Set another password first", detail)
    }

    /// Too many wrong passwords: the next one is looked at after so many seconds.
    pub fn wait(seconds: f64) -> Self {
        let detail = format!(
            "Too many wrong passwords were given. Try again in {} s. Who forgot theirs gets a one-time password from an administrator, and an administrator from the command hurnix account reset.",
            seconds.ceil()
        );
        Problem::new(StatusCode::TOO_MANY_REQUESTS, "wait", "Wait before you try again", detail)
    }

    /// No token, or not the right one.
    pub fn show_token() -> Self {
        let detail = "Show the instance's scrape token as Authorization: Bearer …; an administrator makes one by POST /api/v1/instances/{instance_id}/scrape-token.";
        Problem::new(StatusCode::UNAUTHORIZED, "show-token", "The token is missing or wrong", detail)
    }

    /// The account may not do that, or the request does not come from our pages.
    pub fn forbidden(detail: impl Into<String>) -> Self {
        Problem::new(StatusCode::FORBIDDEN, "forbidden", "This is not allowed", detail)
    }

    /// There is no such thing.
    pub fn not_found(what: &str, value: impl ToString) -> Self {
        let value = value.to_string();
        let detail = format!("There is no {what} {value}. It may have been removed; go back to the list.");
        Problem::new(StatusCode::NOT_FOUND, "not-found", "There is no such thing", detail)
    }

    /// There is no such address.
    pub fn no_such_address(path: &str) -> Self {
        let detail = format!("Nothing is at {path}. /api/openapi.json lists all addresses.");
        Problem::new(StatusCode::NOT_FOUND, "no-such-address", "There is no such address", detail)
    }

    /// The address takes other methods.
    pub fn method_not_allowed() -> Self {
        let detail = "This address takes other methods. /api/openapi.json lists them.";
        Problem::new(StatusCode::METHOD_NOT_ALLOWED, "method", "This method does nothing here", detail)
    }

    /// What was asked does not fit how things stand.
    pub fn conflict(detail: impl Into<String>) -> Self {
        Problem::new(StatusCode::CONFLICT, "conflict", "This does not fit how things stand", detail)
    }

    /// A watched server could not be reached or used.
    pub fn connection(problem: &hurnix_source::ConnectProblem) -> Self {
        let detail = format!("{}\n{}", problem.message, problem.remedy);
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "connection", "The server could not be connected", detail)
    }

    /// Our own fault: logged in full, told in brief.
    pub fn internal(error: impl std::fmt::Display) -> Self {
        tracing::error!(%error, "a request failed");
        let detail = "Hurnix could not answer. Its log says why; try again.";
        Problem::new(StatusCode::INTERNAL_SERVER_ERROR, "internal", "Something went wrong inside Hurnix", detail)
    }

    fn repository_away() -> Self {
        let detail = "The repository does not answer. Hurnix goes on as soon as it does.";
        Problem::new(StatusCode::SERVICE_UNAVAILABLE, "repository-away", "The repository is away", detail)
    }
}

impl From<StoreProblem> for Problem {
    fn from(problem: StoreProblem) -> Self {
        match problem {
            StoreProblem::Taken(what) => Problem::conflict(format!("There is {what} already. Choose another name.")),
            StoreProblem::Database(sqlx::Error::Io(_) | sqlx::Error::PoolTimedOut) => Problem::repository_away(),
            other => Problem::internal(other),
        }
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let kind = ProblemKind(self.kind.rsplit(':').next().unwrap_or_default().to_owned());
        let mut response = (status, Json(self)).into_response();
        response.extensions_mut().insert(kind);
        response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        response
    }
}

/// What handlers return.
pub type Answer<T> = Result<axum::Json<T>, Problem>;
