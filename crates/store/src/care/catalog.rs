use hurnix_core::readings::catalog::Catalog;
use hurnix_core::readings::inventory::Inventory;
use hurnix_core::{Timestamp, Window};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, PgConnection, Row};

use crate::{Result, Store, at, from_json, time, to_json};

/// One setting as it is in force.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingRow {
    /// Its name.
    pub name: String,
    /// Its value in its unit.
    pub value: Option<String>,
    /// Its unit.
    pub unit: Option<String>,
    /// Where the value comes from.
    pub source: String,
    /// Whether another value waits for a restart.
    pub pending_restart: bool,
}

/// A setting that got another value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SettingChange {
    /// Its name.
    pub name: String,
    /// When the new value was first seen.
    pub seen_at: Timestamp,
    /// The value before; nothing where it had none.
    pub old: Option<String>,
    /// The value since.
    pub new: Option<String>,
    /// Their unit.
    pub unit: Option<String>,
}

impl Store {
    /// Keeps a setting as it was seen at a moment; one that is there already stays. Says whether it was new.
    pub async fn add_setting(&self, instance_id: i32, seen_at: Timestamp, setting: &SettingRow) -> Result<bool> {
        let mut connection = self.pool.acquire().await?;
        insert_setting(&mut connection, instance_id, seen_at, setting).await
    }

