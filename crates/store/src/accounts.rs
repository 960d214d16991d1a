use hurnix_core::At;
use sqlx::Row;

use crate::{Result, Store, StoreProblem, time};

/// Somebody who may use Hurnix.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Account {
    /// Number.
    pub account_id: i32,
    /// Name to sign in with.
    pub name: String,
    /// `reader`, `tuner` or `administrator`.
    pub role: String,
    /// Argon2 hash of the password.
    pub password_hash: String,
}

/// A signed-in browser.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Session {
    /// Name of the account.
    pub name: String,
    /// Its role.
    pub role: String,
    /// What requests that change something must show.
    pub csrf_token: String,
}

impl Store {
    /// Whether nobody has an account yet.
    pub async fn has_no_account(&self) -> Result<bool> {
        Ok(sqlx::query_scalar("SELECT NOT EXISTS (SELECT FROM account)").fetch_one(&self.pool).await?)
    }

    /// Makes an account; the name must be free.
    pub async fn add_account(&self, name: &str, role: &str, password_hash: &str) -> Result<()> {
        let made =
            sqlx::query("INSERT INTO account (name, role, password_hash) VALUES ($1, $2, $3) ON CONFLICT DO NOTHING")
                .bind(name)
                .bind(role)
                .bind(password_hash)
                .execute(&self.pool)
                .await?;
        if made.rows_affected() == 0 { Err(StoreProblem::Taken(format!("an account {name}"))) } else { Ok(()) }
    }

    /// The account of that name.
    pub async fn account(&self, name: &str) -> Result<Option<Account>> {
        let row = sqlx::query("SELECT account_id, name, role, password_hash FROM account WHERE name = $1")
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        Ok(row.map(|row| Account {
            account_id: row.get("account_id"),
            name: row.get("name"),
            role: row.get("role"),
            password_hash: row.get("password_hash"),
        }))
    }

    /// Begins a session, and forgets those that ended by themselves.
    pub async fn begin_session(
        &self,
        account_id: i32,
        token_hash: &[u8],
        csrf_token: &str,
        expires_at: At,
    ) -> Result<()> {
        sqlx::query("DELETE FROM session WHERE expires_at < now()").execute(&self.pool).await?;
        sqlx::query("INSERT INTO session (token_hash, account_id, csrf_token, expires_at) VALUES ($1, $2, $3, $4)")
            .bind(token_hash)
            .bind(account_id)
            .bind(csrf_token)
            .bind(time(expires_at))
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// The session of that token, unless it ended.
    pub async fn session(&self, token_hash: &[u8]) -> Result<Option<Session>> {
        let row = sqlx::query(
            "SELECT name, role, csrf_token FROM session JOIN account USING (account_id)
             WHERE token_hash = $1 AND expires_at > now()",
        )
        .bind(token_hash)
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|row| Session { name: row.get("name"), role: row.get("role"), csrf_token: row.get("csrf_token") }))
    }

    /// Ends a session.
    pub async fn end_session(&self, token_hash: &[u8]) -> Result<()> {
        sqlx::query("DELETE FROM session WHERE token_hash = $1").bind(token_hash).execute(&self.pool).await?;
        Ok(())
    }
}
