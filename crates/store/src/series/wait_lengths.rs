use chrono::{DateTime, Utc};
use hurnix_core::findings::hold_up::SessionKey;
use hurnix_core::findings::wait_lengths::SeenWaiting;
use hurnix_core::{Timestamp, WaitKind, Window};
use sqlx::{QueryBuilder, Row};

use super::activity::push_only;
use crate::{OnlyPart, Result, Store, at, time};

impl Store {
    /// Looks at the sessions of an instance in a window, in order of time, and the sessions of these parts that waited
    /// then, `most` at most. What is kept as sums only is not there.
    pub async fn seen_waiting(
        &self,
        instance_id: i32,
        window: Window,
        only: &[OnlyPart],
        most: usize,
    ) -> Result<(Vec<Timestamp>, Vec<SeenWaiting>)> {
        let looks: Vec<DateTime<Utc>> = sqlx::query_scalar(
            "SELECT sampled_at FROM activity_sample WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3
             ORDER BY sampled_at",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        let mut sql = QueryBuilder::new(
            "SELECT sampled_at, process, process_started_at, event_id, statement_started_at FROM activity WHERE instance_id = ",
        );
        sql.push_bind(instance_id).push(" AND sampled_at > ").push_bind(time(window.from));
        sql.push(" AND sampled_at <= ").push_bind(time(window.to));
        sql.push(" AND wait_kind <> ").push_bind(WaitKind::Running.position() as i16);
        push_only(&mut sql, only);
        sql.push(" ORDER BY sampled_at, process LIMIT ").push_bind(most as i64);
        let rows = sql.build().fetch_all(&self.pool).await?;
        let seen = rows.iter().map(|row| SeenWaiting {
            at: at(row.get("sampled_at")),
            session: SessionKey { process: row.get("process"), started_at: at(row.get("process_started_at")) },
            event: row.get("event_id"),
            statement_started_at: row.get::<Option<DateTime<Utc>>, _>("statement_started_at").map(at),
        });
        Ok((looks.into_iter().map(at).collect(), seen.collect()))
    }
}
