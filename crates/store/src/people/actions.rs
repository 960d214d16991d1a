use chrono::{DateTime, Utc};
use hurnix_core::changes::action::{Action, ActionState};
use hurnix_core::{Named, Timestamp};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, Row};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::{Result, Store, at, from_json, to_json, word};

/// What actions can be sorted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum ActionOrder {
    /// When they were proposed.
    ProposedAt,
    /// Label of the instance.
    Instance,
    /// Who proposed them.
    ProposedBy,
    /// Who decided.
    DecidedBy,
    /// How they stand.
    State,
}

/// Something to be put in force.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewAction {
    /// Instance that it concerns, with its label; nothing for what concerns Hurnix itself.
    pub instance: Option<(i32, String)>,
    /// What it is.
    pub action: Action,
    /// Exactly what is sent to the watched server.
    pub statement: Option<String>,
    /// Why.
    pub reason: String,
    /// Who wants it.
    pub proposed_by: String,
    /// Whether a second person must approve first.
    pub waits: bool,
}

/// Something that was put in force or proposed.
#[derive(Debug, Clone, PartialEq)]
pub struct ActionRow {
    /// Number.
    pub action_id: i64,
    /// Instance that it concerns; nothing for what concerns Hurnix itself.
    pub instance_id: Option<i32>,
    /// Its label at that time.
    pub instance: Option<String>,
    /// What it is.
    pub action: Action,
    /// Exactly what is sent to the watched server.
    pub statement: Option<String>,
    /// Why.
    pub reason: String,
    /// How far it has come, as it was kept; time may have made more of it since.
    pub state: ActionState,
    /// Who wanted it.
    pub proposed_by: String,
    /// When.
    pub proposed_at: Timestamp,
    /// Who approved, refused or withdrew it; nothing where nobody had to.
    pub decided_by: Option<String>,
    /// When.
    pub decided_at: Option<Timestamp>,
    /// When it was begun.
    pub started_at: Option<Timestamp>,
    /// The last sign of life of whoever runs it.
    pub alive_at: Option<Timestamp>,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// How much of it is done, from 0 to 1, where the server tells.
    pub share: Option<f64>,
    /// What the server does just now.
    pub phase: Option<String>,
    /// Who wants it to be stopped.
    pub stop_asked_by: Option<String>,
    /// What came of it.
    pub outcome: Option<String>,
}

fn row(row: &PgRow) -> Result<ActionRow> {
    let moment = |column: &str| row.get::<Option<DateTime<Utc>>, _>(column).map(at);
    Ok(ActionRow {
        action_id: row.get("action_id"),
        instance_id: row.get("instance_id"),
        instance: row.get("instance"),
        action: from_json("action", row.get("payload"))?,
        statement: row.get("statement"),
        reason: row.get("reason"),
        state: word(row, "state")?,
        proposed_by: row.get("proposed_by"),
        proposed_at: at(row.get("proposed_at")),
        decided_by: row.get("decided_by"),
        decided_at: moment("decided_at"),
        started_at: moment("started_at"),
        alive_at: moment("alive_at"),
        ended_at: moment("ended_at"),
        share: row.get("share"),
        phase: row.get("phase"),
        stop_asked_by: row.get("stop_asked_by"),
        outcome: row.get("outcome"),
    })
}

impl Store {
    /// Whether whatever is put in force needs the approval of a second person.
    pub async fn second_person(&self) -> Result<bool> {
        Ok(sqlx::query_scalar("SELECT second_person FROM house_rule").fetch_one(&self.pool).await?)
    }

    /// Sets that rule.
    pub async fn set_second_person(&self, on: bool) -> Result<()> {
        sqlx::query("UPDATE house_rule SET second_person = $1").bind(on).execute(&self.pool).await?;
        Ok(())
    }

    /// Notes an action before it is carried out: as proposed, or as approved where nobody has to be asked.
    pub async fn add_action(&self, new: &NewAction) -> Result<ActionRow> {
        let added = sqlx::query(
            "INSERT INTO action (instance_id, instance, payload, statement, reason, state, proposed_by)
             VALUES ($1, $2, $3, $4, $5, $6, $7) RETURNING *",
        )
        .bind(new.instance.as_ref().map(|(id, _)| *id))
        .bind(new.instance.as_ref().map(|(_, label)| label))
        .bind(to_json("action", &new.action)?)
        .bind(&new.statement)
        .bind(&new.reason)
        .bind(if new.waits { ActionState::Proposed } else { ActionState::Approved }.name())
        .bind(&new.proposed_by)
        .fetch_one(&self.pool)
        .await?;
        row(&added)
    }

