use std::collections::{HashMap, HashSet};

use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::load::Load;
use hurnix_core::{Named, Timestamp, WaitKind, Window};
use sqlx::{Postgres, QueryBuilder, Row};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::care::glance::note_load;
use crate::series::copy::{CopyRows, Field};
use crate::series::pieces::{Entries, Fine, Pieces, Rows, push_cell};
use crate::series::roll_up::note_due;
use crate::{Result, Store, at, time};

/// One sampled session with its words replaced by their numbers.
#[derive(Debug, Clone, PartialEq)]
pub struct ActivityRow<'a> {
    /// The session.
    pub session: &'a Session,
    /// Number of its wait event.
    pub event_id: Option<i32>,
    /// Family of its statement.
    pub family_id: Option<i64>,
    /// Number of its account.
    pub account_id: i32,
    /// Number of its program.
    pub program_id: i32,
    /// Number of its client.
    pub client_id: i32,
    /// Number of its database.
    pub database_id: i32,
    /// Numbers of mode, kind and object of the lock that it waits for.
    pub awaited: Option<[i32; 3]>,
}

/// Load in one cell of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct LoadCell {
    /// Start of the cell.
    pub at: Timestamp,
    /// Load in it.
    pub load: Load,
}

/// What load can be split by, besides wait kind.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Dimension {
    /// Statement family.
    Family,
    /// Wait event.
    Event,
    /// Account.
    Account,
    /// Program.
    Program,
    /// Client address.
    Client,
    /// Database.
    Database,
    /// Table whose lock they wait for.
    AwaitedTable,
}

impl Dimension {
    /// The column that holds the number of its part.
    fn column(self) -> &'static str {
        match self {
            Dimension::Family => "family_id",
            Dimension::Event => "event_id",
            Dimension::Account => "account_id",
            Dimension::Program => "program_id",
            Dimension::Client => "client_id",
            Dimension::Database => "database_id",
            Dimension::AwaitedTable => "lock_object_id",
        }
    }
}

/// One part that load is narrowed to: what is not of it is left out.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct OnlyPart {
    /// What it is a part by.
    pub dimension: Dimension,
    /// Its number; nothing for sessions of which it is not known, such as running ones without a wait event.
    pub part: Option<i64>,
}

/// Load split by a dimension.
#[derive(Debug, Clone, PartialEq)]
pub struct Breakdown {
    /// The heaviest parts.
    pub parts: Vec<BreakdownRow>,
    /// How many parts there are in all.
    pub count: i64,
}

/// One part of a split load.
#[derive(Debug, Clone, PartialEq)]
pub struct BreakdownRow {
    /// Its number: of a family, or of a name; nothing where it is not known.
    pub part: Option<i64>,
    /// Name of the part, or text of the family; empty when not known.
    pub name: String,
    /// Its load.
    pub load: Load,
    /// Its share of all that the window holds, parts that are not told included.
    pub share: f64,
}

