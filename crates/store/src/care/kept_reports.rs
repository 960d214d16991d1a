//! Reports that are kept, with what people wrote to them.

use chrono::{DateTime, Utc};
use hurnix_core::{Timestamp, Window};
use sqlx::postgres::PgRow;
use sqlx::{Postgres, QueryBuilder, Row};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::statements::escape_pattern;
use crate::{Result, Store, at, time};

/// What is kept of a report besides its document.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeptReport {
    /// Number.
    pub report_id: i64,
    /// The instance that it is of, with its label; nothing where it is of many.
    pub instance: Option<(i32, String)>,
    /// The group of that instance, or the group whose instances it is of; only who sees that group sees it.
    pub group: Option<String>,
    /// Number of the schedule that made it, while that exists.
    pub schedule_id: Option<i32>,
    /// Name of its kind.
    pub kind: String,
    /// Its title.
    pub title: String,
    /// The period that it is of.
    pub span: Window,
    /// When it was made.
    pub made_at: Timestamp,
    /// Who made it, or the schedule.
    pub made_by: String,
    /// What people wrote to it.
    pub words: String,
    /// Who wrote that last, and when.
    pub written: Option<(String, Timestamp)>,
}

/// A report that is to be kept.
#[derive(Debug, Clone)]
pub struct NewKeptReport<'a> {
    /// The instance that it is of; nothing where it is of many.
    pub instance_id: Option<i32>,
    /// The group whose instances it is of.
    pub group: Option<&'a str>,
    /// The schedule that made it.
    pub schedule_id: Option<i32>,
    /// Name of its kind.
    pub kind: &'a str,
    /// Its title.
    pub title: &'a str,
    /// The period that it is of.
    pub span: Window,
    /// When it was made.
    pub made_at: Timestamp,
    /// Who made it.
    pub made_by: &'a str,
    /// The report as JSON.
    pub document: serde_json::Value,
}

/// What kept reports can be sorted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum KeptReportOrder {
    /// When it was made.
    #[default]
    Made,
    /// Its title.
    Title,
    /// Begin of the period that it is of.
    Span,
    /// Who made it.
    By,
}

impl KeptReportOrder {
    fn column(self) -> &'static str {
        match self {
            Self::Made => "r.made_at",
            Self::Title => "lower(r.title)",
            Self::Span => "r.from_at",
            Self::By => "lower(r.made_by)",
        }
    }
}

/// Which kept reports to list.
#[derive(Debug, Clone, Default)]
pub struct KeptReportFilter {
    /// Only those of this instance.
    pub instance_id: Option<i32>,
    /// Only those of this kind.
    pub kind: Option<String>,
    /// Only those whose title, maker or words contain this, whatever its case.
    pub search: Option<String>,
    /// Of these groups only; of all where nothing is given.
    pub groups: Option<Vec<String>>,
    /// What they are sorted by; those alike by when they were made, the newest first.
    pub order: KeptReportOrder,
    /// Smallest (or oldest) first.
    pub ascending: bool,
    /// Reports to pass over.
    pub offset: i64,
    /// Reports to return.
    pub limit: i64,
}

const SELECT: &str = "SELECT r.report_id, r.instance_id, i.label, coalesce(i.group_name, r.group_name) AS seen_by, r.schedule_id, r.kind, r.title,
        r.from_at, r.to_at, r.made_at, r.made_by, r.words, r.words_by, r.words_at";
const FROM: &str = " FROM kept_report r LEFT JOIN instance i USING (instance_id)";

fn kept(row: &PgRow) -> KeptReport {
    let (words_by, words_at): (Option<String>, Option<DateTime<Utc>>) = (row.get("words_by"), row.get("words_at"));
    KeptReport {
        report_id: row.get("report_id"),
        instance: row.get::<Option<i32>, _>("instance_id").map(|id| (id, row.get("label"))),
        group: row.get("seen_by"),
        schedule_id: row.get("schedule_id"),
        kind: row.get("kind"),
        title: row.get("title"),
        span: Window { from: at(row.get("from_at")), to: at(row.get("to_at")) },
        made_at: at(row.get("made_at")),
        made_by: row.get("made_by"),
        words: row.get("words"),
        written: words_by.zip(words_at.map(at)),
    }
}

