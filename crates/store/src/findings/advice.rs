use chrono::{DateTime, Utc};
use hurnix_core::changes::advice::{Advice, AdviceKind, AdviceState, Outcome};
use hurnix_core::findings::effect::Effect;
use hurnix_core::{Named, Timestamp, Window};
use serde_json::Value;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, from_json, time, to_json, word};

/// Advice to be entered in the book.
#[derive(Debug, Clone, PartialEq)]
pub struct AdviceDraft {
    /// What is advised.
    pub advice: Advice,
    /// What it is about; the same advice is not entered twice.
    pub subject: String,
    /// Window of the figures that it rests on.
    pub evidence: Window,
}

/// A page of the advice book.
#[derive(Debug, Clone, PartialEq)]
pub struct AdviceRow {
    /// Number.
    pub advice_id: i64,
    /// Instance it is for.
    pub instance_id: i32,
    /// What is advised.
    pub advice: Advice,
    /// What it is about.
    pub subject: String,
    /// How far it has come.
    pub state: AdviceState,
    /// When it was first given.
    pub made_at: Timestamp,
    /// When its figures were last brought up to date.
    pub updated_at: Timestamp,
    /// Window of the figures that it rests on.
    pub evidence: Window,
    /// When it was not yet applied for certain.
    pub applied_from: Option<Timestamp>,
    /// When it was applied for certain.
    pub applied_at: Option<Timestamp>,
    /// Who said so: an account, or `collector`.
    pub applied_by: Option<String>,
    /// What came of it.
    pub effect: Option<Effect>,
    /// When that was last measured.
    pub effect_at: Option<Timestamp>,
    /// When the same would last have been advised again, and was not because of what was measured.
    pub withheld_at: Option<Timestamp>,
}

/// Which pages of the book to list.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct AdviceFilter {
    /// Only in this state.
    pub state: Option<AdviceState>,
    /// Sort by age when true, by what is predicted to be saved otherwise.
    pub by_age: bool,
    /// Rows to pass over.
    pub offset: i64,
    /// Rows to return.
    pub limit: i64,
}

/// A measured effect to be kept.
#[derive(Debug, Clone, PartialEq)]
pub struct EffectRecord<'a> {
    /// The effect.
    pub effect: &'a Effect,
    /// When it was measured.
    pub at: Timestamp,
}

/// Kinds of advice that this version knows: a later one may have left others in the book.
fn known_kinds() -> Vec<&'static str> {
    AdviceKind::all().map(Named::name).collect()
}

fn advice(row: &PgRow) -> Result<AdviceRow> {
    let effect: Option<Value> = row.get("effect");
    let moment = |column: &str| row.get::<Option<DateTime<Utc>>, _>(column).map(at);
    // Earlier versions kept the kind beside the payload alone.
    let mut payload: Value = row.get("payload");
    payload["kind"] = Value::String(row.get("kind"));
    Ok(AdviceRow {
        advice_id: row.get("advice_id"),
        instance_id: row.get("instance_id"),
        advice: from_json("advice", payload)?,
        subject: row.get("subject"),
        state: word(row, "state")?,
        made_at: at(row.get("made_at")),
        updated_at: at(row.get("updated_at")),
        evidence: Window { from: at(row.get("evidence_from")), to: at(row.get("evidence_to")) },
        applied_from: moment("applied_from"),
        applied_at: moment("applied_at"),
        applied_by: row.get("applied_by"),
        effect: effect.map(|effect| from_json("effect", effect)).transpose()?,
        effect_at: moment("effect_at"),
        withheld_at: moment("withheld_at"),
    })
}

