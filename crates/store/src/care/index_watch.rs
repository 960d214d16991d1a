use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::findings::index_watch::IndexWatch;

use crate::{Result, Store, at, time};

impl Store {
    /// How long each index of an instance has been watched, by the server's number of it.
    pub async fn index_watch(&self, instance_id: i32) -> Result<HashMap<u32, IndexWatch>> {
        let rows: Vec<(i64, DateTime<Utc>, DateTime<Utc>)> =
            sqlx::query_as("SELECT index_oid, seen_since, unread_since FROM index_watch WHERE instance_id = $1")
                .bind(instance_id)
                .fetch_all(&self.pool)
                .await?;
        let watch = |(oid, seen, unread): (i64, _, _)| {
            (oid as u32, IndexWatch { seen_since: at(seen), unread_since: at(unread) })
        };
        Ok(rows.into_iter().map(watch).collect())
    }

    /// Keeps that: what is `changed` is written, and those that are not `known` any more are forgotten.
    pub async fn write_index_watch(
        &self,
        instance_id: i32,
        changed: &[(u32, IndexWatch)],
        known: impl Iterator<Item = u32>,
    ) -> Result<()> {
        let known: Vec<i64> = known.map(i64::from).collect();
        let column = |of: fn(&IndexWatch) -> hurnix_core::Timestamp| -> Vec<DateTime<Utc>> {
            changed.iter().map(|(_, watch)| time(of(watch))).collect()
        };
        sqlx::query(
            "WITH gone AS (DELETE FROM index_watch WHERE instance_id = $1 AND NOT index_oid = ANY($2))
             INSERT INTO index_watch (instance_id, index_oid, seen_since, unread_since)
             SELECT $1, * FROM unnest($3::bigint[], $4::timestamptz[], $5::timestamptz[])
             ON CONFLICT (instance_id, index_oid)
             DO UPDATE SET seen_since = excluded.seen_since, unread_since = excluded.unread_since",
        )
        .bind(instance_id)
        .bind(known)
        .bind(changed.iter().map(|(oid, _)| i64::from(*oid)).collect::<Vec<_>>())
        .bind(column(|watch| watch.seen_since))
        .bind(column(|watch| watch.unread_since))
        .execute(&self.pool)
        .await?;
        Ok(())
    }
}
