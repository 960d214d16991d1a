use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::instance::collection_state::CollectionState;
use hurnix_core::instance::engine::Engine;
use hurnix_core::instance::instance_settings::InstanceSettings;
use hurnix_core::readings::server_log::LogPosition;
use hurnix_core::{Named, Timestamp};
use serde_json::Value;
use sqlx::postgres::{PgArguments, PgRow};
use sqlx::query::Query;
use sqlx::types::Json;
use sqlx::{PgConnection, Postgres, Row};

use crate::{Result, Store, StoreProblem, again_after_deadlock, at, time, word};

/// A server under care.
#[derive(Debug, Clone, PartialEq)]
pub struct Instance {
    /// Number.
    pub instance_id: i32,
    /// Name on the roster.
    pub label: String,
    /// Group that accounts may be limited to.
    pub group: Option<String>,
    /// What its figures come from.
    pub engine: Engine,
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: i32,
    /// Database to connect to.
    pub database_name: String,
    /// Account to sign in with.
    pub account_name: String,
    /// Its password, sealed.
    pub secret_sealed: Vec<u8>,
    /// How the connection is encrypted.
    pub tls_mode: String,
    /// Certificates, in PEM form, that the server's is checked against besides those trusted anyway.
    pub tls_ca: Option<String>,
    /// Address of an exporter that tells of the host.
    pub host_endpoint: Option<String>,
    /// How collection stands.
    pub collection: CollectionState,
    /// What stands in the way of collecting.
    pub problem: Option<Value>,
    /// Since when collection stands like that.
    pub collection_since: Timestamp,
    /// When figures last arrived.
    pub last_success_at: Option<Timestamp>,
    /// Version of the server.
    pub server_version: Option<String>,
    /// Figures that the server does not give.
    pub limits: Value,
    /// What reading costs the watched server, in shares of one core; nothing before the first reading.
    pub cost_share: Option<f32>,
    /// Bytes read from it in a second.
    pub cost_bytes: Option<f32>,
    /// Largest factor by which an interval of reading is stretched.
    pub stretch: Option<f32>,
    /// Its own intervals of reading and budget, instead of the program's.
    pub own_pace: Value,
    /// How it is to be treated.
    pub settings: InstanceSettings,
    /// How far the server's log has been read: what was read up to there is kept.
    pub log_position: Option<LogPosition>,
    /// The credential that account and password are those of.
    pub credential_id: Option<i32>,
    /// When somebody last asked for everything to be read at once.
    pub snapshot_asked_at: Option<Timestamp>,
    /// Whether the password may be sent in clear text or as MD5 to a server that has not proved who it is.
    pub allows_plain_password: bool,
    /// What the exporter of the host asks for, sealed.
    pub host_secret_sealed: Option<Vec<u8>>,
    /// When something of it changed that the list of all instances shows, by the repository's clock.
    pub shown_changed_at: Timestamp,
}

/// A server to take under care.
#[derive(Debug, Clone, PartialEq, Default)]
pub struct NewInstance {
    /// Name on the roster.
    pub label: String,
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Database to connect to.
    pub database_name: String,
    /// Account to sign in with.
    pub account_name: String,
    /// Its password, sealed.
    pub secret_sealed: Vec<u8>,
    /// How the connection is encrypted.
    pub tls_mode: String,
    /// Certificates, in PEM form, that the server's is checked against besides those trusted anyway.
    pub tls_ca: Option<String>,
    /// Address of an exporter that tells of the host.
    pub host_endpoint: Option<String>,
    /// How it is to be treated.
    pub settings: InstanceSettings,
    /// The credential that account and password are those of.
    pub credential_id: Option<i32>,
    /// Whether the password may be sent in clear text or as MD5 to a server that has not proved who it is.
    pub allows_plain_password: bool,
    /// What the exporter of the host asks for, sealed.
    pub host_secret_sealed: Option<Vec<u8>>,
    /// Group that accounts may be limited to; of a new instance only.
    pub group: Option<String>,
}

