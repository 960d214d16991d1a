use axum::Json;
use axum::http::{HeaderValue, Method, StatusCode, header};
use axum::response::{IntoResponse, Response};
use hurnix_source::{ConnectProblem, Obstacle, ReadProblem};
use hurnix_store::StoreProblem;
use serde::Serialize;
use utoipa::ToSchema;

use crate::api::base::window::Span;

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
    /// The inputs that are at fault; never none where the request was refused.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub errors: Vec<FieldProblem>,
    /// Seconds after which it is worth trying again, for the header `Retry-After`.
    #[serde(skip)]
    pub retry_after_seconds: Option<u64>,
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
    /// Of a period that cannot be reported on as a whole: its parts that can.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Span>,
}

/// Which problem a response tells of, for what passes it on.
#[derive(Debug, Clone)]
pub struct ProblemKind(pub String);

impl FieldProblem {
    /// A secret at fault: its value is not repeated.
    pub fn secret(field: &str, remedy: impl Into<String>) -> Self {
        FieldProblem::new(field, "", remedy)
    }

    /// An input at fault.
    pub fn new(field: &str, value: impl ToString, remedy: impl Into<String>) -> Self {
        FieldProblem { field: field.into(), value: value.to_string(), remedy: remedy.into(), parts: Vec::new() }
    }
}

impl Problem {
    fn new(status: StatusCode, kind: &str, title: &str, errors: Vec<FieldProblem>) -> Self {
        let told = |error: &FieldProblem| match error.value.as_str() {
            "" => format!("{}: {}", error.field, error.remedy),
            value => format!("{} {value:?}: {}", error.field, error.remedy),
        };
        let detail: Vec<String> = errors.iter().map(told).collect();
        Problem::told(status, kind, title, detail.join(" "), errors)
    }

    fn told(status: StatusCode, kind: &str, title: &str, detail: String, errors: Vec<FieldProblem>) -> Self {
        Problem {
            kind: format!("urn:hurnix:problem:{kind}"),
            title: title.into(),
            status: status.as_u16(),
            detail,
            errors,
            retry_after_seconds: None,
        }
    }

    /// One input is at fault, and its remedy says all there is to say.
    fn of_one(status: StatusCode, kind: &str, title: &str, error: FieldProblem) -> Self {
        Problem::told(status, kind, title, error.remedy.clone(), vec![error])
    }

    /// Inputs are at fault.
    pub fn invalid(errors: Vec<FieldProblem>) -> Self {
        Problem::new(StatusCode::UNPROCESSABLE_ENTITY, "invalid", "An input is not right", errors)
    }

    /// The request cannot be read.
    pub fn unreadable(status: StatusCode, error: FieldProblem) -> Self {
        Problem::new(status, "unreadable", "The request could not be read", vec![error])
    }

    /// Nobody is signed in.
    pub fn sign_in() -> Self {
        let error = FieldProblem::secret("authorization", "Sign in first: there is no session, or it has ended.");
        Problem::of_one(StatusCode::UNAUTHORIZED, "sign-in", "You are not signed in", error)
    }

    /// Name or password is wrong.
    pub fn wrong_password() -> Self {
        let error = FieldProblem::secret("password", "There is no account with this name and password.");
        Problem::of_one(StatusCode::UNAUTHORIZED, "wrong-password", "Not signed in", error)
    }

    /// A one-time password serves for nothing but to set another.
    pub fn set_password() -> Self {
        let remedy = "The password is a one-time password: set another one first, by PUT /api/v1/account/password.";
        let error = FieldProblem::secret("password", remedy);
        Problem::of_one(StatusCode::FORBIDDEN, "set-password", "Set another password first", error)
    }

    /// Too many wrong passwords: the next one is looked at after so many seconds.
    pub fn wait(seconds: f64) -> Self {
        let whole_seconds = seconds.ceil();
        let remedy = format!(
            "Too many wrong passwords were given. Try again in {whole_seconds} s. Who forgot theirs gets a one-time password from an administrator, and an administrator from the command hurnix account reset.",
        );
        let error = FieldProblem::secret("password", remedy);
        Problem {
            retry_after_seconds: Some(whole_seconds as u64),
            ..Problem::of_one(StatusCode::TOO_MANY_REQUESTS, "wait", "Wait before you try again", error)
        }
    }

    /// No token, or not the right one.
    pub fn show_token() -> Self {
        let remedy = "Show the instance's scrape token as Authorization: Bearer …; an administrator makes one by POST /api/v1/instances/{instance_id}/scrape-token.";
        let error = FieldProblem::secret("authorization", remedy);
        Problem::of_one(StatusCode::UNAUTHORIZED, "show-token", "The token is missing or wrong", error)
    }

    /// The account may not do that, or the request does not come from our pages.
    pub fn forbidden(error: FieldProblem) -> Self {
        Problem::of_one(StatusCode::FORBIDDEN, "forbidden", "This is not allowed", error)
    }

