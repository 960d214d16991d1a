use std::collections::HashMap;

use hurnix_core::Timestamp;
use hurnix_core::readings::counters::{Counters, DatabaseCounters};
use sqlx::{QueryBuilder, Row};

use crate::series::pieces::{Entries, Fine, Pieces, Rows, push_cell};
use crate::series::statements::observed;
use crate::{Result, Store, at};

/// What the databases of an instance did in a window.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct DatabaseSums {
    /// By the server's number of the database.
    pub databases: HashMap<u32, DatabaseCounters>,
    /// Seconds of the window that were counted.
    pub seconds: f64,
}

impl Store {
    /// What each database did in a window.
    pub async fn database_sums(&self, instance_id: i32, pieces: &Pieces) -> Result<DatabaseSums> {
        let mut sql =
            QueryBuilder::new(format!("SELECT database_oid, ARRAY[{}] AS figures FROM ", sums::<DatabaseCounters>()));
        periods(None).push(&mut sql, instance_id, pieces);
        sql.push(" period GROUP BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let mut sql = QueryBuilder::new("SELECT coalesce(sum(seconds), 0)::float8 AS seconds FROM ");
        observed().push(&mut sql, instance_id, pieces);
        sql.push(" period WHERE kind = 'databases'");
        let seconds = sql.build().fetch_one(&self.pool).await?.get("seconds");
        let counters = |values: Vec<i64>| DatabaseCounters::from_values(&values);
        let sums = rows.iter().map(|row| (row.get::<i64, _>("database_oid") as u32, counters(row.get("figures"))));
        Ok(DatabaseSums { databases: sums.collect(), seconds })
    }

    /// What one database did, or all of them together, with the seconds counted, in cells of `cell_seconds`. Cells in which nothing was
    /// counted are left out.
    pub async fn database_cells(
        &self,
        instance_id: i32,
        database_oid: Option<u32>,
        pieces: &Pieces,
        cell_seconds: i64,
    ) -> Result<Vec<(Timestamp, f64, DatabaseCounters)>> {
        let mut sql = QueryBuilder::new("SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(format_args!(" AS cell, ARRAY[{}] AS figures FROM ", sums::<DatabaseCounters>()));
        periods(database_oid).push(&mut sql, instance_id, pieces);
        sql.push(" period GROUP BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let figures: HashMap<Timestamp, Vec<i64>> =
            rows.iter().map(|row| (at(row.get("cell")), row.get("figures"))).collect();
        let mut sql = QueryBuilder::new("SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(" AS cell, sum(seconds)::float8 AS seconds FROM ");
        observed().push(&mut sql, instance_id, pieces);
        sql.push(" period WHERE kind = 'databases' GROUP BY 1 ORDER BY 1");
        let observed = sql.build().fetch_all(&self.pool).await?;
        let cell = |row: &sqlx::postgres::PgRow| {
            let start = at(row.get("cell"));
            let counters = figures.get(&start).map(|values| DatabaseCounters::from_values(values)).unwrap_or_default();
            (start, row.get("seconds"), counters)
        };
        Ok(observed.iter().map(cell).collect())
    }
}

/// Periods of all databases, or of one.
fn periods(only: Option<u32>) -> Rows {
    Rows {
        fine: Fine::Lists { table: "database_period" },
        stem: "database",
        columns: format!("database_oid, {}", DatabaseCounters::NAMES.join(", ")),
        which: only.map_or(Entries::All, |oid| Entries::Only("database_oid", vec![i64::from(oid)])),
    }
}

/// The sums of all figures of a kind, in the order of their names.
pub(crate) fn sums<C: Counters>() -> String {
    let sums: Vec<String> = C::NAMES.iter().map(|name| format!("coalesce(sum({name}), 0)::bigint")).collect();
    sums.join(", ")
}
