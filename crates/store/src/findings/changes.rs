use hurnix_core::findings::lasting_change::{Answer, Followed, Kept, LastingChange, Look, Measured, Subject, follow};
use hurnix_core::{Named, Timestamp};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, PgConnection, Row};

use crate::{Result, Store, at, from_json, time, to_json, word};

/// A change with all that is told of it, of the table and its families.
const SELECT: &str =
    "SELECT change_id, family_id, measured, object, coalesce(text, '') AS text, found_at, payload, story, missed,
    answer, answer_reason, answered_by, answered_at FROM lasting_change LEFT JOIN family USING (family_id)";

/// A lasting change with what it is about.
#[derive(Debug, Clone, PartialEq)]
pub struct ChangeRow {
    /// Number.
    pub change_id: i64,
    /// What changed.
    pub subject: Subject,
    /// The text of its family; empty for the server.
    pub text: String,
    /// When the change was first found.
    pub found_at: Timestamp,
    /// The change, and what became of it.
    pub kept: Kept,
    /// What somebody makes of it.
    pub answer: Option<ChangeAnswer>,
}

/// What somebody makes of a change.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ChangeAnswer {
    /// What.
    pub answer: Answer,
    /// Why, where a reason was given.
    pub reason: Option<String>,
    /// Who.
    pub by: String,
    /// When.
    pub at: Timestamp,
}

impl ChangeRow {
    /// Whether it asks for attention: it holds, and nobody has settled it.
    pub fn asks(&self) -> bool {
        self.kept.change.asks(self.answer.as_ref().map(|given| given.answer))
    }
}

fn change(row: &PgRow) -> Result<ChangeRow> {
    Ok(ChangeRow {
        change_id: row.get("change_id"),
        subject: subject(row)?,
        text: row.get("text"),
        found_at: at(row.get("found_at")),
        kept: kept(row)?,
        answer: answer(row)?,
    })
}

fn subject(row: &PgRow) -> Result<Subject> {
    Ok(Subject { family: row.get("family_id"), measured: word(row, "measured")?, object: row.get("object") })
}

fn answer(row: &PgRow) -> Result<Option<ChangeAnswer>> {
    let (Some(by), Some(answered_at)) = (row.get("answered_by"), row.get::<Option<_>, _>("answered_at")) else {
        return Ok(None);
    };
    Ok(Some(ChangeAnswer { answer: word(row, "answer")?, reason: row.get("answer_reason"), by, at: at(answered_at) }))
}

fn kept(row: &PgRow) -> Result<Kept> {
    Ok(Kept {
        change: from_json("lasting change", row.get("payload"))?,
        story: from_json("story of a lasting change", row.get("story"))?,
        missed: row.get::<i32, _>("missed").unsigned_abs(),
    })
}