fn push_matching(sql: &mut QueryBuilder<Postgres>, filter: &KeptReportFilter) {
    sql.push(FROM).push(" WHERE true");
    if let Some(instance_id) = filter.instance_id {
        sql.push(" AND r.instance_id = ").push_bind(instance_id);
    }
    if let Some(kind) = &filter.kind {
        sql.push(" AND r.kind = ").push_bind(kind.clone());
    }
    if let Some(search) = &filter.search {
        sql.push(" AND concat_ws(' ', r.title, r.made_by, r.words) ILIKE ");
        sql.push_bind(format!("%{}%", escape_pattern(search)));
    }
    if let Some(groups) = &filter.groups {
        sql.push(" AND coalesce(i.group_name, r.group_name) = ANY(").push_bind(groups.clone()).push(")");
    }
}

impl Store {
    /// Keeps a report; answers its number.
    pub async fn keep_report(&self, new: &NewKeptReport<'_>) -> Result<i64> {
        Ok(sqlx::query_scalar(
            "INSERT INTO kept_report (instance_id, group_name, schedule_id, kind, title, from_at, to_at, made_at, made_by, document)
             VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) RETURNING report_id",
        )
        .bind(new.instance_id)
        .bind(new.group)
        .bind(new.schedule_id)
        .bind(new.kind)
        .bind(new.title)
        .bind(time(new.span.from))
        .bind(time(new.span.to))
        .bind(time(new.made_at))
        .bind(new.made_by)
        .bind(&new.document)
        .fetch_one(&self.pool)
        .await?)
    }

    /// Kept reports of a page, and how many match in all.
    pub async fn kept_reports(&self, filter: &KeptReportFilter) -> Result<(Vec<KeptReport>, i64)> {
        let mut sql = QueryBuilder::new("SELECT count(*)");
        push_matching(&mut sql, filter);
        let matching: i64 = sql.build_query_scalar().fetch_one(&self.pool).await?;
        let mut sql = QueryBuilder::new(SELECT);
        push_matching(&mut sql, filter);
        let (column, direction) = (filter.order.column(), if filter.ascending { "ASC" } else { "DESC" });
        sql.push(format_args!(" ORDER BY {column} {direction}, r.made_at DESC, r.report_id DESC LIMIT "));
        sql.push_bind(filter.limit).push(" OFFSET ").push_bind(filter.offset);
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok((rows.iter().map(kept).collect(), matching))
    }

    /// One kept report with its document.
    pub async fn kept_report(&self, report_id: i64) -> Result<Option<(KeptReport, serde_json::Value)>> {
        let mut sql = QueryBuilder::new(SELECT);
        sql.push(", r.document").push(FROM).push(" WHERE r.report_id = ").push_bind(report_id);
        let row = sql.build().fetch_optional(&self.pool).await?;
        Ok(row.map(|row| (kept(&row), row.get("document"))))
    }

    /// Writes words to a kept report, in place of those that are there. Says whether there is such a report.
    pub async fn write_words(&self, report_id: i64, words: &str, by: &str, now: Timestamp) -> Result<bool> {
        let done = sqlx::query("UPDATE kept_report SET words = $2, words_by = $3, words_at = $4 WHERE report_id = $1")
            .bind(report_id)
            .bind(words)
            .bind(by)
            .bind(time(now))
            .execute(&self.pool)
            .await?;
        Ok(done.rows_affected() > 0)
    }

    /// Forgets a kept report. Says whether there was one.
    pub async fn remove_kept_report(&self, report_id: i64) -> Result<bool> {
        let gone =
            sqlx::query("DELETE FROM kept_report WHERE report_id = $1").bind(report_id).execute(&self.pool).await?;
        Ok(gone.rows_affected() > 0)
    }

    /// Forgets the oldest reports of a schedule beyond so many; those that somebody wrote to stay, and do not count.
    pub async fn forget_reports_of(&self, schedule_id: i32, most_kept: i32) -> Result<u64> {
        let gone = sqlx::query(
            "DELETE FROM kept_report WHERE report_id IN (
                SELECT report_id FROM kept_report WHERE schedule_id = $1 AND words = '' ORDER BY made_at DESC, report_id DESC OFFSET $2)",
        )
        .bind(schedule_id)
        .bind(most_kept)
        .execute(&self.pool)
        .await?;
        Ok(gone.rows_affected())
    }
}
