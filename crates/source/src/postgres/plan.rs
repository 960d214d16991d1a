use std::collections::HashMap;

use hurnix_core::readings::plan::{Plan, identity};
use hurnix_core::readings::statement::is_planned;
use sqlx::{AssertSqlSafe, Connection, PgConnection, Row};

use super::PostgresSource;
use crate::{Planned, ReadProblem};

impl PostgresSource {
    /// The plan that the server would make for a statement whatever its parameters are.
    ///
    /// The statement is prepared and explained with nulls, never run. It is sent in the protocol that
    /// takes one statement at a time, inside a read-only transaction that is rolled back, so a text
    /// that is not what it seems can do nothing.
    pub(super) async fn read_plan(&mut self, statement: &str) -> Result<Planned, ReadProblem> {
        if !is_planned(statement) {
            return Ok(Planned::Absent("The server plans no statement of this sort.".into()));
        }
        let mut transaction = self.connection.begin().await?;
        let prepare = AssertSqlSafe(format!("PREPARE hurnix_plan AS /* hurnix */ {statement}"));
        let prepared = sqlx::query(prepare).persistent(false).execute(&mut *transaction).await;
        let is_prepared = prepared.is_ok();
        let plan = match prepared {
            Ok(_) => made(&mut transaction).await,
            Err(error) => Err(error),
        };
        transaction.rollback().await?;
        if is_prepared {
            // Not part of the transaction, so it outlives it.
            sqlx::query("DEALLOCATE /* hurnix */ hurnix_plan").persistent(false).execute(&mut self.connection).await?;
        }
        match plan {
            Ok((text, identity)) => Ok(Planned::Made { text, identity }),
            Err(sqlx::Error::Database(refusal)) => {
                Ok(Planned::Absent(format!("The server could not plan it: {}.", refusal.message())))
            }
            Err(error) => Err(error.into()),
        }
    }
}

/// The plan of what was prepared, and what tells it from others.
async fn made(connection: &mut PgConnection) -> Result<(String, i64), sqlx::Error> {
    let text = explain(connection).await?;
    let Ok(mut plan) = Plan::read(&text) else {
        let identity = identity(&text);
        return Ok((text, identity));
    };
    let names: Vec<&str> = plan.names().collect();
    let wholes = wholes(connection, &names).await?;
    plan.note_partitions(|name| wholes.get(name).map(String::as_str));
    Ok((text, plan.identity()))
}

/// The table or index that each of these is a part of, of those that are partitions.
pub(super) async fn wholes(
    connection: &mut PgConnection,
    names: &[&str],
) -> Result<HashMap<String, String>, sqlx::Error> {
    let wholes: Vec<(String, String)> = sqlx::query_as(
        "SELECT /* hurnix */ DISTINCT ON (part.relname) part.relname::text, whole.relname::text
         FROM pg_class part JOIN pg_class whole ON whole.oid = pg_partition_root(part.oid)
         WHERE part.relispartition AND part.relname = ANY($1) ORDER BY part.relname, part.oid",
    )
    .bind(names)
    .fetch_all(&mut *connection)
    .await?;
    Ok(wholes.into_iter().collect())
}

async fn explain(connection: &mut PgConnection) -> Result<String, sqlx::Error> {
    let parameters: i32 = sqlx::query_scalar(
        "SELECT /* hurnix */ coalesce(cardinality(parameter_types), 0) FROM pg_prepared_statements WHERE name = 'hurnix_plan'",
    )
    .fetch_one(&mut *connection)
    .await?;
    sqlx::query("SET LOCAL /* hurnix */ plan_cache_mode = force_generic_plan")
        .persistent(false)
        .execute(&mut *connection)
        .await?;
    let values =
        if parameters == 0 { String::new() } else { format!("({})", vec!["NULL"; parameters as usize].join(", ")) };
    let rows = sqlx::query(AssertSqlSafe(format!("EXPLAIN /* hurnix */ EXECUTE hurnix_plan{values}")))
        .persistent(false)
        .fetch_all(&mut *connection)
        .await?;
    Ok(rows.iter().map(|row| row.get::<String, _>(0)).collect::<Vec<_>>().join("\n"))
}
