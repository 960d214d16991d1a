use std::collections::{HashMap, HashSet};

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
    let moments: Vec<Timestamp> = looks.into_iter().map(at).collect();
    let seconds = stands_for(&moments);
    // Looks and those seen in them come in the same order.
    let mut rows = rows.iter().peekable();
    let look = |(moment, seconds)| {
        let mut parties = Vec::new();
        while let Some(row) = rows.next_if(|row| at(row.get(place::AT)) <= moment) {
            if at(row.get(place::AT)) == moment {
                parties.push(party(row, &names));
            }
        }
        Look::new(moment, seconds, parties)
    };
    Ok(moments.into_iter().zip(seconds).map(look).collect())
}

/// Where columns of [`SEEN`] stand: a day may have tens of thousands of rows, and to look columns up by name for each
/// takes as long as to read them.
mod place {
    pub const AT: usize = 0;
    pub const PROCESS: usize = 1;
    pub const PROCESS_STARTED: usize = 2;
    pub const WAIT_KIND: usize = 3;
    pub const FAMILY: usize = 4;
    pub const ACCOUNT: usize = 5;
    pub const PROGRAM: usize = 6;
    pub const CLIENT: usize = 7;
    pub const DATABASE: usize = 8;
    pub const TRANSACTION_STARTED: usize = 9;
    pub const STATEMENT_STARTED: usize = 10;
    pub const BLOCKED_BY: usize = 11;
    pub const LOCK_MODE: usize = 12;
    pub const LOCK_KIND: usize = 13;
    pub const LOCK_OBJECT: usize = 14;
    /// Those that hold numbers of names.
    pub const NAMES: [usize; 7] = [ACCOUNT, PROGRAM, CLIENT, DATABASE, LOCK_MODE, LOCK_KIND, LOCK_OBJECT];
}

/// The names that rows of sessions hold numbers of.
async fn names_of(connection: &mut PgConnection, rows: &[PgRow]) -> Result<HashMap<i32, String>> {
    let of_row = |row: &PgRow| place::NAMES.map(|column| row.get::<Option<i32>, _>(column));
    let numbers: HashSet<i32> = rows.iter().flat_map(of_row).flatten().collect();
    let named = sqlx::query_as("SELECT name_id, name FROM name WHERE name_id = ANY($1)");
    Ok(named.bind(Vec::from_iter(numbers)).fetch_all(&mut *connection).await?.into_iter().collect())
}

fn party(row: &PgRow, names: &HashMap<i32, String>) -> Party {
    let named = |column: usize| names.get(&row.get::<Option<i32>, _>(column)?).cloned();
    let name = |column: usize| named(column).unwrap_or_default();
    let moment = |column: usize| row.get::<Option<DateTime<Utc>>, _>(column).map(at);
    let lock = |mode| AwaitedLock { mode, kind: name(place::LOCK_KIND), object: name(place::LOCK_OBJECT) };
    Party {
        session: SessionKey { process: row.get(place::PROCESS), started_at: at(row.get(place::PROCESS_STARTED)) },
        who: Who {
            account: name(place::ACCOUNT),
            program: name(place::PROGRAM),
            client: name(place::CLIENT),
            database: name(place::DATABASE),
        },
        is_idle: row.get::<Option<i16>, _>(place::WAIT_KIND).is_none(),
        transaction_started_at: moment(place::TRANSACTION_STARTED),
        statement_started_at: moment(place::STATEMENT_STARTED),
        family: row.get(place::FAMILY),
        blocked_by: row.get(place::BLOCKED_BY),
        awaited: named(place::LOCK_MODE).map(lock),
    }
}
