use chrono::{DateTime, Utc};
use hurnix_core::access::role::{self, Role};
use hurnix_core::{Named, Timestamp};
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::people::accounts::role;
use crate::{Result, Store, StoreProblem, at, time};

/// How somebody shows who they are.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Means {
    /// A signed-in browser.
    Session {
        /// Number.
        session_id: i32,
        /// What requests that change something must show.
        csrf_token: String,
    },
    /// A token, by its name.
    Token(String),
}

/// Somebody who was recognised.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Caller {
    /// Number of the account.
    pub account_id: i32,
    /// Its name.
    pub name: String,
    /// What it may do by this means.
    pub role: Role,
    /// Groups of instances that it is limited to; all while there are none.
    pub groups: Vec<String>,
    /// Whether it must set another password first.
    pub one_time: bool,
    /// How it was recognised.
    pub means: Means,
}

impl Caller {
    /// Whether it may see an instance of this group.
    pub fn sees(&self, group: Option<&str>) -> bool {
        role::sees(&self.groups, group)
    }
}

/// A signed-in browser, as it is listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionRow {
    /// Number.
    pub session_id: i32,
    /// Address that it was begun from.
    pub client: String,
    /// What the browser calls itself.
    pub program: String,
    /// When it was begun.
    pub began_at: Timestamp,
    /// When it was last used, to within a minute.
    pub seen_at: Timestamp,
    /// When it ends by itself.
    pub expires_at: Timestamp,
}

/// A session to be begun.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct NewSession<'a> {
    /// Number of the account.
    pub account_id: i32,
    /// What its token is known by.
    pub token_hash: &'a [u8],
    /// What requests that change something must show.
    pub csrf_token: &'a str,
    /// Address that it is begun from.
    pub client: &'a str,
    /// What the browser calls itself.
    pub program: &'a str,
    /// When it ends by itself.
    pub expires_at: Timestamp,
}

/// A token, as it is listed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TokenRow {
    /// Number.
    pub token_id: i32,
    /// Its name.
    pub name: String,
    /// What it may do at most.
    pub role: Role,
    /// When it was made.
    pub made_at: Timestamp,
    /// When it was last used, to within a minute.
    pub seen_at: Option<Timestamp>,
    /// When it ends by itself.
    pub expires_at: Timestamp,
}

impl Store {
    /// Begins a session, notes where from, and forgets those that ended by themselves. Answers with its number.
    pub async fn begin_session(&self, new: &NewSession<'_>) -> Result<i32> {
        sqlx::query("DELETE FROM session WHERE expires_at < now()").execute(&self.pool).await?;
        let session_id = sqlx::query_scalar(
            "INSERT INTO session (token_hash, account_id, csrf_token, client, program, expires_at)
             VALUES ($1, $2, $3, $4, $5, $6) RETURNING session_id",
        )
        .bind(new.token_hash)
        .bind(new.account_id)
        .bind(new.csrf_token)
        .bind(new.client)
        .bind(new.program)
        .bind(time(new.expires_at))
        .fetch_one(&self.pool)
        .await?;
        self.note_known_client(new.account_id, new.client).await?;
        Ok(session_id)
    }