pub(crate) fn instance(row: &PgRow) -> Result<Instance> {
    Ok(Instance {
        instance_id: row.get("instance_id"),
        label: row.get("label"),
        group: row.get("group_name"),
        engine: word(row, "engine")?,
        host: row.get("host"),
        port: row.get("port"),
        database_name: row.get("database_name"),
        account_name: row.get("account_name"),
        secret_sealed: row.get("secret_sealed"),
        tls_mode: row.get("tls_mode"),
        tls_ca: row.get("tls_ca"),
        host_endpoint: row.get("host_endpoint"),
        collection: word(row, "collection")?,
        problem: row.get("problem"),
        collection_since: at(row.get("collection_since")),
        last_success_at: row.get::<Option<DateTime<Utc>>, _>("last_success_at").map(at),
        server_version: row.get("server_version"),
        limits: row.get("limits"),
        cost_share: row.get("cost_share"),
        cost_bytes: row.get("cost_bytes"),
        stretch: row.get("stretch"),
        own_pace: row.get("own_pace"),
        // A later version may have left settings that this one does not know; then those known are as usual.
        settings: serde_json::from_value(row.get("settings")).unwrap_or_default(),
        log_position: row
            .get::<Option<Value>, _>("log_position")
            .and_then(|position| serde_json::from_value(position).ok()),
        credential_id: row.get("credential_id"),
        snapshot_asked_at: row.get::<Option<DateTime<Utc>>, _>("snapshot_asked_at").map(at),
        allows_plain_password: row.get("allows_plain_password"),
        host_secret_sealed: row.get("host_secret_sealed"),
        shown_changed_at: at(row.get("shown_changed_at")),
    })
}

impl Store {
    /// Takes a server under care; its label must be free.
    pub async fn add_instance(&self, new: &NewInstance) -> Result<i32> {
        let mut transaction = self.pool.begin().await?;
        let id = insert(&mut transaction, new, None).await?;
        transaction.commit().await?;
        Ok(id)
    }

    /// Takes servers under care that come as a list, all or none; all labels must be free. Answers with the
    /// number of the list, by which they can be taken back.
    pub async fn add_instance_list(&self, list: &[NewInstance]) -> Result<i64> {
        let mut transaction = self.pool.begin().await?;
        let list_id = sqlx::query_scalar("SELECT nextval('instance_list')").fetch_one(&mut *transaction).await?;
        for new in list {
            insert(&mut transaction, new, Some(list_id)).await?;
        }
        transaction.commit().await?;
        Ok(list_id)
    }

    /// Takes back the instances of a list; answers with the labels of those that were still there.
    pub async fn take_back_list(&self, list_id: i64) -> Result<Vec<String>> {
        let labels = again_after_deadlock(|| {
            let removed = sqlx::query_scalar("DELETE FROM instance WHERE list_id = $1 RETURNING label").bind(list_id);
            Box::pin(removed.fetch_all(&self.pool))
        });
        Ok(labels.await?)
    }

    /// Removes an instance with all that is known of it; says whether there was one. Its figures are out of
    /// reach at once, and go from the disk with the partitions that hold them.
    pub async fn remove_instance(&self, instance_id: i32) -> Result<bool> {
        let removed = again_after_deadlock(|| {
            let removed = sqlx::query("DELETE FROM instance WHERE instance_id = $1").bind(instance_id);
            Box::pin(removed.execute(&self.pool))
        });
        Ok(removed.await?.rows_affected() > 0)
    }

    /// Takes an instance under care whose figures do not come over a connection; its label must be free.
    /// A simulated one has a model, and is collected once it is said to be ready.
    pub async fn add_unconnected(
        &self,
        label: &str,
        engine: Engine,
        own_pace: &Value,
        model: Option<&Value>,
    ) -> Result<i32> {
        let mut transaction = self.pool.begin().await?;
        let id: Option<i32> = sqlx::query_scalar(
            "INSERT INTO instance (label, engine, own_pace, host, port, database_name, account_name, secret_sealed, tls_mode)
             VALUES ($1, $2, $3, '', 0, '', '', '', 'off') ON CONFLICT DO NOTHING RETURNING instance_id",
        )
        .bind(label)
        .bind(engine.name())
        .bind(own_pace)
        .fetch_optional(&mut *transaction)
        .await?;
        let id = id.ok_or_else(|| StoreProblem::Taken { field: "label", what: "an instance", value: label.into() })?;
        if let Some(model) = model {
            sqlx::query("INSERT INTO simulated_instance (instance_id, model) VALUES ($1, $2)")
                .bind(id)
                .bind(model)
                .execute(&mut *transaction)
                .await?;
        }
        transaction.commit().await?;
        Ok(id)
    }

