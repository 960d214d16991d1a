use hurnix_core::changes::maintenance_window::WeeklyWindow;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, StoreProblem};

/// Whose servers a window is for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WindowFor {
    /// One instance, with its label.
    Instance(i32, String),
    /// All instances of a group.
    Group(String),
}

/// A window in which servers may be worked on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MaintenanceWindow {
    /// Number.
    pub window_id: i32,
    /// Whose it is.
    pub of: WindowFor,
    /// What it is called.
    pub name: String,
    /// When it opens.
    pub weekly: WeeklyWindow,
    /// Place whose clock counts, by its name in the time zone database.
    pub time_zone: String,
}

fn window(row: &PgRow) -> MaintenanceWindow {
    let days: Vec<bool> = row.get("days");
    let minutes = |column: &str| row.get::<i32, _>(column) as u32;
    MaintenanceWindow {
        window_id: row.get("window_id"),
        of: match row.get::<Option<i32>, _>("instance_id") {
            Some(id) => WindowFor::Instance(id, row.get("label")),
            None => WindowFor::Group(row.get("group_name")),
        },
        name: row.get("name"),
        weekly: WeeklyWindow {
            days: std::array::from_fn(|day| days.get(day).copied().unwrap_or(false)),
            start_minute: minutes("start_minute"),
            minutes: minutes("minutes"),
        },
        time_zone: row.get("time_zone"),
    }
}

impl Store {
    /// All windows, by name.
    pub async fn maintenance_windows(&self) -> Result<Vec<MaintenanceWindow>> {
        let rows = sqlx::query(
            "SELECT w.*, i.label FROM maintenance_window w LEFT JOIN instance i USING (instance_id) ORDER BY w.name, window_id",
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(window).collect())
    }

    /// Keeps a window: a new one where it has no number yet. Answers its number; nothing where there is none of
    /// that number.
    pub async fn write_maintenance_window(
        &self,
        window_id: Option<i32>,
        window: &MaintenanceWindow,
    ) -> Result<Option<i32>> {
        let (instance_id, group) = match &window.of {
            WindowFor::Instance(id, _) => (Some(*id), None),
            WindowFor::Group(group) => (None, Some(group)),
        };
        let sql = match window_id {
            None => {
                "INSERT INTO maintenance_window (instance_id, group_name, name, days, start_minute, minutes, time_zone)
                 VALUES ($2, $3, $4, $5, $6, $7, $8) RETURNING coalesce($1, window_id)"
            }
            Some(_) => {
                "UPDATE maintenance_window SET instance_id = $2, group_name = $3, name = $4, days = $5, start_minute = $6, minutes = $7,
                        time_zone = $8 WHERE window_id = $1 RETURNING window_id"
            }
        };
        let written = sqlx::query_scalar(sql)
            .bind(window_id)
            .bind(instance_id)
            .bind(group)
            .bind(&window.name)
            .bind(window.weekly.days.as_slice())
            .bind(window.weekly.start_minute as i32)
            .bind(window.weekly.minutes as i32)
            .bind(&window.time_zone)
            .fetch_optional(&self.pool)
            .await;
        match written {
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => {
                Err(StoreProblem::Taken { field: "name", what: "such a window", value: window.name.clone() })
            }
            other => Ok(other?),
        }
    }

    /// Forgets a window. Says whether there was one.
    pub async fn remove_maintenance_window(&self, window_id: i32) -> Result<bool> {
        let gone = sqlx::query("DELETE FROM maintenance_window WHERE window_id = $1")
            .bind(window_id)
            .execute(&self.pool)
            .await?;
        Ok(gone.rows_affected() > 0)
    }
}
