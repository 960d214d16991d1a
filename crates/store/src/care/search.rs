use hurnix_core::Named;
use sqlx::Row;
use sqlx::postgres::PgRow;
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::statements::escape_pattern;
use crate::{Result, Store, word};

/// Of each kind so many are found at most.
const MOST_OF_KIND: i64 = 6;
/// Of each kind so many that are found are put in order by their likeness, which is dear to work out: a word such as
/// `select` is in every statement.
const MOST_COMPARED: i64 = 500;
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

impl FoundKind {
    /// What is looked through: number of the instance, what else tells it apart, and what is looked at.
    fn looked_through(self) -> &'static str {
        match self {
            FoundKind::Statement => {
                "SELECT instance_id, family_id::text AS id, text AS title, last_seen_at AS seen_at FROM family"
            }
            FoundKind::Table => {
                "SELECT instance_id, database_name AS id, name AS title, NULL::timestamptz AS seen_at FROM table_name"
            }
            FoundKind::Advice => {
                "SELECT instance_id, advice_id::text AS id, subject AS title, updated_at AS seen_at FROM advice
                 WHERE state = 'open'"
            }
            FoundKind::Account => {
                "SELECT NULL::int AS instance_id, name AS id, name AS title, NULL::timestamptz AS seen_at FROM account"
            }
        }
    }
}

/// How a text is looked for.
#[derive(Debug, Clone, Copy)]
enum Match {
    /// What holds it; of many the ones seen last.
    Exact,
    /// What nearly holds it. To compare is dear, so of many any are taken.
    Nearly,
}

impl Store {
    /// What holds this text, or nearly holds it, on instances of these groups; of all where there are none. What is
    /// most like it comes first; of statements then those seen last. Accounts are looked through when asked for.
    pub async fn search(&self, text: &str, groups: &[String], with_accounts: bool) -> Result<Vec<FoundRow>> {
        let mut kinds: Vec<FoundKind> =
            FoundKind::all().filter(|kind| with_accounts || *kind != FoundKind::Account).collect();
        let mut found = self.found(Match::Exact, &kinds, text, groups).await?;
        kinds.retain(|kind| !found.iter().any(|found| found.kind == *kind));
        if !kinds.is_empty() {
            found.extend(self.found(Match::Nearly, &kinds, text, groups).await?);
        }
        Ok(found)
    }

    async fn found(&self, by: Match, kinds: &[FoundKind], text: &str, groups: &[String]) -> Result<Vec<FoundRow>> {
        let (is_found, order, argument) = match by {
            Match::Exact => ("ILIKE $1", "ORDER BY seen_at DESC NULLS LAST", format!("%{}%", escape_pattern(text))),
            Match::Nearly => ("%> $1", "", text.to_owned()),
        };
        let of_kind = |kind: &FoundKind| {
            format!(
                "(SELECT '{}' AS kind, * FROM (
                    SELECT * FROM ({}) AS one WHERE title {is_found} AND (instance_id IS NULL OR instance_id IN
                        (SELECT instance_id FROM instance WHERE $3 = '{{}}' OR group_name = ANY($3)))
                    {order} LIMIT {MOST_COMPARED}
                  ) AS found
                  ORDER BY word_similarity($2, title) DESC, seen_at DESC NULLS LAST, title, id LIMIT {MOST_OF_KIND})",
                kind.name(),
                kind.looked_through()
            )
        };
        let sql = kinds.iter().map(of_kind).collect::<Vec<_>>().join(" UNION ALL ");
        let mut transaction = self.pool.begin().await?;
        sqlx::query("SELECT set_config('pg_trgm.word_similarity_threshold', $1, true)")
            .bind(LEAST_LIKENESS.to_string())
            .execute(&mut *transaction)
            .await?;
        let rows = sqlx::query(sqlx::AssertSqlSafe(sql))
            .bind(argument)
            .bind(text)
            .bind(groups)
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