    /// There is no such thing; `field` is what names it in the address.
    pub fn not_found(field: &str, what: &str, value: impl ToString) -> Self {
        let value = value.to_string();
        let remedy = format!("There is no {what} {value}. It may have been removed; go back to the list.");
        let error = FieldProblem::new(field, value, remedy);
        Problem::of_one(StatusCode::NOT_FOUND, "not-found", "There is no such thing", error)
    }

    /// There is no such address.
    pub fn no_such_address(path: &str) -> Self {
        let remedy = format!("Nothing is at {path}. /api/openapi.json lists all addresses.");
        let error = FieldProblem::new("path", path, remedy);
        Problem::of_one(StatusCode::NOT_FOUND, "no-such-address", "There is no such address", error)
    }

    /// The address takes other methods.
    pub fn method_not_allowed(method: &Method) -> Self {
        let error =
            FieldProblem::new("method", method, "This address takes other methods. /api/openapi.json lists them.");
        Problem::of_one(StatusCode::METHOD_NOT_ALLOWED, "method", "This method does nothing here", error)
    }

    /// What was asked does not fit how things stand.
    pub fn conflict(error: FieldProblem) -> Self {
        Problem::of_one(StatusCode::CONFLICT, "conflict", "This does not fit how things stand", error)
    }

    /// A watched server could not be reached or used.
    pub fn connection(problem: &ConnectProblem) -> Self {
        let detail = format!("{}\n{}", problem.message, problem.remedy);
        let errors = vec![FieldProblem::secret(field_of(problem.obstacle), detail.clone())];
        let status = StatusCode::UNPROCESSABLE_ENTITY;
        Problem::told(status, "connection", "The server could not be connected", detail, errors)
    }

    /// A watched server did not answer what it was asked.
    pub fn reading(problem: &ReadProblem) -> Self {
        let detail =
            format!("The server did not answer: {problem}.\nRetry in a moment; Collection shows how reading goes.");
        let errors = vec![FieldProblem::secret("instance_id", detail.clone())];
        Problem::told(StatusCode::BAD_GATEWAY, "reading", "The server could not be read", detail, errors)
    }

    /// Our own fault: logged in full, told in brief.
    pub fn internal(error: impl std::fmt::Display) -> Self {
        tracing::error!(%error, "a request failed");
        let detail = "Hurnix could not answer. Its log says why; try again.".to_owned();
        let status = StatusCode::INTERNAL_SERVER_ERROR;
        Problem::told(status, "internal", "Something went wrong inside Hurnix", detail, Vec::new())
    }

    /// The repository is away or overloaded: why goes into the log.
    fn repository_away(problem: &StoreProblem) -> Self {
        tracing::warn!(%problem, "the repository did not answer a request");
        let detail = "The repository does not answer. Hurnix goes on as soon as it does.".to_owned();
        let status = StatusCode::SERVICE_UNAVAILABLE;
        Problem::told(status, "repository-away", "The repository is away", detail, Vec::new())
    }
}

/// The input of a connection that an obstacle is about.
fn field_of(obstacle: Obstacle) -> &'static str {
    match obstacle {
        Obstacle::PortClosed | Obstacle::NotSupported => "port",
        Obstacle::WrongPassword | Obstacle::PasswordInClear => "password",
        Obstacle::PrivilegeMissing => "account",
        Obstacle::NoSuchDatabase => "database",
        Obstacle::Tls => "tls",
        Obstacle::UnknownHost
        | Obstacle::TimedOut
        | Obstacle::HostNotPermitted
        | Obstacle::TooManyConnections
        | Obstacle::NotReady
        | Obstacle::Oversized
        | Obstacle::Other => "host",
    }
}

impl From<StoreProblem> for Problem {
    fn from(problem: StoreProblem) -> Self {
        match problem {
            StoreProblem::Taken { field, what, value } => {
                let remedy = format!("There is {what} {value} already. Choose another name.");
                Problem::conflict(FieldProblem::new(field, value, remedy))
            }
            passing if passing.is_passing() => Problem::repository_away(&passing),
            other => Problem::internal(other),
        }
    }
}

impl IntoResponse for Problem {
    fn into_response(self) -> Response {
        let status = StatusCode::from_u16(self.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let retry_after = self.retry_after_seconds.map(HeaderValue::from);
        let kind = ProblemKind(self.kind.rsplit(':').next().unwrap_or_default().to_owned());
        let mut response = (status, Json(self)).into_response();
        response.extensions_mut().insert(kind);
        response.headers_mut().insert(header::CONTENT_TYPE, HeaderValue::from_static("application/problem+json"));
        if let Some(seconds) = retry_after {
            response.headers_mut().insert(header::RETRY_AFTER, seconds);
        }
        response
    }
}

/// What handlers return.
pub type Answer<T> = Result<axum::Json<T>, Problem>;
