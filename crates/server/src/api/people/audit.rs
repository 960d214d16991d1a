//! The audit trail, for administrators.

use axum::Json;
use axum::extract::State;
use axum::http::header;
use axum::response::{IntoResponse, Response};
use chrono::{DateTime, Utc};
use hurnix_core::{Named, Window};
use hurnix_store::{AuditFilter, AuditOrder, AuditRow};
use serde::{Deserialize, Serialize};
use utoipa::{IntoParams, ToSchema};

use crate::api::base::extract::{Administrator, Query};
use crate::api::base::figures::Id;
use crate::api::base::problem::{Answer, FieldProblem, Problem};
use crate::api::base::window::{WindowQuery, moment};
use crate::api::base::word::{AuditOutcomeWord, Word};
use crate::api::diagnose::statements::page;
use crate::csv::{self, safe};
use crate::state::App;

/// Entries that are exported at most.
const MOST_EXPORTED: i64 = 100_000;

/// What to sort entries of the audit trail by.
pub type AuditOrderWord = Word<AuditOrder>;

/// Which entries of the audit trail.
#[derive(Debug, Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub struct AuditQuery {
    /// Begin of the window.
    from: DateTime<Utc>,
    /// Its end.
    to: DateTime<Utc>,
    /// Only of this account.
    account: Option<String>,
    /// Only this action.
    action: Option<String>,
    /// Only with this outcome.
    #[param(inline)]
    outcome: Option<AuditOutcomeWord>,
    /// Only those whose instance, detail, account or address contains this, whatever its case.
    search: Option<String>,
    /// What to sort by; time when left out.
    sort: Option<AuditOrderWord>,
    /// Smallest (or oldest) first.
    ascending: Option<bool>,
    /// Page, from 1; 1 when left out.
    #[param(minimum = 1)]
    page: Option<u32>,
    /// Entries on a page; 25 when left out.
    #[param(minimum = 1, maximum = 200)]
    page_size: Option<u32>,
}

impl AuditQuery {
    fn window(&self) -> Result<Window, Problem> {
        WindowQuery { from: self.from, to: self.to }.window()
    }

    fn filter(self, offset: i64, limit: i64) -> AuditFilter {
        let AuditQuery { account, action, outcome, search, sort, ascending, .. } = self;
        let outcome = outcome.map(|Word(outcome)| outcome);
        let order = sort.map(|sort| sort.0).unwrap_or_default();
        AuditFilter { account, action, outcome, search, order, ascending: ascending.unwrap_or(false), offset, limit }
    }
}

/// Entries of the audit trail.
#[derive(Serialize, ToSchema)]
pub struct AuditPage {
    /// In the order asked for.
    entries: Vec<AuditFigures>,
    /// How many match in all.
    matching: i64,
}

/// Something that somebody changed, or tried to.
#[derive(Serialize, ToSchema)]
pub struct AuditFigures {
    /// Number.
    audit_id: Id,
    /// When.
    at: DateTime<Utc>,
    /// Name of the account, or what was given as one.
    account: String,
    /// How it was recognised: `session`, `password`, the name of a token, or `command`.
    means: String,
    /// Address that it came from.
    client: String,
    /// What it was: the name of an operation of this API, or of a command.
    action: String,
    /// Label of the instance that it was about.
    instance: Option<String>,
    /// What else is to be known of it.
    detail: String,
    /// What came of it; `begun` while that is not known.
    outcome: AuditOutcomeWord,
}

impl From<AuditRow> for AuditFigures {
    fn from(row: AuditRow) -> Self {
        AuditFigures {
            audit_id: Id(row.audit_id),
            at: moment(row.at),
            account: row.account,
            means: row.means,
            client: row.client,
            action: row.action,
            instance: row.instance,
            detail: row.detail,
            outcome: Word(row.outcome),
        }
    }
}

/// Who changed or tried to change what, the newest first unless asked for otherwise.
#[utoipa::path(get, path = "/audit", tag = "accounts", params(AuditQuery),
    responses((status = 200, body = AuditPage)))]
pub async fn list_audit(
    State(app): State<App>,
    _: Administrator,
    Query(query): Query<AuditQuery>,
) -> Answer<AuditPage> {
    let window = query.window()?;
    let (page, page_size) = page(query.page, query.page_size)?;
    let filter = query.filter(i64::from(page - 1) * i64::from(page_size), i64::from(page_size));
    let (rows, matching) = app.store.audit(window, &filter).await?;
    Ok(Json(AuditPage { entries: rows.into_iter().map(AuditFigures::from).collect(), matching }))
}

/// The same as a file of comma-separated values (RFC 4180), 100,000 entries at most.
#[utoipa::path(get, path = "/audit.csv", tag = "accounts", params(AuditQuery),
    responses((status = 200, body = String, content_type = "text/csv")))]
pub async fn export_audit(
    State(app): State<App>,
    _: Administrator,
    Query(query): Query<AuditQuery>,
) -> Result<Response, Problem> {
    let window = query.window()?;
    let from = query.from;
    // All pages are exported; what is no page is told all the same.
    page(query.page, query.page_size)?;
    let (rows, matching) = app.store.audit(window, &query.filter(0, MOST_EXPORTED)).await?;
    if matching > MOST_EXPORTED {
        let remedy = format!("{matching} entries match, and a file holds {MOST_EXPORTED}: give a later begin.");
        return Err(Problem::invalid(vec![FieldProblem::new("from", from.to_rfc3339(), remedy)]));
    }
    let heads = ["at", "account", "means", "client", "action", "instance", "detail", "outcome"];
    let rows = rows.into_iter().map(|row| {
        let at = moment(row.at).to_rfc3339();
        let instance = row.instance.unwrap_or_default();
        [at, row.account, row.means, row.client, row.action, instance, row.detail, row.outcome.name().into()].map(safe)
    });
    let text = csv::text(&heads, rows).map_err(Problem::internal)?;
    let name = format!("attachment; filename=\"hurnix-audit-{}.csv\"", moment(window.to).format("%Y%m%d-%H%M"));
    let headers = [(header::CONTENT_TYPE, "text/csv; charset=utf-8".to_owned()), (header::CONTENT_DISPOSITION, name)];
    Ok((headers, text).into_response())
}