    /// Notes a client by which an account is known, and forgets those that were not seen for long.
    pub async fn note_known_client(&self, account_id: i32, client: &str) -> Result<()> {
        sqlx::query("DELETE FROM known_client WHERE seen_at < now() - interval '90 days'").execute(&self.pool).await?;
        sqlx::query(
            "INSERT INTO known_client (account_id, client, seen_at) VALUES ($1, $2, now())
             ON CONFLICT (account_id, client) DO UPDATE SET seen_at = now()",
        )
        .bind(account_id)
        .bind(client)
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// Ends the session of a token, if there is one.
    pub async fn end_session_of(&self, token_hash: &[u8]) -> Result<()> {
        sqlx::query("DELETE FROM session WHERE token_hash = $1").bind(token_hash).execute(&self.pool).await?;
        Ok(())
    }

    /// Who shows that session's token, unless it ended.
    pub async fn caller_by_session(&self, token_hash: &[u8]) -> Result<Option<Caller>> {
        let row = sqlx::query(
            "WITH seen AS (
                UPDATE session SET seen_at = now() WHERE token_hash = $1 AND seen_at < now() - interval '1 minute'
             )
             SELECT session_id, csrf_token, account.* FROM session JOIN account USING (account_id)
             WHERE token_hash = $1 AND expires_at > now()",
        )
        .bind(token_hash)
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|row| {
            let means = Means::Session { session_id: row.get("session_id"), csrf_token: row.get("csrf_token") };
            caller(&row, role(&row, "role"), means)
        }))
    }

    /// Sessions of an account, the one used last first.
    pub async fn sessions(&self, account_id: i32) -> Result<Vec<SessionRow>> {
        let rows =
            sqlx::query("SELECT * FROM session WHERE account_id = $1 AND expires_at > now() ORDER BY seen_at DESC, 1")
                .bind(account_id)
                .fetch_all(&self.pool)
                .await?;
        let session = |row: &PgRow| SessionRow {
            session_id: row.get("session_id"),
            client: row.get("client"),
            program: row.get("program"),
            began_at: at(row.get("began_at")),
            seen_at: at(row.get("seen_at")),
            expires_at: at(row.get("expires_at")),
        };
        Ok(rows.iter().map(session).collect())
    }

    /// Ends a session of an account; says whether there was one.
    pub async fn end_session(&self, account_id: i32, session_id: i32) -> Result<bool> {
        let ended = sqlx::query("DELETE FROM session WHERE account_id = $1 AND session_id = $2")
            .bind(account_id)
            .bind(session_id)
            .execute(&self.pool)
            .await?;
        Ok(ended.rows_affected() > 0)
    }

    /// Makes a token for an account; its name must be free among the account's.
    pub async fn add_token(
        &self,
        account_id: i32,
        name: &str,
        role: Role,
        token_hash: &[u8],
        expires_at: Timestamp,
    ) -> Result<i32> {
        let made: Option<i32> = sqlx::query_scalar(
            "INSERT INTO api_token (account_id, name, role, token_hash, expires_at) VALUES ($1, $2, $3, $4, $5)
             ON CONFLICT DO NOTHING RETURNING token_id",
        )
        .bind(account_id)
        .bind(name)
        .bind(role.name())
        .bind(token_hash)
        .bind(time(expires_at))
        .fetch_optional(&self.pool)
        .await?;
        made.ok_or_else(|| StoreProblem::Taken { field: "name", what: "a token", value: name.into() })
    }

    /// Who shows that token, unless it ended: with what both it and its account may do.
    pub async fn caller_by_token(&self, token_hash: &[u8]) -> Result<Option<Caller>> {
        let row = sqlx::query(
            "WITH seen AS (
                UPDATE api_token SET seen_at = now()
                WHERE token_hash = $1 AND coalesce(seen_at < now() - interval '1 minute', true)
             )
             SELECT token.name AS token_name, token.role AS token_role, account.*
             FROM api_token token JOIN account USING (account_id) WHERE token_hash = $1 AND expires_at > now()",
        )
        .bind(token_hash)
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|row| {
            let may = role(&row, "role").min(role(&row, "token_role"));
            caller(&row, may, Means::Token(row.get("token_name")))
        }))
    }

    /// Tokens of an account by name, also those that ended.
    pub async fn tokens(&self, account_id: i32) -> Result<Vec<TokenRow>> {
        let rows = sqlx::query("SELECT * FROM api_token WHERE account_id = $1 ORDER BY name")
            .bind(account_id)
            .fetch_all(&self.pool)
            .await?;
        let token = |row: &PgRow| TokenRow {
            token_id: row.get("token_id"),
            name: row.get("name"),
            role: role(row, "role"),
            made_at: at(row.get("made_at")),
            seen_at: row.get::<Option<DateTime<Utc>>, _>("seen_at").map(at),
            expires_at: at(row.get("expires_at")),
        };
        Ok(rows.iter().map(token).collect())
    }

    /// Takes a token of an account back; says whether there was one.
    pub async fn end_token(&self, account_id: i32, token_id: i32) -> Result<bool> {
        let ended = sqlx::query("DELETE FROM api_token WHERE account_id = $1 AND token_id = $2")
            .bind(account_id)
            .bind(token_id)
            .execute(&self.pool)
            .await?;
        Ok(ended.rows_affected() > 0)
    }
}

fn caller(row: &PgRow, role: Role, means: Means) -> Caller {
    Caller {
        account_id: row.get("account_id"),
        name: row.get("name"),
        role,
        groups: row.get("groups"),
        one_time: row.get("one_time"),
        means,
    }
}