    /// The model behind a simulated instance.
    pub async fn model(&self, instance_id: i32) -> Result<Option<Value>> {
        let model = sqlx::query_scalar("SELECT model FROM simulated_instance WHERE instance_id = $1")
            .bind(instance_id)
            .fetch_optional(&self.pool)
            .await?;
        Ok(model)
    }

    /// The past of a simulated instance is written: it is collected from now on.
    pub async fn simulated_ready(&self, instance_id: i32) -> Result<()> {
        sqlx::query("UPDATE simulated_instance SET ready = true WHERE instance_id = $1")
            .bind(instance_id)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Simulated instances whose past is not written yet, with their models.
    pub async fn simulated_unready(&self) -> Result<Vec<(Instance, Value)>> {
        let rows = sqlx::query(
            "SELECT * FROM instance JOIN simulated_instance USING (instance_id) WHERE NOT ready ORDER BY label",
        )
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(|row| Ok((instance(row)?, row.get("model")))).collect()
    }

    /// Changes how to reach an instance; its history stays. Nothing when there is no such instance.
    pub async fn change_instance(&self, instance_id: i32, new: &NewInstance) -> Result<bool> {
        let changed = again_after_deadlock(|| {
            let changed = sqlx::query(
                "UPDATE instance SET label = $2, host = $3, port = $4, database_name = $5, account_name = $6,
                        secret_sealed = $7, tls_mode = $8, tls_ca = $9, host_endpoint = $10, host_secret_sealed = $11,
                        allows_plain_password = $12, settings = $13, credential_id = $14
                 WHERE instance_id = $1",
            );
            let changed = bind_connection(changed.bind(instance_id), new);
            Box::pin(changed.execute(&self.pool))
        })
        .await;
        match changed {
            Err(sqlx::Error::Database(error)) if error.is_unique_violation() => {
                Err(StoreProblem::Taken { field: "label", what: "an instance", value: new.label.clone() })
            }
            other => Ok(other?.rows_affected() > 0),
        }
    }

    /// All instances by label.
    pub async fn instances(&self) -> Result<Vec<Instance>> {
        let rows = sqlx::query("SELECT * FROM instance ORDER BY label").fetch_all(&self.pool).await?;
        rows.iter().map(instance).collect()
    }

    /// Instances of one system, a primary and its replicas, by the number that they share.
    pub async fn instances_of_system(&self, system_identifier: &str) -> Result<Vec<Instance>> {
        let rows = sqlx::query(
            "SELECT instance.* FROM inventory JOIN instance USING (instance_id)
             WHERE payload ->> 'system_identifier' = $1 ORDER BY label",
        )
        .bind(system_identifier)
        .fetch_all(&self.pool)
        .await?;
        rows.iter().map(instance).collect()
    }

    /// How many instances there are, by how collection stands.
    pub async fn instances_by_state(&self) -> Result<Vec<(CollectionState, i64)>> {
        let rows = sqlx::query("SELECT collection, count(*) AS instances FROM instance GROUP BY 1 ORDER BY 1")
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(|row| Ok((word(row, "collection")?, row.get("instances")))).collect()
    }

    /// One instance.
    pub async fn instance(&self, instance_id: i32) -> Result<Option<Instance>> {
        let row = sqlx::query("SELECT * FROM instance WHERE instance_id = $1")
            .bind(instance_id)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(instance).transpose()
    }

    /// Puts an instance into a group, or into none; says whether there is one.
    pub async fn set_group(&self, instance_id: i32, group: Option<&str>) -> Result<bool> {
        let changed = sqlx::query("UPDATE instance SET group_name = $2 WHERE instance_id = $1")
            .bind(instance_id)
            .bind(group)
            .execute(&self.pool)
            .await?;
        Ok(changed.rows_affected() > 0)
    }

    /// The group of each instance; nothing is told of those in none.
    pub async fn groups(&self) -> Result<HashMap<i32, String>> {
        let sql = "SELECT instance_id, group_name FROM instance WHERE group_name IS NOT NULL";
        Ok(sqlx::query_as(sql).fetch_all(&self.pool).await?.into_iter().collect())
    }

    /// Sets the address of the exporter of an instance's host, and what it asks for, sealed.
    pub async fn set_host_endpoint(&self, instance_id: i32, address: &str, secret_sealed: &[u8]) -> Result<()> {
        sqlx::query("UPDATE instance SET host_endpoint = $2, host_secret_sealed = $3 WHERE instance_id = $1")
            .bind(instance_id)
            .bind(address)
            .bind(secret_sealed)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Sets an instance's own intervals of reading and budget; says whether there is the instance.
    pub async fn set_own_pace(&self, instance_id: i32, own_pace: &Value) -> Result<bool> {
        let changed = sqlx::query("UPDATE instance SET own_pace = $2 WHERE instance_id = $1")
            .bind(instance_id)
            .bind(own_pace)
            .execute(&self.pool)
            .await?;
        Ok(changed.rows_affected() > 0)
    }

    /// Notes that everything is to be read at once; says whether there is the instance.
    pub async fn ask_for_snapshot(&self, instance_id: i32) -> Result<bool> {
        let changed = sqlx::query("UPDATE instance SET snapshot_asked_at = now() WHERE instance_id = $1")
            .bind(instance_id)
            .execute(&self.pool)
            .await?;
        Ok(changed.rows_affected() > 0)
    }

    /// Sets the token that opens the metrics of an instance, by its hash; without one nothing opens them.
    /// Says whether there is the instance.
    pub async fn set_scrape_token(&self, instance_id: i32, token_hash: Option<&[u8]>) -> Result<bool> {
        let changed = sqlx::query("UPDATE instance SET scrape_token_hash = $2 WHERE instance_id = $1")
            .bind(instance_id)
            .bind(token_hash)
            .execute(&self.pool)
            .await?;
        Ok(changed.rows_affected() > 0)
    }

    /// Whether that is the token that opens the metrics of an instance.
    pub async fn is_scrape_token(&self, instance_id: i32, token_hash: &[u8]) -> Result<bool> {
        let is_token = sqlx::query_scalar(
            "SELECT EXISTS (SELECT FROM instance WHERE instance_id = $1 AND scrape_token_hash = $2)",
        )
        .bind(instance_id)
        .bind(token_hash)
        .fetch_one(&self.pool)
        .await?;
        Ok(is_token)
    }

    /// Notes that a connection stands and what the server is.
    pub async fn note_connected(
        &self,
        instance_id: i32,
        now: Timestamp,
        server_version: &str,
        limits: &Value,
    ) -> Result<()> {
        sqlx::query(
            "UPDATE instance SET collection = 'collecting', problem = NULL, server_version = $3, limits = $4,
                    collection_since = CASE WHEN collection = 'collecting' THEN collection_since ELSE $2 END
             WHERE instance_id = $1",
        )
        .bind(instance_id)
        .bind(time(now))
        .bind(server_version)
        .bind(limits)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Notes what stands in the way of collecting.
    pub async fn note_failing(&self, instance_id: i32, now: Timestamp, problem: &Value) -> Result<()> {
        sqlx::query(
            "UPDATE instance SET collection = 'failing', problem = $3,
                    collection_since = CASE WHEN collection = 'failing' THEN collection_since ELSE $2 END
             WHERE instance_id = $1",
        )
        .bind(instance_id)
        .bind(time(now))
        .bind(problem)
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}

/// Binds how an instance is reached, in the order in which both statements below and above list it.
fn bind_connection<'q>(
    query: Query<'q, Postgres, PgArguments>,
    new: &'q NewInstance,
) -> Query<'q, Postgres, PgArguments> {
    query
        .bind(&new.label)
        .bind(&new.host)
        .bind(i32::from(new.port))
        .bind(&new.database_name)
        .bind(&new.account_name)
        .bind(&new.secret_sealed)
        .bind(&new.tls_mode)
        .bind(&new.tls_ca)
        .bind(&new.host_endpoint)
        .bind(&new.host_secret_sealed)
        .bind(new.allows_plain_password)
        .bind(Json(&new.settings))
        .bind(new.credential_id)
}

async fn insert(connection: &mut PgConnection, new: &NewInstance, list_id: Option<i64>) -> Result<i32> {
    let added = sqlx::query(
        "INSERT INTO instance (list_id, label, host, port, database_name, account_name, secret_sealed, tls_mode, tls_ca,
                host_endpoint, host_secret_sealed, allows_plain_password, settings, credential_id, group_name)
         VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10, $11, $12, $13, $14, $15)
         ON CONFLICT DO NOTHING RETURNING instance_id",
    );
    let added = bind_connection(added.bind(list_id), new).bind(&new.group).fetch_optional(connection).await?;
    let taken = || StoreProblem::Taken { field: "label", what: "an instance", value: new.label.clone() };
    Ok(added.ok_or_else(taken)?.get("instance_id"))
}
