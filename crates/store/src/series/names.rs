use std::collections::HashMap;

use hurnix_core::readings::statement_kind::StatementKind;
use hurnix_core::{Named, Timestamp};
use sqlx::Row;

use crate::{Result, Store, time};

/// Families whose sort is judged at once.
const JUDGED_AT_ONCE: i64 = 1_000;

/// A family to be known by its number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewFamily {
    /// Fingerprint of the text.
    pub fingerprint: i64,
    /// Text of the family.
    pub text: String,
    /// Comment kept beside it.
    pub tag: Option<String>,
    /// A statement of it, without literals.
    pub sample: String,
    /// Whether the sample comes from the server's own counters, and so replaces one that does not.
    pub sample_is_the_servers: bool,
}

impl Store {
    /// Numbers for names; names not known yet get one.
    pub async fn names(&self, instance_id: i32, names: &[String], seen_at: Timestamp) -> Result<HashMap<String, i32>> {
        sqlx::query(
            "INSERT INTO name (instance_id, name, last_seen_at) SELECT $1, unnest($2::text[]), $3
             ON CONFLICT (instance_id, name) DO UPDATE SET last_seen_at = excluded.last_seen_at
             WHERE name.last_seen_at < excluded.last_seen_at - interval '1 day'",
        )
        .bind(instance_id)
        .bind(names)
        .bind(time(seen_at))
        .execute(&self.pool)
        .await?;
        let rows = sqlx::query("SELECT name, name_id FROM name WHERE instance_id = $1 AND name = ANY($2)")
            .bind(instance_id)
            .bind(names)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(|row| (row.get("name"), row.get("name_id"))).collect())
    }

    /// The number of a name, if it is known.
    pub async fn name_id(&self, instance_id: i32, name: &str) -> Result<Option<i32>> {
        Ok(sqlx::query_scalar("SELECT name_id FROM name WHERE instance_id = $1 AND name = $2")
            .bind(instance_id)
            .bind(name)
            .fetch_optional(&self.pool)
            .await?)
    }

    /// Numbers for families by fingerprint; families not known yet get one.
    pub async fn families(
        &self,
        instance_id: i32,
        families: &[NewFamily],
        seen_at: Timestamp,
    ) -> Result<HashMap<i64, i64>> {
        let mut ids = HashMap::new();
        let mut transaction = self.pool.begin().await?;
        for family in families {
            let id: i64 = sqlx::query_scalar(
                "INSERT INTO family (instance_id, fingerprint, text, tag, sample, kind, first_seen_at, last_seen_at)
                 VALUES ($1, $2, $3, $4, $5, $8, $6, $6)
                 ON CONFLICT (instance_id, fingerprint) DO UPDATE
                 SET kind = excluded.kind, sample = CASE WHEN $7 THEN excluded.sample ELSE family.sample END, tag = coalesce(excluded.tag, family.tag),
                     last_seen_at = greatest(family.last_seen_at, excluded.last_seen_at)
                 RETURNING family_id",
            )
            .bind(instance_id)
            .bind(family.fingerprint)
            .bind(&family.text)
            .bind(&family.tag)
            .bind(&family.sample)
            .bind(time(seen_at))
            .bind(family.sample_is_the_servers)
            .bind(StatementKind::of(&family.text).name())
            .fetch_one(&mut *transaction)
            .await?;
            ids.insert(family.fingerprint, id);
        }
        transaction.commit().await?;
        Ok(ids)
    }

    /// Judges what sort of statement families are that an earlier version kept, some at a time; answers how many.
    pub async fn judge_families(&self) -> Result<usize> {
        let rows: Vec<(i64, String)> =
            sqlx::query_as("SELECT family_id, text FROM family WHERE kind IS NULL ORDER BY family_id LIMIT $1")
                .bind(JUDGED_AT_ONCE)
                .fetch_all(&self.pool)
                .await?;
        let (ids, kinds): (Vec<i64>, Vec<&str>) =
            rows.iter().map(|(id, text)| (*id, StatementKind::of(text).name())).unzip();
        sqlx::query(
            "UPDATE family SET kind = judged.kind FROM unnest($1::bigint[], $2::text[]) AS judged(id, kind)
             WHERE family_id = judged.id",
        )
        .bind(&ids)
        .bind(&kinds)
        .execute(&self.pool)
        .await?;
        Ok(ids.len())
    }
}
