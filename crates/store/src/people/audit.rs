use hurnix_core::access::audit_outcome::AuditOutcome;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::postgres::PgRow;
use sqlx::{Postgres, QueryBuilder, Row};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::statements::escape_pattern;
use crate::{Result, Store, at, time, word};

/// Something that somebody did or tried, to be added to the audit trail.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AuditEntry {
    /// Name of the account, or what was given as one.
    pub account: String,
    /// `session`, the name of a token, or `command`.
    pub means: String,
    /// Address that it came from.
    pub client: String,
    /// What it was.
    pub action: String,
    /// The instance that it was about.
    pub instance_id: Option<i32>,
    /// What else is to be known of it.
    pub detail: String,
    /// What came of it.
    pub outcome: AuditOutcome,
}

/// An entry of the audit trail.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AuditRow {
    /// Number.
    pub audit_id: i64,
    /// When.
    pub at: Timestamp,
    /// Name of the account, or what was given as one.
    pub account: String,
    /// `session`, the name of a token, or `command`.
    pub means: String,
    /// Address that it came from.
    pub client: String,
    /// What it was.
    pub action: String,
    /// Label of the instance that it was about.
    pub instance: Option<String>,
    /// What else is to be known of it.
    pub detail: String,
    /// What came of it.
    pub outcome: AuditOutcome,
}

/// What entries can be sorted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum AuditOrder {
    /// When.
    #[default]
    At,
    /// Name of the account.
    Account,
    /// What it was.
    Action,
    /// Label of the instance.
    Instance,
    /// What came of it.
    Outcome,
}

/// Which entries to list.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct AuditFilter {
    /// Only of this account.
    pub account: Option<String>,
    /// Only this action.
    pub action: Option<String>,
    /// Only with this outcome.
    pub outcome: Option<AuditOutcome>,
    /// Only those whose instance, detail, account or address contains this, whatever its case.
    pub search: Option<String>,
    /// What they are sorted by; those alike by their time, the newest first.
    pub order: AuditOrder,
    /// Smallest (or oldest) first.
    pub ascending: bool,
    /// So many of the first are left out.
    pub offset: i64,
    /// So many at most.
    pub limit: i64,
}

/// Longest detail of an entry, in characters; longer ones are cut.
const MOST_DETAIL_LETTERS: usize = 2_000;

/// A detail as it can be kept.
fn kept(detail: &str) -> String {
    detail.chars().filter(|letter| *letter != '\0').take(MOST_DETAIL_LETTERS).collect()
}

impl Store {
    /// Adds to the audit trail. The label of the instance is that of now.
    pub async fn add_audit(&self, entry: &AuditEntry) -> Result<()> {
        self.insert_audit(entry, entry.outcome).await.map(drop)
    }

    /// Adds something that is about to be done; answers with the entry's number, by which it is closed.
    pub async fn begin_audit(&self, entry: &AuditEntry) -> Result<i64> {
        self.insert_audit(entry, AuditOutcome::Begun).await
    }

    /// Closes an entry with what came of it, once.
    pub async fn end_audit(&self, audit_id: i64, detail: &str, outcome: AuditOutcome) -> Result<()> {
        sqlx::query("UPDATE audit SET detail = $2, outcome = $3 WHERE audit_id = $1 AND outcome = 'begun'")
            .bind(audit_id)
            .bind(kept(detail))
            .bind(outcome.name())
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    async fn insert_audit(&self, entry: &AuditEntry, outcome: AuditOutcome) -> Result<i64> {
        let audit_id = sqlx::query_scalar(
            "INSERT INTO audit (account, means, client, action, instance_id, instance, detail, outcome)
             VALUES ($1, $2, $3, $4, $5, (SELECT label FROM instance WHERE instance_id = $5), $6, $7)
             RETURNING audit_id",
        )
        .bind(&entry.account)
        .bind(&entry.means)
        .bind(&entry.client)
        .bind(&entry.action)
        .bind(entry.instance_id)
        .bind(kept(&entry.detail))
        .bind(outcome.name())
        .fetch_one(&self.pool)
        .await?;
        Ok(audit_id)
    }

    /// Entries of a window, and how many match in all.
    pub async fn audit(&self, window: Window, filter: &AuditFilter) -> Result<(Vec<AuditRow>, i64)> {
        let mut sql = QueryBuilder::new("SELECT count(*)");
        push_matching(&mut sql, window, filter);
        let matching = sql.build_query_scalar().fetch_one(&self.pool).await?;
        let mut sql = QueryBuilder::new("SELECT *");
        push_matching(&mut sql, window, filter);
        let (column, direction) = (filter.order.name(), if filter.ascending { "ASC" } else { "DESC" });
        sql.push(format_args!(" ORDER BY {column} {direction} NULLS LAST, at DESC, audit_id DESC OFFSET "));
        sql.push_bind(filter.offset);
        sql.push(" LIMIT ").push_bind(filter.limit);
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok((rows.iter().map(audit_row).collect::<Result<_>>()?, matching))
    }
}

fn push_matching(sql: &mut QueryBuilder<Postgres>, window: Window, filter: &AuditFilter) {
    sql.push(" FROM audit WHERE at > ").push_bind(time(window.from));
    sql.push(" AND at <= ").push_bind(time(window.to));
    let outcome = filter.outcome.map(|outcome| outcome.name().to_owned());
    for (column, wanted) in [("account", &filter.account), ("action", &filter.action), ("outcome", &outcome)] {
        if let Some(wanted) = wanted {
            sql.push(format_args!(" AND {column} = ")).push_bind(wanted.clone());
        }
    }
    if let Some(search) = &filter.search {
        sql.push(" AND searched LIKE ");
        sql.push_bind(format!("%{}%", escape_pattern(&search.to_lowercase())));
    }
}

fn audit_row(row: &PgRow) -> Result<AuditRow> {
    Ok(AuditRow {
        audit_id: row.get("audit_id"),
        at: at(row.get("at")),
        account: row.get("account"),
        means: row.get("means"),
        client: row.get("client"),
        action: row.get("action"),
        instance: row.get("instance"),
        detail: row.get("detail"),
        outcome: word(row, "outcome")?,
    })
}
