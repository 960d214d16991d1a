use sqlx::Row;

use super::{PostgresSource, ReadProblem};

/// One setting as it is in force.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Setting {
    /// Its name.
    pub name: String,
    /// Its value in its unit; nothing when the account may not see it.
    pub value: Option<String>,
    /// Its unit, where it has one.
    pub unit: Option<String>,
    /// Where the value comes from.
    pub source: String,
    /// Whether another value waits for a restart.
    pub pending_restart: bool,
}

impl PostgresSource {
    /// All settings, but for those that Hurnix sets for its own session.
    pub async fn settings(&mut self) -> Result<Vec<Setting>, ReadProblem> {
        let rows = sqlx::query(
            "/* hurnix */ SELECT name, setting, unit, source, pending_restart
             FROM pg_settings WHERE source <> 'client' AND source <> 'session' ORDER BY name",
        )
        .fetch_all(&mut self.connection)
        .await?;
        Ok(rows
            .iter()
            .map(|row| Setting {
                name: row.get("name"),
                value: row.get("setting"),
                unit: row.get("unit"),
                source: row.get("source"),
                pending_restart: row.get("pending_restart"),
            })
            .collect())
    }
}