    /// Keeps the newest catalog of a database of an instance.
    pub async fn write_catalog(&self, instance_id: i32, catalog: &Catalog) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query(
            "INSERT INTO catalog (instance_id, database_name, payload) VALUES ($1, $2, $3)
             ON CONFLICT (instance_id, database_name) DO UPDATE SET payload = excluded.payload",
        )
        .bind(instance_id)
        .bind(&catalog.database)
        .bind(to_json("catalog", catalog)?)
        .execute(&mut *transaction)
        .await?;
        let names: Vec<String> =
            catalog.tables.iter().map(|table| format!("{}.{}", table.schema, table.name)).collect();
        sqlx::query(
            "WITH gone AS (DELETE FROM table_name
                WHERE instance_id = $1 AND database_name = $2 AND name <> ALL($3::text[]))
             INSERT INTO table_name SELECT DISTINCT $1, $2, name FROM unnest($3::text[]) AS name ON CONFLICT DO NOTHING",
        )
        .bind(instance_id)
        .bind(&catalog.database)
        .bind(&names)
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
        Ok(())
    }

    /// The newest catalogs of an instance by database: first that of the database connected to.
    pub async fn catalogs(&self, instance_id: i32) -> Result<Vec<Catalog>> {
        let payloads: Vec<serde_json::Value> = sqlx::query_scalar(
            "SELECT payload FROM catalog JOIN instance USING (instance_id) WHERE instance_id = $1
             ORDER BY catalog.database_name <> instance.database_name, catalog.database_name",
        )
        .bind(instance_id)
        .fetch_all(&self.pool)
        .await?;
        payloads.into_iter().map(|payload| from_json("catalog", payload)).collect()
    }

    /// The newest catalog of the database that an instance is connected to; where none is known by that name, of the
    /// first one.
    pub async fn catalog(&self, instance_id: i32) -> Result<Option<Catalog>> {
        Ok(self.catalogs(instance_id).await?.into_iter().next())
    }

    /// The newest catalog of a database of an instance.
    pub async fn catalog_of(&self, instance_id: i32, database: &str) -> Result<Option<Catalog>> {
        let catalogs = self.catalogs(instance_id).await?;
        Ok(catalogs.into_iter().find(|catalog| catalog.database == database))
    }

    /// Forgets the catalogs of databases of an instance that are read no more.
    pub async fn forget_catalogs(&self, instance_id: i32, read: &[String]) -> Result<()> {
        for table in ["catalog", "table_name"] {
            let sql = format!("DELETE FROM {table} WHERE instance_id = $1 AND database_name <> ALL($2)");
            sqlx::query(AssertSqlSafe(sql)).bind(instance_id).bind(read).execute(&self.pool).await?;
        }
        Ok(())
    }

    /// Keeps the newest inventory of an instance.
    pub async fn write_inventory(&self, instance_id: i32, inventory: &Inventory) -> Result<()> {
        sqlx::query(
            "INSERT INTO inventory (instance_id, payload) VALUES ($1, $2)
             ON CONFLICT (instance_id) DO UPDATE SET payload = excluded.payload",
        )
        .bind(instance_id)
        .bind(to_json("inventory", inventory)?)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The newest inventory of an instance.
    pub async fn inventory(&self, instance_id: i32) -> Result<Option<Inventory>> {
        let payload: Option<serde_json::Value> =
            sqlx::query_scalar("SELECT payload FROM inventory WHERE instance_id = $1")
                .bind(instance_id)
                .fetch_optional(&self.pool)
                .await?;
        payload.map(|payload| from_json("inventory", payload)).transpose()
    }

    /// Settings of an instance as they were last seen, by name.
    pub async fn settings(&self, instance_id: i32) -> Result<Vec<SettingRow>> {
        let rows = sqlx::query(
            "SELECT DISTINCT ON (name) name, value, unit, source, pending_restart FROM setting
             WHERE instance_id = $1 ORDER BY name, seen_at DESC",
        )
        .bind(instance_id)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(setting_row).collect())
    }

    /// Settings whose value became another in a window: as (name, when it was seen, old, new), each with its unit, in
    /// order of time.
    pub async fn setting_changes(&self, instance_id: i32, window: Window) -> Result<Vec<SettingChange>> {
        let rows = sqlx::query(
            "SELECT * FROM (
                SELECT name, seen_at, value, unit, lag(value) OVER known AS old, row_number() OVER known AS nth
                FROM setting WHERE instance_id = $1 WINDOW known AS (PARTITION BY name ORDER BY seen_at)
             ) seen WHERE nth > 1 AND value IS DISTINCT FROM old AND seen_at > $2 AND seen_at <= $3 ORDER BY seen_at, name",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let change = |row: &PgRow| SettingChange {
            name: row.get("name"),
            seen_at: at(row.get("seen_at")),
            old: row.get("old"),
            new: row.get("value"),
            unit: row.get("unit"),
        };
        Ok(rows.iter().map(change).collect())
    }

    /// Keeps settings that differ from what was known; answers with those known before that changed
    /// their value, as (name, old, new).
    pub async fn write_settings(
        &self,
        instance_id: i32,
        seen_at: Timestamp,
        settings: &[SettingRow],
    ) -> Result<Vec<(String, Option<String>, Option<String>)>> {
        let mut transaction = self.pool.begin().await?;
        let known = sqlx::query(
            "SELECT DISTINCT ON (name) name, value, unit, source, pending_restart FROM setting
             WHERE instance_id = $1 ORDER BY name, seen_at DESC",
        )
        .bind(instance_id)
        .fetch_all(&mut *transaction)
        .await?;
        let known: std::collections::HashMap<String, SettingRow> =
            known.iter().map(|row| (row.get("name"), setting_row(row))).collect();
        let mut changed = Vec::new();
        for setting in settings.iter().filter(|setting| known.get(&setting.name) != Some(setting)) {
            insert_setting(&mut transaction, instance_id, seen_at, setting).await?;
            if let Some(before) = known.get(&setting.name).filter(|before| before.value != setting.value) {
                changed.push((setting.name.clone(), before.value.clone(), setting.value.clone()));
            }
        }
        transaction.commit().await?;
        Ok(changed)
    }
}

async fn insert_setting(
    connection: &mut PgConnection,
    instance_id: i32,
    seen_at: Timestamp,
    setting: &SettingRow,
) -> Result<bool> {
    let written = sqlx::query(
        "INSERT INTO setting (instance_id, name, seen_at, value, unit, source, pending_restart)
         VALUES ($1, $2, $3, $4, $5, $6, $7) ON CONFLICT DO NOTHING",
    )
    .bind(instance_id)
    .bind(&setting.name)
    .bind(time(seen_at))
    .bind(&setting.value)
    .bind(&setting.unit)
    .bind(&setting.source)
    .bind(setting.pending_restart)
    .execute(connection)
    .await?;
    Ok(written.rows_affected() > 0)
}

pub(crate) fn setting_row(row: &PgRow) -> SettingRow {
    SettingRow {
        name: row.get("name"),
        value: row.get("value"),
        unit: row.get("unit"),
        source: row.get("source"),
        pending_restart: row.get("pending_restart"),
    }
}