impl Store {
    /// Brings the changes of an instance up to date with what a look found. One that was withdrawn, or is over, is
    /// forgotten when it is older than `kept_since`.
    pub async fn write_changes(
        &self,
        instance_id: i32,
        kept_since: Timestamp,
        look: &Look,
        found: &[(Subject, LastingChange)],
    ) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query(
            "DELETE FROM lasting_change
             WHERE instance_id = $1 AND onset_at < $2 AND (withdrawn OR payload -> 'until' <> 'null')",
        )
        .bind(instance_id)
        .bind(time(kept_since))
        .execute(&mut *transaction)
        .await?;
        let rows = sqlx::query(
            "SELECT change_id, family_id, measured, object, payload, story, missed FROM lasting_change
             WHERE instance_id = $1 ORDER BY onset_at, change_id FOR UPDATE",
        )
        .bind(instance_id)
        .fetch_all(&mut *transaction)
        .await?;
        let known = rows
            .iter()
            .map(|row| Ok(Followed { change_id: row.get("change_id"), subject: subject(row)?, kept: kept(row)? }))
            .collect::<Result<Vec<Followed>>>()?;
        for followed in follow(known, found, look) {
            match followed.change_id {
                Some(change_id) => write(&mut transaction, change_id, &followed.kept).await?,
                None => add(&mut transaction, instance_id, look.at, &followed).await?,
            }
        }
        transaction.commit().await?;
        Ok(())
    }

    /// One change of an instance.
    pub async fn one_change(&self, instance_id: i32, change_id: i64) -> Result<Option<ChangeRow>> {
        let row =
            sqlx::query(AssertSqlSafe(format!("{SELECT} WHERE lasting_change.instance_id = $1 AND change_id = $2")))
                .bind(instance_id)
                .bind(change_id)
                .fetch_optional(&self.pool)
                .await?;
        row.as_ref().map(change).transpose()
    }

    /// Keeps what somebody makes of a change, or takes it back.
    pub async fn answer_change(&self, change_id: i64, given: Option<&ChangeAnswer>) -> Result<()> {
        sqlx::query(
            "UPDATE lasting_change SET answer = $2, answer_reason = $3, answered_by = $4, answered_at = $5
             WHERE change_id = $1",
        )
        .bind(change_id)
        .bind(given.map(|given| given.answer.name()))
        .bind(given.and_then(|given| given.reason.as_deref()))
        .bind(given.map(|given| given.by.as_str()))
        .bind(given.map(|given| time(given.at)))
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest changes of an instance with an onset at `since` or later, without those withdrawn: all, or those of one
    /// thing that is measured.
    pub async fn changes(
        &self,
        instance_id: i32,
        since: Timestamp,
        measured: Option<Measured>,
        most: i64,
    ) -> Result<Vec<ChangeRow>> {
        let rows = sqlx::query(AssertSqlSafe(format!(
            "{SELECT} WHERE lasting_change.instance_id = $1 AND onset_at >= $3 AND NOT withdrawn
               AND ($4::text IS NULL OR measured = $4)
             ORDER BY onset_at DESC LIMIT $2"
        )))
        .bind(instance_id)
        .bind(most)
        .bind(time(since))
        .bind(measured.map(Named::name))
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(change).collect()
    }

    /// The changes of one family, the newest first, with those withdrawn.
    pub async fn family_changes(&self, family_id: i64, most: i64) -> Result<Vec<ChangeRow>> {
        let rows = sqlx::query(AssertSqlSafe(format!("{SELECT} WHERE family_id = $1 ORDER BY onset_at DESC LIMIT $2")))
            .bind(family_id)
            .bind(most)
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(change).collect()
    }
}

async fn add(transaction: &mut PgConnection, instance_id: i32, now: Timestamp, followed: &Followed) -> Result<()> {
    let Kept { change, story, .. } = &followed.kept;
    sqlx::query(
        "INSERT INTO lasting_change (instance_id, family_id, measured, object, onset_at, found_at, ratio, payload, story)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)",
    )
    .bind(instance_id)
    .bind(followed.subject.family)
    .bind(followed.subject.measured.name())
    .bind(&followed.subject.object)
    .bind(time(change.onset))
    .bind(time(now))
    .bind(change.ratio.value)
    .bind(to_json("lasting change", change)?)
    .bind(to_json("story of a lasting change", story)?)
    .execute(transaction)
    .await?;
    Ok(())
}

async fn write(transaction: &mut PgConnection, change_id: i64, kept: &Kept) -> Result<()> {
    sqlx::query(
        "UPDATE lasting_change SET onset_at = $2, ratio = $3, payload = $4, story = $5, missed = $6, withdrawn = $7
         WHERE change_id = $1",
    )
    .bind(change_id)
    .bind(time(kept.change.onset))
    .bind(kept.change.ratio.value)
    .bind(to_json("lasting change", &kept.change)?)
    .bind(to_json("story of a lasting change", &kept.story)?)
    .bind(kept.missed as i32)
    .bind(kept.is_withdrawn())
    .execute(transaction)
    .await?;
    Ok(())
}
