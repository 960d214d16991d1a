use hurnix_core::Named;
use sqlx::Row;
use sqlx::postgres::PgRow;
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::statements::escape_pattern;
use crate::{Result, Store, word};

/// Of each kind so many are found at most.
const MOST_OF_KIND: i64 = 6;
/// How alike what is typed and a part of a text must be, from 0 to 1: one letter wrong in six is passed over.
const LEAST_LIKENESS: f64 = 0.5;

/// What can be found by a few letters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum FoundKind {
    /// A family of statements, by its text.
    Statement,
    /// A table, by its name.
    Table,
    /// An open piece of advice, by its subject.
    Advice,
    /// An account, by its name.
    Account,
}

/// Something that was found.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FoundRow {
    /// What it is.
    pub kind: FoundKind,
    /// The instance that it is on; nothing for an account.
    pub instance_id: Option<i32>,
    /// The number of a family or a piece of advice, the database of a table, the name of an account.
    pub id: String,
    /// Its text, its name, or its subject.
    pub title: String,
}

impl Store {
    /// What holds this text, or nearly holds it, on instances of these groups; of all where there are none. What
    /// holds it comes first; of statements then those seen last. Accounts are looked through when asked for.
    pub async fn search(&self, text: &str, groups: &[String], with_accounts: bool) -> Result<Vec<FoundRow>> {
        let pattern = format!("%{}%", escape_pattern(text));
        let exact = self.found("ILIKE $1", &pattern, text, groups, with_accounts).await?;
        let lacking: Vec<FoundKind> =
            FoundKind::all().filter(|kind| !exact.iter().any(|found| found.kind == *kind)).collect();
        if lacking.is_empty() {
            return Ok(exact);
        }
        let nearly = self.found("%> $1", text, text, groups, with_accounts).await?;
        Ok(exact.into_iter().chain(nearly.into_iter().filter(|found| lacking.contains(&found.kind))).collect())
    }

    async fn found(
        &self,
        is_found: &str,
        argument: &str,
        text: &str,
        groups: &[String],
        with_accounts: bool,
    ) -> Result<Vec<FoundRow>> {
        let sql = format!(
            "WITH seen AS (SELECT instance_id FROM instance WHERE $3 = '{{}}' OR group_name = ANY($3))
             (SELECT 'statement' AS kind, instance_id, family_id::text AS id, text AS title FROM family
              WHERE text {is_found} AND instance_id IN (SELECT instance_id FROM seen)
              ORDER BY word_similarity($2, text) DESC, last_seen_at DESC LIMIT {MOST_OF_KIND})
             UNION ALL
             (SELECT 'table', instance_id, database_name, name FROM table_name
              WHERE name {is_found} AND instance_id IN (SELECT instance_id FROM seen)
              ORDER BY word_similarity($2, name) DESC, name LIMIT {MOST_OF_KIND})
             UNION ALL
             (SELECT 'advice', instance_id, advice_id::text, subject FROM advice
              WHERE state = 'open' AND subject {is_found} AND instance_id IN (SELECT instance_id FROM seen)
              ORDER BY word_similarity($2, subject) DESC, advice_id LIMIT {MOST_OF_KIND})
             UNION ALL
             (SELECT 'account', NULL, name, name FROM account WHERE $4 AND name {is_found}
              ORDER BY word_similarity($2, name) DESC, name LIMIT {MOST_OF_KIND})"
        );
        let mut transaction = self.pool.begin().await?;
        sqlx::query("SELECT set_config('pg_trgm.word_similarity_threshold', $1, true)")
            .bind(LEAST_LIKENESS.to_string())
            .execute(&mut *transaction)
            .await?;
        let rows = sqlx::query(sqlx::AssertSqlSafe(sql))
            .bind(argument)
            .bind(text)
            .bind(groups)
            .bind(with_accounts)
            .fetch_all(&mut *transaction)
            .await?;
        transaction.commit().await?;
        rows.iter().map(row).collect()
    }
}

fn row(row: &PgRow) -> Result<FoundRow> {
    Ok(FoundRow {
        kind: word(row, "kind")?,
        instance_id: row.get("instance_id"),
        id: row.get("id"),
        title: row.get("title"),
    })
}
