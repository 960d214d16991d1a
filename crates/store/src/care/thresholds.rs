use hurnix_core::Named;
use hurnix_core::findings::figure::ServerFigure;
use hurnix_core::findings::health::Health;
use hurnix_core::findings::normal_range::Side;
use hurnix_core::findings::threshold::{Scope, SetThreshold, Threshold};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, StoreProblem};

fn threshold(row: &PgRow) -> Result<SetThreshold> {
    let unreadable = |reason: String| StoreProblem::Unreadable { what: "threshold", reason };
    let (figure, side, verdict) =
        (row.get::<String, _>("figure"), row.get::<&str, _>("side"), row.get::<&str, _>("verdict"));
    Ok(SetThreshold {
        threshold_id: row.get("threshold_id"),
        scope: match (row.get::<Option<i32>, _>("instance_id"), row.get::<Option<String>, _>("group_name")) {
            (Some(id), _) => Scope::Instance(id),
            (None, Some(group)) => Scope::Group(group),
            (None, None) => Scope::All,
        },
        is_on: row.get("is_on"),
        threshold: Threshold {
            figure: ServerFigure::named(&figure).ok_or_else(|| unreadable(format!("there is no figure {figure}")))?,
            object: row.get("object"),
            side: Side::named(side).ok_or_else(|| unreadable(format!("there is no side {side}")))?,
            value: row.get("value"),
            clears_at: row.get("clears_at"),
            lasts_seconds: row.get("lasts_seconds"),
            verdict: Health::named(verdict).ok_or_else(|| unreadable(format!("there is no verdict {verdict}")))?,
            step: row.get("step"),
        },
    })
}

impl Store {
    /// All thresholds that are set, in the order in which they were.
    pub async fn thresholds(&self) -> Result<Vec<SetThreshold>> {
        let rows = sqlx::query("SELECT * FROM threshold ORDER BY threshold_id").fetch_all(&self.pool).await?;
        rows.iter().map(threshold).collect()
    }

    /// Keeps a threshold: a new one where it has no number yet. Answers its number; nothing where there is none of that
    /// number.
    ///
    /// # Errors
    /// Where one of the same figure, object, side and urgency is set for the same scope.
    pub async fn write_threshold(&self, threshold_id: Option<i32>, set: &SetThreshold) -> Result<Option<i32>> {
        let (instance_id, group) = match &set.scope {
            Scope::All => (None, None),
            Scope::Group(group) => (None, Some(group)),
            Scope::Instance(id) => (Some(*id), None),
        };
        let sql = match threshold_id {
            None => {
                "INSERT INTO threshold (instance_id, group_name, figure, object, side, value, clears_at, lasts_seconds, verdict, step, is_on)
                 VALUES ($2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) RETURNING coalesce($1, threshold_id)"
            }
            Some(_) => {
                "UPDATE threshold SET instance_id = $2, group_name = $3, figure = $4, object = $5, side = $6, value = $7, clears_at = $8,
                        lasts_seconds = $9, verdict = $10, step = $11, is_on = $12 WHERE threshold_id = $1 RETURNING threshold_id"
            }
        };
        let Threshold { figure, object, side, value, clears_at, lasts_seconds, verdict, step } = &set.threshold;
        let written = sqlx::query_scalar(sql)
            .bind(threshold_id)
            .bind(instance_id)
            .bind(group)
            .bind(figure.name())
            .bind(object)
            .bind(side.name())
            .bind(value)
            .bind(clears_at)
            .bind(lasts_seconds)
            .bind(verdict.name())
            .bind(step)
            .bind(set.is_on)
            .fetch_optional(&self.pool)
            .await;
        match written {
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => {
                Err(StoreProblem::Taken { field: "figure", what: "such a threshold", value: figure.name() })
            }
            other => Ok(other?),
        }
    }

    /// Forgets a threshold. Says whether there was one.
    pub async fn remove_threshold(&self, threshold_id: i32) -> Result<bool> {
        let gone =
            sqlx::query("DELETE FROM threshold WHERE threshold_id = $1").bind(threshold_id).execute(&self.pool).await?;
        Ok(gone.rows_affected() > 0)
    }
}
