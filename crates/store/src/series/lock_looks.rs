use std::collections::HashMap;

use chrono::{DateTime, Utc};
use hurnix_core::findings::hold_up::{Look, Party, SessionKey, Who, stands_for};
use hurnix_core::readings::activity::AwaitedLock;
use hurnix_core::{Timestamp, Window};
use sqlx::postgres::PgRow;
use sqlx::{AssertSqlSafe, PgConnection, Row};

use crate::{Result, Store, at, time};

/// What is read of a session that waits, or that others wait for.
const SEEN: &str =
    "sampled_at, process, process_started_at, wait_kind, family_id, account_id, program_id, client_id, database_id,
    transaction_started_at, statement_started_at, blocked_by, lock_mode_id, lock_kind_id, lock_object_id";

impl Store {
    /// The looks at the sessions of an instance in a window, with those who waited for locks then and those who kept them
    /// waiting. What is kept as sums only is not there.
    pub async fn lock_looks(&self, instance_id: i32, window: Window) -> Result<Vec<Look>> {
        lock_looks(&mut *self.pool.acquire().await?, instance_id, window).await
    }
}

/// Likewise, over a connection that holds something already.
pub(crate) async fn lock_looks(connection: &mut PgConnection, instance_id: i32, window: Window) -> Result<Vec<Look>> {
    // A day has 86,400 of them: as one list they are read in a tenth of the time of as many rows.
    let looks: Vec<DateTime<Utc>> = sqlx::query_scalar(
        "SELECT coalesce(array_agg(sampled_at), '{}') FROM (
                SELECT sampled_at FROM activity_sample WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3
                ORDER BY sampled_at) look",
    )
    .bind(instance_id)
    .bind(time(window.from))
    .bind(time(window.to))
    .fetch_one(&mut *connection)
    .await?;
    // Those who waited are few and have an index of their own; whoever kept them waiting is looked up one by one.
    let rows = sqlx::query(AssertSqlSafe(format!(
            "WITH waiting AS MATERIALIZED (
                SELECT {SEEN}
                FROM activity WHERE instance_id = $1 AND sampled_at > $2 AND sampled_at <= $3 AND cardinality(blocked_by) > 0),
             kept AS (SELECT DISTINCT sampled_at, unnest(blocked_by) AS process FROM waiting)
             SELECT * FROM waiting
             UNION ALL
             SELECT holder.* FROM kept CROSS JOIN LATERAL (
                SELECT {SEEN}
                FROM activity WHERE instance_id = $1 AND sampled_at = kept.sampled_at AND process = kept.process AND cardinality(blocked_by) = 0
                OFFSET 0) holder
             ORDER BY sampled_at, process"
        )))
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&mut *connection)
        .await?;
    let names = names_of(connection, &rows).await?;
    let mut parties: HashMap<Timestamp, Vec<Party>> = HashMap::new();
    for row in &rows {
        parties.entry(at(row.get("sampled_at"))).or_default().push(party(row, &names));
    }
    let moments: Vec<Timestamp> = looks.into_iter().map(at).collect();
    let seconds = stands_for(&moments);
    let look = |(at, seconds)| Look::new(at, seconds, parties.remove(&at).unwrap_or_default());
    Ok(moments.into_iter().zip(seconds).map(look).collect())
}

/// The names that rows of sessions hold numbers of.
async fn names_of(connection: &mut PgConnection, rows: &[PgRow]) -> Result<HashMap<i32, String>> {
    let numbers = NAMES.iter().flat_map(|column| rows.iter().filter_map(|row| row.get::<Option<i32>, _>(*column)));
    let mut numbers: Vec<i32> = numbers.collect();
    numbers.sort_unstable();
    numbers.dedup();
    let named = sqlx::query_as("SELECT name_id, name FROM name WHERE name_id = ANY($1)");
    Ok(named.bind(numbers).fetch_all(&mut *connection).await?.into_iter().collect())
}

const NAMES: [&str; 7] =
    ["account_id", "program_id", "client_id", "database_id", "lock_mode_id", "lock_kind_id", "lock_object_id"];

fn party(row: &PgRow, names: &HashMap<i32, String>) -> Party {
    let named = |column: &str| names.get(&row.get::<Option<i32>, _>(column)?).cloned();
    let name = |column: &str| named(column).unwrap_or_default();
    let moment = |column: &str| row.get::<Option<DateTime<Utc>>, _>(column).map(at);
    let lock = |mode| AwaitedLock { mode, kind: name("lock_kind_id"), object: name("lock_object_id") };
    Party {
        session: SessionKey { process: row.get("process"), started_at: at(row.get("process_started_at")) },
        who: Who {
            account: name("account_id"),
            program: name("program_id"),
            client: name("client_id"),
            database: name("database_id"),
        },
        is_idle: row.get::<Option<i16>, _>("wait_kind").is_none(),
        transaction_started_at: moment("transaction_started_at"),
        statement_started_at: moment("statement_started_at"),
        family: row.get("family_id"),
        blocked_by: row.get("blocked_by"),
        awaited: named("lock_mode_id").map(lock),
    }
}