impl Store {
    /// Enters advice, or brings the open page on the same subject up to date.
    pub async fn write_advice(&self, instance_id: i32, now: Timestamp, draft: &AdviceDraft) -> Result<()> {
        let prediction = draft.advice.told().prediction();
        sqlx::query(
            "INSERT INTO advice (instance_id, kind, subject, made_at, updated_at, evidence_from, evidence_to, saved_seconds_per_day, payload, freed_bytes)
             SELECT $1, $2, $3, $4, $4, $5, $6, $7, $8, $9
             WHERE NOT EXISTS (SELECT FROM advice WHERE instance_id = $1 AND kind = $2 AND subject = $3 AND state = 'set_aside')
             ON CONFLICT (instance_id, kind, subject) WHERE state = 'open' DO UPDATE
             SET updated_at = $4, evidence_from = $5, evidence_to = $6, saved_seconds_per_day = $7, payload = $8, freed_bytes = $9",
        )
        .bind(instance_id)
        .bind(draft.advice.kind().name())
        .bind(&draft.subject)
        .bind(time(now))
        .bind(time(draft.evidence.from))
        .bind(time(draft.evidence.to))
        .bind(prediction.saved_seconds_per_day)
        .bind(to_json("advice", &draft.advice)?)
        .bind(prediction.freed_bytes)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Notes that the same would be advised again now, and is not because of what was measured.
    pub async fn withhold_advice(&self, advice_id: i64, now: Timestamp) -> Result<()> {
        sqlx::query("UPDATE advice SET withheld_at = $2 WHERE advice_id = $1")
            .bind(advice_id)
            .bind(time(now))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// What came of all advice of an instance that was carried out, by kind.
    pub async fn advice_outcomes(&self, instance_id: i32) -> Result<Vec<Outcome>> {
        let rows = sqlx::query(
            "SELECT advice_id, kind, verdict, saved_seconds_per_day, measured_seconds_per_day FROM advice
             WHERE instance_id = $1 AND state = 'applied' AND verdict IS NOT NULL AND kind = ANY($2) ORDER BY advice_id",
        )
        .bind(instance_id)
        .bind(known_kinds())
        .fetch_all(&self.pool)
        .await?;
        rows.iter()
            .map(|row| {
                Ok(Outcome {
                    advice_id: row.get("advice_id"),
                    kind: word(row, "kind")?,
                    verdict: word(row, "verdict")?,
                    predicted_seconds_per_day: row.get("saved_seconds_per_day"),
                    measured_seconds_per_day: row.get("measured_seconds_per_day"),
                })
            })
            .collect()
    }

    /// Pages of the book for an instance, the open ones first, and how many match in all.
    pub async fn advice_list(&self, instance_id: i32, filter: &AdviceFilter) -> Result<(Vec<AdviceRow>, i64)> {
        let rows = sqlx::query(
            "SELECT * FROM advice
             WHERE instance_id = $1 AND ($2::text IS NULL OR state = $2) AND kind = ANY($6)
             ORDER BY state <> 'open', CASE WHEN $3 THEN extract(epoch FROM made_at) ELSE saved_seconds_per_day END DESC,
                      freed_bytes DESC, advice_id
             LIMIT $4 OFFSET $5",
        )
        .bind(instance_id)
        .bind(filter.state.map(Named::name))
        .bind(filter.by_age)
        .bind(filter.limit)
        .bind(filter.offset)
        .bind(known_kinds())
        .fetch_all(&self.pool)
        .await?;
        let matching = sqlx::query_scalar(
            "SELECT count(*) FROM advice WHERE instance_id = $1 AND ($2::text IS NULL OR state = $2) AND kind = ANY($3)",
        )
        .bind(instance_id)
        .bind(filter.state.map(Named::name))
        .bind(known_kinds())
        .fetch_one(&self.pool)
        .await?;
        Ok((rows.iter().map(advice).collect::<Result<_>>()?, matching))
    }

    /// One page of the book.
    pub async fn advice(&self, instance_id: i32, advice_id: i64) -> Result<Option<AdviceRow>> {
        let row = sqlx::query("SELECT * FROM advice WHERE instance_id = $1 AND advice_id = $2 AND kind = ANY($3)")
            .bind(instance_id)
            .bind(advice_id)
            .bind(known_kinds())
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(advice).transpose()
    }

    /// Moves a page to another state, if it is in `from_state`. Applied pages carry when (between which
    /// two moments) and by whom. Answers whether it moved.
    pub async fn move_advice(
        &self,
        advice_id: i64,
        from_state: AdviceState,
        to_state: AdviceState,
        applied: Option<(Window, &str)>,
    ) -> Result<bool> {
        let moved = sqlx::query(
            "UPDATE advice SET state = $3, applied_from = $4, applied_at = $5, applied_by = $6,
                    verdict = NULL, measured_seconds_per_day = NULL, effect = NULL, effect_at = NULL
             WHERE advice_id = $1 AND state = $2
               AND ($3 <> 'open' OR NOT EXISTS (SELECT FROM advice other WHERE other.state = 'open'
                    AND (other.instance_id, other.kind, other.subject) = (advice.instance_id, advice.kind, advice.subject)))",
        )
        .bind(advice_id)
        .bind(from_state.name())
        .bind(to_state.name())
        .bind(applied.map(|(window, _)| time(window.from)))
        .bind(applied.map(|(window, _)| time(window.to)))
        .bind(applied.map(|(_, by)| by))
        .execute(&self.pool)
        .await?;
        Ok(moved.rows_affected() > 0)
    }

    /// Keeps the measured effect of an applied page.
    pub async fn write_effect(&self, advice_id: i64, record: &EffectRecord<'_>) -> Result<()> {
        sqlx::query(
            "UPDATE advice SET verdict = $2, measured_seconds_per_day = $3, effect = $4, effect_at = $5
             WHERE advice_id = $1 AND state = 'applied'",
        )
        .bind(advice_id)
        .bind(record.effect.verdict.name())
        .bind(record.effect.saved_seconds_per_day.map(|saved| saved.value))
        .bind(to_json("effect", record.effect)?)
        .bind(time(record.at))
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}
