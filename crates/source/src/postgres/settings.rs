use sqlx::Row;

use super::PostgresSource;
use crate::{ReadProblem, Setting};

impl PostgresSource {
    /// All settings, but for those that Hurnix sets for its own session.
    pub(super) async fn read_settings(&mut self) -> Result<Vec<Setting>, ReadProblem> {
        let rows = sqlx::query(
            "SELECT /* hurnix */ name, setting, unit, source, pending_restart
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