    /// An action by its number.
    pub async fn action(&self, action_id: i64) -> Result<Option<ActionRow>> {
        let found =
            sqlx::query("SELECT * FROM action WHERE action_id = $1").bind(action_id).fetch_optional(&self.pool).await?;
        found.as_ref().map(row).transpose()
    }

    /// Decides on a proposal: approved, refused or withdrawn. Answers whether it was still open; of two who
    /// decide at once, one does.
    pub async fn decide_action(&self, action_id: i64, state: ActionState, decided_by: &str) -> Result<bool> {
        let decided = sqlx::query(
            "UPDATE action SET state = $2, decided_by = $3, decided_at = now() WHERE action_id = $1 AND state = 'proposed'",
        )
        .bind(action_id)
        .bind(state.name())
        .bind(decided_by)
        .execute(&self.pool)
        .await?;
        Ok(decided.rows_affected() > 0)
    }

    /// Notes that an approved action is begun. Answers the action, or nothing where somebody has begun it already.
    pub async fn begin_action(&self, action_id: i64) -> Result<Option<ActionRow>> {
        let begun = sqlx::query(
            "UPDATE action SET state = 'running', started_at = now(), alive_at = now()
             WHERE action_id = $1 AND state = 'approved' RETURNING *",
        )
        .bind(action_id)
        .fetch_optional(&self.pool)
        .await?;
        begun.as_ref().map(row).transpose()
    }

    /// Notes a sign of life of a running action, and how far it is where that is known. Answers who wants it to be
    /// stopped.
    pub async fn note_progress(&self, action_id: i64, progress: Option<(Option<f64>, &str)>) -> Result<Option<String>> {
        let stop_asked_by: Option<Option<String>> = sqlx::query_scalar(
            "UPDATE action SET alive_at = now(), share = coalesce($2, share), phase = coalesce($3, phase)
             WHERE action_id = $1 AND state = 'running' RETURNING stop_asked_by",
        )
        .bind(action_id)
        .bind(progress.and_then(|(share, _)| share))
        .bind(progress.map(|(_, phase)| phase))
        .fetch_optional(&self.pool)
        .await?;
        Ok(stop_asked_by.flatten())
    }

    /// Asks whoever runs an action to stop it. Answers whether it was running.
    pub async fn ask_to_stop(&self, action_id: i64, by: &str) -> Result<bool> {
        let asked = sqlx::query(
            "UPDATE action SET stop_asked_by = coalesce(stop_asked_by, $2) WHERE action_id = $1 AND state = 'running'",
        )
        .bind(action_id)
        .bind(by)
        .execute(&self.pool)
        .await?;
        Ok(asked.rows_affected() > 0)
    }

    /// Notes what came of a running action: done, failed or stopped, in words.
    pub async fn end_action(&self, action_id: i64, state: ActionState, outcome: &str) -> Result<ActionRow> {
        let ended = sqlx::query(
            "UPDATE action SET state = $2, outcome = $3, ended_at = now() WHERE action_id = $1 RETURNING *",
        )
        .bind(action_id)
        .bind(state.name())
        .bind(outcome)
        .fetch_one(&self.pool)
        .await?;
        row(&ended)
    }

    /// Actions, in an order or, without one, those that wait for a decision first, then the newest; and how many there
    /// are. `ascending` is of the order given.
    pub async fn actions(
        &self,
        order: Option<ActionOrder>,
        ascending: bool,
        offset: i64,
        limit: i64,
    ) -> Result<(Vec<ActionRow>, i64)> {
        let direction = if ascending { "ASC" } else { "DESC" };
        let first = match order {
            None => "state = 'proposed' DESC".to_owned(),
            Some(order) => format!("{} {direction} NULLS LAST", order.name()),
        };
        let rows = sqlx::query(AssertSqlSafe(format!(
            "SELECT * FROM action ORDER BY {first}, proposed_at DESC, action_id DESC LIMIT $1 OFFSET $2"
        )))
        .bind(limit)
        .bind(offset)
        .fetch_all(&self.pool)
        .await?;
        let matching = sqlx::query_scalar("SELECT count(*) FROM action").fetch_one(&self.pool).await?;
        Ok((rows.iter().map(row).collect::<Result<_>>()?, matching))
    }
}
