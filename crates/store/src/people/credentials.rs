use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::{Result, Store, StoreProblem, at};

/// An account on watched servers with its password, for several instances to use.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Credential {
    /// Number.
    pub credential_id: i32,
    /// What it is called here.
    pub name: String,
    /// Name of the account.
    pub account_name: String,
    /// Its password, sealed.
    pub secret_sealed: Vec<u8>,
    /// Hosts that it may be sent to; any while there are none.
    pub hosts: Vec<String>,
    /// When it was made or changed last.
    pub changed_at: Timestamp,
    /// Instances that use it.
    pub used_by: i64,
}

fn credential(row: &PgRow) -> Credential {
    Credential {
        credential_id: row.get("credential_id"),
        name: row.get("name"),
        account_name: row.get("account_name"),
        secret_sealed: row.get("secret_sealed"),
        hosts: row.get("hosts"),
        changed_at: at(row.get::<DateTime<Utc>, _>("changed_at")),
        used_by: row.get("used_by"),
    }
}

impl Store {
    /// All credentials by name.
    pub async fn credentials(&self) -> Result<Vec<Credential>> {
        let rows = sqlx::query(
            "SELECT credential.*, (SELECT count(*) FROM instance WHERE instance.credential_id = credential.credential_id) AS used_by
             FROM credential ORDER BY name",
        )
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(credential).collect())
    }

    /// Keeps a credential; its name must be free.
    pub async fn add_credential(
        &self,
        name: &str,
        account_name: &str,
        secret_sealed: &[u8],
        hosts: &[String],
    ) -> Result<i32> {
        let made: Option<i32> = sqlx::query_scalar(
            "INSERT INTO credential (name, account_name, secret_sealed, hosts) VALUES ($1, $2, $3, $4)
             ON CONFLICT DO NOTHING RETURNING credential_id",
        )
        .bind(name)
        .bind(account_name)
        .bind(secret_sealed)
        .bind(hosts)
        .fetch_optional(&self.pool)
        .await?;
        made.ok_or_else(|| StoreProblem::Taken { field: "name", what: "a credential", value: name.into() })
    }

    /// Changes a credential, and with it every instance that uses it; says whether there is one. Without a
    /// secret the old one stays.
    pub async fn change_credential(
        &self,
        credential_id: i32,
        account_name: &str,
        secret_sealed: Option<&[u8]>,
        hosts: &[String],
    ) -> Result<bool> {
        let mut transaction = self.pool.begin().await?;
        let changed = sqlx::query(
            "UPDATE credential SET account_name = $2, secret_sealed = coalesce($3, secret_sealed), hosts = $4, changed_at = now()
             WHERE credential_id = $1",
        )
        .bind(credential_id)
        .bind(account_name)
        .bind(secret_sealed)
        .bind(hosts)
        .execute(&mut *transaction)
        .await?;
        sqlx::query(
            "UPDATE instance SET account_name = credential.account_name, secret_sealed = credential.secret_sealed
             FROM credential WHERE instance.credential_id = $1 AND credential.credential_id = $1",
        )
        .bind(credential_id)
        .execute(&mut *transaction)
        .await?;
        transaction.commit().await?;
        Ok(changed.rows_affected() > 0)
    }

    /// Removes a credential that no instance uses; says whether there was one. One that is used stays, and the
    /// answer is [`StoreProblem::InUse`].
    pub async fn remove_credential(&self, credential_id: i32) -> Result<bool> {
        let removed = sqlx::query("DELETE FROM credential WHERE credential_id = $1")
            .bind(credential_id)
            .execute(&self.pool)
            .await;
        match removed {
            Err(sqlx::Error::Database(refusal)) if refusal.is_foreign_key_violation() => Err(StoreProblem::InUse),
            other => Ok(other?.rows_affected() > 0),
        }
    }

    /// Whether anything is kept that only the key opens.
    pub async fn holds_secrets(&self) -> Result<bool> {
        let holds = sqlx::query_scalar(
            "SELECT EXISTS (SELECT FROM instance WHERE secret_sealed <> '' OR host_secret_sealed IS NOT NULL)
                 OR EXISTS (SELECT FROM credential)",
        )
        .fetch_one(&self.pool)
        .await?;
        Ok(holds)
    }

    /// Seals every secret anew, all or none; answers how many. Nobody changes a secret meanwhile.
    pub async fn reseal<E: From<StoreProblem>>(
        &self,
        mut seal: impl FnMut(&[u8]) -> std::result::Result<Vec<u8>, E>,
    ) -> std::result::Result<usize, E> {
        let problem = |error: sqlx::Error| E::from(StoreProblem::from(error));
        let mut transaction = self.pool.begin().await.map_err(problem)?;
        sqlx::query("LOCK TABLE instance, credential IN SHARE ROW EXCLUSIVE MODE")
            .execute(&mut *transaction)
            .await
            .map_err(problem)?;
        let mut sealed = 0;
        for (select, update) in [
            (
                "SELECT instance_id, secret_sealed FROM instance WHERE secret_sealed <> ''",
                "UPDATE instance SET secret_sealed = $2 WHERE instance_id = $1",
            ),
            (
                "SELECT instance_id, host_secret_sealed FROM instance WHERE host_secret_sealed IS NOT NULL",
                "UPDATE instance SET host_secret_sealed = $2 WHERE instance_id = $1",
            ),
            (
                "SELECT credential_id, secret_sealed FROM credential",
                "UPDATE credential SET secret_sealed = $2 WHERE credential_id = $1",
            ),
        ] {
            let secrets: Vec<(i32, Vec<u8>)> =
                sqlx::query_as(select).fetch_all(&mut *transaction).await.map_err(problem)?;
            for (number, secret) in secrets {
                sqlx::query(update)
                    .bind(number)
                    .bind(seal(&secret)?)
                    .execute(&mut *transaction)
                    .await
                    .map_err(problem)?;
                sealed += 1;
            }
        }
        transaction.commit().await.map_err(problem)?;
        Ok(sealed)
    }
}