impl Store {
    /// Writes samples in one transaction, and answers how many were new. A sample that is there already is
    /// left as it is.
    pub async fn write_activity(
        &self,
        instance_id: i32,
        samples: &[(Timestamp, i32, Vec<ActivityRow<'_>>)],
    ) -> Result<usize> {
        let moments = || samples.iter().map(|(at, _, _)| *at);
        let (Some(oldest), Some(newest)) = (moments().min(), moments().max()) else { return Ok(0) };
        match self.try_write_activity(instance_id, samples, newest).await {
            Err(problem) if problem.lacks_partition() => {
                self.make_partitions(Window { from: oldest, to: newest }).await?;
                self.try_write_activity(instance_id, samples, newest).await
            }
            other => other,
        }
    }

    async fn try_write_activity(
        &self,
        instance_id: i32,
        samples: &[(Timestamp, i32, Vec<ActivityRow<'_>>)],
        newest: Timestamp,
    ) -> Result<usize> {
        let mut transaction = self.pool.begin().await?;
        let times: Vec<DateTime<Utc>> = samples.iter().map(|(at, _, _)| time(*at)).collect();
        let sessions: Vec<i32> = samples.iter().map(|(_, sessions, _)| *sessions).collect();
        let new: Vec<DateTime<Utc>> = sqlx::query_scalar(
            "INSERT INTO activity_sample (instance_id, sampled_at, sessions)
             SELECT $1, * FROM unnest($2::timestamptz[], $3::int[]) ON CONFLICT DO NOTHING RETURNING sampled_at",
        )
        .bind(instance_id)
        .bind(&times)
        .bind(&sessions)
        .fetch_all(&mut *transaction)
        .await?;
        if new.is_empty() {
            return Ok(0);
        }
        let new: HashSet<DateTime<Utc>> = new.into_iter().collect();
        note_due(&mut transaction, instance_id, new.iter().map(|moment| at(*moment))).await?;
        let busy = |rows: &[ActivityRow]| rows.iter().filter(|row| row.session.wait_kind.is_some()).count();
        let looks = samples.iter().filter(|(at, _, _)| new.contains(&time(*at)));
        note_load(&mut transaction, instance_id, looks.map(|(at, _, rows)| (*at, busy(rows)))).await?;
        let mut copy = CopyRows::new();
        for (at, _, rows) in samples.iter().filter(|(at, _, _)| new.contains(&time(*at))) {
            for row in rows {
                let session = row.session;
                copy.push(&[
                    Field::Int(Some(instance_id)),
                    Field::Time(Some(*at)),
                    Field::Int(Some(session.process)),
                    Field::Time(Some(session.started_at)),
                    Field::Small(session.wait_kind.map(|kind| kind.position() as i16)),
                    Field::Int(row.event_id),
                    Field::Big(row.family_id),
                    Field::Int(Some(row.account_id)),
                    Field::Int(Some(row.program_id)),
                    Field::Int(Some(row.client_id)),
                    Field::Int(Some(row.database_id)),
                    Field::Time(session.transaction_started_at),
                    Field::Time(session.statement_started_at),
                    Field::Ints(&session.blocked_by),
                    Field::Int(row.awaited.map(|[mode, _, _]| mode)),
                    Field::Int(row.awaited.map(|[_, kind, _]| kind)),
                    Field::Int(row.awaited.map(|[_, _, object]| object)),
                ]);
            }
        }
        copy.send(
            &mut transaction,
            "activity",
            "instance_id, sampled_at, process, process_started_at, wait_kind, event_id, family_id, account_id, program_id,
             client_id, database_id, transaction_started_at, statement_started_at, blocked_by, lock_mode_id, lock_kind_id, lock_object_id",
        )
        .await?;
        sqlx::query("UPDATE instance SET last_success_at = greatest(last_success_at, $2) WHERE instance_id = $1")
            .bind(instance_id)
            .bind(time(newest))
            .execute(&mut *transaction)
            .await?;
        transaction.commit().await?;
        Ok(new.len())
    }

    /// Load by cells of `cell_seconds`, of these parts only; cells without samples are left out.
    pub async fn load(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        cell_seconds: i64,
        only: &[OnlyPart],
    ) -> Result<Vec<LoadCell>> {
        let mut sql = QueryBuilder::new("WITH looked AS (SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(" AS cell, sum(samples)::bigint AS samples FROM ");
        looks().push(&mut sql, instance_id, pieces);
        sql.push(" look GROUP BY 1), busy AS (SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(" AS cell, wait_kind, sum(busy)::bigint AS busy FROM ");
        busy_sessions(only, None).push(&mut sql, instance_id, pieces);
        sql.push(" session WHERE true");
        push_only(&mut sql, only);
        sql.push(" GROUP BY 1, 2) SELECT cell, samples, wait_kind, busy FROM looked LEFT JOIN busy USING (cell) ORDER BY cell");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let mut cells: Vec<LoadCell> = Vec::new();
        for row in &rows {
            let start = at(row.get("cell"));
            if cells.last().is_none_or(|cell| cell.at != start) {
                cells.push(LoadCell { at: start, load: Load { samples: row.get("samples"), ..Default::default() } });
            }
            if let (Some(cell), Some(kind), Some(busy)) = (
                cells.last_mut(),
                row.get::<Option<i16>, _>("wait_kind").and_then(|kind| WaitKind::at_position(kind as usize)),
                row.get::<Option<i64>, _>("busy"),
            ) {
                cell.load.busy[kind.position()] = busy;
            }
        }
        Ok(cells)
    }

    /// Busy sessions of some parts of a dimension, of other dimensions' parts only, summed by cells of `cell_seconds`;
    /// by part and start of the cell.
    pub async fn busy_by_cell(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        cell_seconds: i64,
        dimension: Dimension,
        parts: &[Option<i64>],
        only: &[OnlyPart],
    ) -> Result<HashMap<(Option<i64>, Timestamp), i64>> {
        let column = dimension.column();
        let mut sql = QueryBuilder::new("SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(format_args!(" AS cell, {column}::bigint AS part, sum(busy)::bigint AS busy FROM "));
        busy_sessions(only, Some(dimension)).push(&mut sql, instance_id, pieces);
        let known: Vec<i64> = parts.iter().copied().flatten().collect();
        sql.push(format_args!(" session WHERE ({column} = ANY(")).push_bind(known);
        sql.push(format_args!(") OR {column} IS NULL AND ")).push_bind(parts.contains(&None)).push(")");
        push_only(&mut sql, only);
        sql.push(" GROUP BY 1, 2");
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok(rows.iter().map(|row| ((row.get("part"), at(row.get("cell"))), row.get("busy"))).collect())
    }

    /// Load of a window, of these parts of other dimensions only, split by a dimension: the heaviest parts first.
    pub async fn breakdown(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        dimension: Dimension,
        only: &[OnlyPart],
        most: i64,
    ) -> Result<Breakdown> {
        let column = dimension.column();
        let (table, key, text) = match dimension {
            Dimension::Family => ("family", "family_id", "text"),
            _ => ("name", "name_id", "name"),
        };
        let kinds: Vec<String> = (0..WaitKind::ALL.len())
            .map(|kind| format!("coalesce(sum(busy) FILTER (WHERE wait_kind = {kind}), 0)::bigint"))
            .collect();
        let mut sql = QueryBuilder::new(format!(
            "SELECT part.*, coalesce(named.{text}, '') AS name, looked.samples
             FROM (SELECT {column}::bigint AS part, sum(busy)::bigint AS busy,
                    coalesce(sum(busy)::float8 / nullif(sum(sum(busy)) OVER (), 0)::float8, 0) AS share,
                    count(*) OVER () AS parts, ARRAY[{}] AS kinds FROM ",
            kinds.join(", ")
        ));
        busy_sessions(only, Some(dimension)).push(&mut sql, instance_id, pieces);
        sql.push(" session WHERE true");
        push_only(&mut sql, only);
        sql.push(" GROUP BY 1 ORDER BY 2 DESC LIMIT ").push_bind(most);
        sql.push(format_args!(") part LEFT JOIN {table} named ON named.{key} = part.part, (SELECT coalesce(sum(samples), 0)::bigint AS samples FROM "));
        looks().push(&mut sql, instance_id, pieces);
        sql.push(" look) looked ORDER BY part.busy DESC, name");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let parts = rows
            .iter()
            .map(|row| {
                let mut load = Load { samples: row.get("samples"), ..Default::default() };
                for (sum, busy) in load.busy.iter_mut().zip(row.get::<Vec<i64>, _>("kinds")) {
                    *sum = busy;
                }
                BreakdownRow { part: row.get("part"), name: row.get("name"), load, share: row.get("share") }
            })
            .collect();
        Ok(Breakdown { parts, count: rows.first().map_or(0, |row| row.get("parts")) })
    }

    /// The first and last look kept of an instance, at whatever level of detail.
    pub async fn retained(&self, instance_id: i32) -> Result<Option<(Timestamp, Timestamp)>> {
        let row = sqlx::query(
            "SELECT (SELECT min(sampled_at) FROM activity_sample WHERE instance_id = $1) AS fine,
                    (SELECT min(to_at) FROM activity_sample_ten_minutes WHERE instance_id = $1) AS ten_minutes,
                    (SELECT min(to_at) FROM activity_sample_hour WHERE instance_id = $1) AS hour,
                    greatest((SELECT max(sampled_at) FROM activity_sample WHERE instance_id = $1),
                             (SELECT max(to_at) FROM activity_sample_hour WHERE instance_id = $1)) AS last",
        )
        .bind(instance_id)
        .fetch_one(&self.pool)
        .await?;
        let moment = |column: &str| row.get::<Option<DateTime<Utc>>, _>(column).map(at);
        let mut first = moment("fine");
        // A bucket counts where all of it lies before what is kept more finely.
        for detail in [Detail::TenMinutes, Detail::Hour] {
            let width = detail.bucket_seconds().unwrap_or_default() as f64;
            let oldest = moment(detail.name()).filter(|end| first.is_none_or(|first| *end <= first));
            first = oldest.map(|end| end.plus_seconds(-width)).or(first);
        }
        Ok(first.zip(moment("last")))
    }
}

/// Looks at the sessions.
fn looks() -> Rows {
    Rows {
        fine: Fine::Rows {
            table: "activity_sample",
            moment: "sampled_at",
            columns: "1::bigint AS samples".into(),
            condition: "",
        },
        stem: "activity_sample",
        columns: "samples".into(),
        which: Entries::All,
    }
}

/// Leaves out what is not of these parts: of each dimension that is named, one of its parts.
pub(crate) fn push_only(sql: &mut QueryBuilder<Postgres>, only: &[OnlyPart]) {
    for dimension in Dimension::all() {
        let parts = || only.iter().filter(|only| only.dimension == dimension).map(|only| only.part);
        if parts().next().is_none() {
            continue;
        }
        let (column, known) = (dimension.column(), parts().flatten().collect::<Vec<i64>>());
        sql.push(format_args!(" AND ({column} = ANY(")).push_bind(known);
        sql.push(format_args!(") OR {column} IS NULL AND ")).push_bind(parts().any(|part| part.is_none())).push(")");
    }
}

/// Busy sessions seen, with the columns that they are narrowed and split by.
pub(crate) fn busy_sessions(only: &[OnlyPart], by: Option<Dimension>) -> Rows {
    let mut columns = vec!["wait_kind"];
    for dimension in only.iter().map(|only| only.dimension).chain(by) {
        if !columns.contains(&dimension.column()) {
            columns.push(dimension.column());
        }
    }
    let columns = columns.join(", ");
    Rows {
        fine: Fine::Rows {
            table: "activity",
            moment: "sampled_at",
            columns: format!("{columns}, 1::bigint AS busy"),
            condition: " AND wait_kind IS NOT NULL",
        },
        stem: "activity",
        columns: format!("{columns}, busy"),
        which: Entries::All,
    }
}
