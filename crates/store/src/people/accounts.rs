use hurnix_core::access::preferences::Preferences;
use hurnix_core::access::role::Role;
use hurnix_core::{Named, Timestamp};
use sqlx::postgres::PgRow;
use sqlx::{PgConnection, Postgres, Row, Transaction};

use crate::{Result, Store, StoreProblem, at, from_json, to_json};

/// Somebody who may use Hurnix.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// Number.
    pub account_id: i32,
    /// Name to sign in with.
    pub name: String,
    /// What it may do.
    pub role: Role,
    /// Argon2 hash of the password.
    pub password_hash: String,
    /// Whether the password serves for nothing but to set another one.
    pub one_time: bool,
    /// Groups of instances that it is limited to; all while there are none.
    pub groups: Vec<String>,
    /// When it was made.
    pub created_at: Timestamp,
}

/// An account to be made.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewAccount<'a> {
    /// Name to sign in with.
    pub name: &'a str,
    /// What it may do.
    pub role: Role,
    /// Argon2 hash of the password.
    pub password_hash: &'a str,
    /// Whether the password serves for nothing but to set another one.
    pub one_time: bool,
    /// Groups of instances that it is limited to.
    pub groups: &'a [String],
}

/// A role as the repository keeps it; one that nobody knows may least.
pub(crate) fn role(row: &PgRow, column: &str) -> Role {
    Role::named(row.get(column)).unwrap_or(Role::Reader)
}

fn account(row: &PgRow) -> Account {
    Account {
        account_id: row.get("account_id"),
        name: row.get("name"),
        role: role(row, "role"),
        password_hash: row.get("password_hash"),
        one_time: row.get("one_time"),
        groups: row.get("groups"),
        created_at: at(row.get("created_at")),
    }
}

impl Store {
    /// What an account has chosen for the pages.
    pub async fn preferences(&self, account_id: i32) -> Result<Preferences> {
        let kept: Option<serde_json::Value> =
            sqlx::query_scalar("SELECT preferences FROM account WHERE account_id = $1")
                .bind(account_id)
                .fetch_optional(&self.pool)
                .await?;
        kept.map_or_else(|| Ok(Preferences::default()), |kept| from_json("preferences", kept))
    }

    /// Keeps what an account has chosen for the pages.
    pub async fn set_preferences(&self, account_id: i32, preferences: &Preferences) -> Result<()> {
        sqlx::query("UPDATE account SET preferences = $2 WHERE account_id = $1")
            .bind(account_id)
            .bind(to_json("preferences", preferences)?)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// Whether nobody has an account yet.
    pub async fn has_no_account(&self) -> Result<bool> {
        Ok(sqlx::query_scalar("SELECT NOT EXISTS (SELECT FROM account)").fetch_one(&self.pool).await?)
    }

    /// Makes an account; the name must be free.
    pub async fn add_account(&self, new: &NewAccount<'_>) -> Result<i32> {
        let made: Option<i32> = sqlx::query_scalar(
            "INSERT INTO account (name, role, password_hash, one_time, groups) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT DO NOTHING RETURNING account_id",
        )
        .bind(new.name)
        .bind(new.role.name())
        .bind(new.password_hash)
        .bind(new.one_time)
        .bind(new.groups)
        .fetch_optional(&self.pool)
        .await?;
        made.ok_or_else(|| StoreProblem::Taken { field: "name", what: "an account", value: new.name.into() })
    }

    /// The account of that name.
    pub async fn account(&self, name: &str) -> Result<Option<Account>> {
        let row = sqlx::query("SELECT * FROM account WHERE name = $1").bind(name).fetch_optional(&self.pool).await?;
        Ok(row.as_ref().map(account))
    }

    /// All accounts by name, each with when it was last used.
    pub async fn accounts(&self) -> Result<Vec<(Account, Option<Timestamp>)>> {
        let rows = sqlx::query(
            "SELECT account.*, greatest(
                (SELECT max(seen_at) FROM session WHERE session.account_id = account.account_id),
                (SELECT max(seen_at) FROM known_client known WHERE known.account_id = account.account_id),
                (SELECT max(seen_at) FROM api_token token WHERE token.account_id = account.account_id)) AS seen_at
             FROM account ORDER BY name",
        )
        .fetch_all(&self.pool)
        .await?;
        let seen_at = |row: &PgRow| row.get::<Option<chrono::DateTime<chrono::Utc>>, _>("seen_at").map(at);
        Ok(rows.iter().map(|row| (account(row), seen_at(row))).collect())
    }

    /// Changes what an account may do; its sessions go on, with what it may do now. The last administrator
    /// stays one: then nothing changes, and the answer is [`StoreProblem::LastAdministrator`].
    pub async fn change_account(&self, account_id: i32, to: Role, groups: &[String]) -> Result<bool> {
        let mut transaction = self.change_accounts().await?;
        let changed = sqlx::query("UPDATE account SET role = $2, groups = $3 WHERE account_id = $1")
            .bind(account_id)
            .bind(to.name())
            .bind(groups)
            .execute(&mut *transaction)
            .await?;
        keep_an_administrator(&mut transaction).await?;
        transaction.commit().await?;
        Ok(changed.rows_affected() > 0)
    }

    /// Removes an account with its sessions and tokens; likewise.
    pub async fn remove_account(&self, account_id: i32) -> Result<bool> {
        let mut transaction = self.change_accounts().await?;
        let removed = sqlx::query("DELETE FROM account WHERE account_id = $1")
            .bind(account_id)
            .execute(&mut *transaction)
            .await?;
        keep_an_administrator(&mut transaction).await?;
        transaction.commit().await?;
        Ok(removed.rows_affected() > 0)
    }

    /// Others who change accounts wait until this is committed: else each could remove the last but one.
    async fn change_accounts(&self) -> Result<Transaction<'static, Postgres>> {
        let mut transaction = self.pool.begin().await?;
        sqlx::query("LOCK TABLE account IN SHARE ROW EXCLUSIVE MODE").execute(&mut *transaction).await?;
        Ok(transaction)
    }

    /// Sets the password of an account, and ends all its sessions but one.
    pub async fn set_password(
        &self,
        account_id: i32,
        password_hash: &str,
        one_time: bool,
        but_session: Option<i32>,
    ) -> Result<bool> {
        let mut transaction = self.pool.begin().await?;
        let set = sqlx::query("UPDATE account SET password_hash = $2, one_time = $3 WHERE account_id = $1")
            .bind(account_id)
            .bind(password_hash)
            .bind(one_time)
            .execute(&mut *transaction)
            .await?;
        sqlx::query("DELETE FROM session WHERE account_id = $1 AND session_id IS DISTINCT FROM $2")
            .bind(account_id)
            .bind(but_session)
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(set.rows_affected() > 0)
    }
}

/// Somebody must be left who can manage accounts, and two where one approves what the other proposes.
async fn keep_an_administrator(connection: &mut PgConnection) -> Result<()> {
    let left: (bool, bool) = sqlx::query_as(
        "SELECT count(*) >= 1, count(*) >= 2 OR NOT (SELECT second_person FROM house_rule) FROM account WHERE role = 'administrator'",
    )
    .fetch_one(connection)
    .await?;
    match left {
        (false, _) => Err(StoreProblem::LastAdministrator),
        (true, false) => Err(StoreProblem::SecondPerson),
        (true, true) => Ok(()),
    }
}
