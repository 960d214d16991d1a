//! Reports that are made by themselves.

use hurnix_core::Timestamp;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, at, time};

/// Which report is made by itself, and when.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ReportSchedule {
    /// Number.
    pub schedule_id: i32,
    /// The instance that it is of, with its label; nothing where it is of many.
    pub instance: Option<(i32, String)>,
    /// The group whose instances it is of; nothing where it is of one instance, or of all.
    pub group: Option<String>,
    /// The group that it is seen by: its own, or that of its instance.
    pub seen_by: Option<String>,
    /// Name of its kind.
    pub kind: String,
    /// Sections, with commas between them; all of the kind when empty.
    pub sections: String,
    /// How often: each `day`, `week` or `month`.
    pub every: String,
    /// Day of the week on which the period of a weekly one ends, from Monday.
    pub weekday: u32,
    /// Minute of the day at which its period ends.
    pub minute_of_day: u32,
    /// Place whose clock counts.
    pub time_zone: String,
    /// How many of its reports are kept.
    pub most_kept: u32,
    /// Who set it last.
    pub made_by: String,
    /// When the period of the next report ends.
    pub next_at: Timestamp,
    /// Why there is no report on the last period.
    pub problem: Option<String>,
}

fn schedule(row: &PgRow) -> ReportSchedule {
    let unsigned = |column: &str| row.get::<i32, _>(column) as u32;
    ReportSchedule {
        schedule_id: row.get("schedule_id"),
        instance: row.get::<Option<i32>, _>("instance_id").map(|id| (id, row.get("label"))),
        group: row.get("group_name"),
        seen_by: row.get("seen_by"),
        kind: row.get("kind"),
        sections: row.get("sections"),
        every: row.get("every"),
        weekday: row.get::<i16, _>("weekday") as u32,
        minute_of_day: unsigned("minute_of_day"),
        time_zone: row.get("time_zone"),
        most_kept: unsigned("most_kept"),
        made_by: row.get("made_by"),
        next_at: at(row.get("next_at")),
        problem: row.get("problem"),
    }
}

impl Store {
    /// All schedules, those due next first.
    pub async fn report_schedules(&self) -> Result<Vec<ReportSchedule>> {
        let rows = sqlx::query(
            "SELECT s.*, i.label, coalesce(i.group_name, s.group_name) AS seen_by
             FROM report_schedule s LEFT JOIN instance i USING (instance_id) ORDER BY s.next_at, s.schedule_id",
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(schedule).collect())
    }

    /// Keeps a schedule: a new one where it has no number yet. Answers its number; nothing where there is none of that
    /// number.
    pub async fn write_report_schedule(&self, schedule_id: Option<i32>, new: &ReportSchedule) -> Result<Option<i32>> {
        let sql = match schedule_id {
            None => {
                "INSERT INTO report_schedule (instance_id, group_name, kind, sections, every, weekday, minute_of_day, time_zone, most_kept, next_at, made_by)
                 VALUES ($2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12) RETURNING coalesce($1, schedule_id)"
            }
            Some(_) => {
                "UPDATE report_schedule SET instance_id = $2, group_name = $3, kind = $4, sections = $5, every = $6, weekday = $7,
                        minute_of_day = $8, time_zone = $9, most_kept = $10, next_at = $11, made_by = $12, problem = NULL
                 WHERE schedule_id = $1 RETURNING schedule_id"
            }
        };
        Ok(sqlx::query_scalar(sql)
            .bind(schedule_id)
            .bind(new.instance.as_ref().map(|(id, _)| *id))
            .bind(&new.group)
            .bind(&new.kind)
            .bind(&new.sections)
            .bind(&new.every)
            .bind(new.weekday as i16)
            .bind(new.minute_of_day as i32)
            .bind(&new.time_zone)
            .bind(new.most_kept as i32)
            .bind(time(new.next_at))
            .bind(&new.made_by)
            .fetch_optional(&self.pool)
            .await?)
    }

    /// Takes it on to make the report that is due, and says when the next one is. Says whether nobody else did. Until the
    /// report is kept, the schedule says that it is not.
    pub async fn take_report_schedule(
        &self,
        due: &ReportSchedule,
        next_at: Timestamp,
        not_kept_yet: &str,
    ) -> Result<bool> {
        let taken = sqlx::query(
            "UPDATE report_schedule SET next_at = $3, problem = $4 WHERE schedule_id = $1 AND next_at = $2",
        )
        .bind(due.schedule_id)
        .bind(time(due.next_at))
        .bind(time(next_at))
        .bind(not_kept_yet)
        .execute(&self.pool)
        .await?;
        Ok(taken.rows_affected() > 0)
    }

    /// Notes why there is no report on the last period; nothing where there is one.
    pub async fn note_report_problem(&self, schedule_id: i32, problem: Option<&str>) -> Result<()> {
        sqlx::query("UPDATE report_schedule SET problem = $2 WHERE schedule_id = $1")
            .bind(schedule_id)
            .bind(problem)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Forgets a schedule; its reports stay. Says whether there was one.
    pub async fn remove_report_schedule(&self, schedule_id: i32) -> Result<bool> {
        let gone = sqlx::query("DELETE FROM report_schedule WHERE schedule_id = $1")
            .bind(schedule_id)
            .execute(&self.pool)
            .await?;
        Ok(gone.rows_affected() > 0)
    }
}
