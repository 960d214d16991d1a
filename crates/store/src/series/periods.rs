use std::hash::Hash;

use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::counters_read::Kept;
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::readings::statement::{NestedKey, StatementKey};
use hurnix_core::{Named, Timestamp, Window};
use serde::Serialize;
use serde::de::DeserializeOwned;
use sqlx::Row;
use sqlx::postgres::PgRow;

use crate::series::copy::{CopyRows, Field};
use crate::series::earlier_form::FormOne;
use crate::{Result, Store, StoreProblem, time};

/// The form of kept readings, but for their figures.
const SNAPSHOT_FORM: u32 = 2;

/// A kind of counters: where its periods go, and what its objects are called there.
pub trait Kind: Kept {
    /// Table of its periods.
    const TABLE: &'static str;
    /// What names an object in the repository.
    type Object: Object;

    /// Which figures a kept reading holds, and in which form: whatever differs cannot be read back.
    fn layout() -> String {
        Self::layout_of(SNAPSHOT_FORM)
    }

    /// The same in a form.
    fn layout_of(form: u32) -> String {
        format!("{form} {}", Self::NAMES.join(" "))
    }

    /// Columns of its periods, in the order in which they are written.
    fn columns() -> String {
        format!("instance_id, to_at, {}, lower_bound, {}", Self::OBJECT, Self::NAMES.join(", "))
    }
}

macro_rules! kinds {
    ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {$(
        impl Kind for $counters {
            const TABLE: &'static str = concat!($stem, "_period");
            type Object = <$key as KeptBy>::Object;
        }
    )+};
}

hurnix_core::all_counters!(kinds);

/// What stands for a server's key in the repository.
pub trait KeptBy {
    /// That.
    type Object: Object;
}

impl KeptBy for StatementKey {
    type Object = StatementObject;
}

impl KeptBy for NestedKey {
    type Object = StatementObject;
}

impl KeptBy for u32 {
    type Object = u32;
}

impl KeptBy for String {
    type Object = NamedObject;
}

/// What names an object in the repository, in one or more columns.
pub trait Object: Copy + Eq + Hash + Send + Sync + 'static {
    /// The values of those columns, one list for each.
    fn lists<'a>(objects: impl Iterator<Item = &'a Self> + Clone) -> Vec<List>;

    /// The objects of a row that holds lists of these columns.
    fn of_row(row: &PgRow, columns: &str) -> Vec<Self>;
}

/// The rows of a period as lists, in the order of [`Kind::columns`].
pub(crate) fn lists<C: Kind>(rows: &[PeriodRow<C::Object, C>]) -> Vec<List> {
    let mut lists = C::Object::lists(rows.iter().map(|row| &row.object));
    lists.push(List::Bools(rows.iter().map(|row| row.lower_bound).collect()));
    let values: Vec<Vec<i64>> = rows.iter().map(|row| row.by.values()).collect();
    lists.extend((0..C::NAMES.len()).map(|figure| List::Bigs(values.iter().map(|row| row[figure]).collect())));
    lists
}

/// One figure of all objects of a period.
pub enum List {
    /// int
    Ints(Vec<i32>),
    /// bigint
    Bigs(Vec<i64>),
    /// boolean
    Bools(Vec<bool>),
}

impl List {
    pub(crate) fn field(&self) -> Field<'_> {
        match self {
            List::Ints(values) => Field::Ints(values),
            List::Bigs(values) => Field::Bigs(values),
            List::Bools(values) => Field::Bools(values),
        }
    }
}

/// What a statement's counters are kept by in the repository.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct StatementObject {
    /// Family of the statement.
    pub family_id: i64,
    /// Name of the account that ran it.
    pub account_id: i32,
    /// Name of the database it ran in.
    pub database_id: i32,
}

impl Object for StatementObject {
    fn lists<'a>(objects: impl Iterator<Item = &'a StatementObject> + Clone) -> Vec<List> {
        vec![
            List::Bigs(objects.clone().map(|object| object.family_id).collect()),
            List::Ints(objects.clone().map(|object| object.account_id).collect()),
            List::Ints(objects.map(|object| object.database_id).collect()),
        ]
    }

    fn of_row(row: &PgRow, _: &str) -> Vec<StatementObject> {
        let families: Vec<i64> = row.get("family_id");
        let (accounts, databases): (Vec<i32>, Vec<i32>) = (row.get("account_id"), row.get("database_id"));
        let object = |((family_id, account_id), database_id)| StatementObject { family_id, account_id, database_id };
        families.into_iter().zip(accounts).zip(databases).map(object).collect()
    }
}

impl Object for u32 {
    fn lists<'a>(objects: impl Iterator<Item = &'a u32> + Clone) -> Vec<List> {
        vec![List::Bigs(objects.map(|object| i64::from(*object)).collect())]
    }

    fn of_row(row: &PgRow, column: &str) -> Vec<u32> {
        row.get::<Vec<i64>, _>(column).into_iter().map(|object| object as u32).collect()
    }
}

/// An object that goes by a name: the number of that name.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct NamedObject(pub i32);

impl Object for NamedObject {
    fn lists<'a>(objects: impl Iterator<Item = &'a NamedObject> + Clone) -> Vec<List> {
        vec![List::Ints(objects.map(|object| object.0).collect())]
    }

    fn of_row(row: &PgRow, column: &str) -> Vec<NamedObject> {
        row.get::<Vec<i32>, _>(column).into_iter().map(NamedObject).collect()
    }
}

/// What one object did in a period.
#[derive(Debug, Clone, PartialEq)]
pub struct PeriodRow<O, C> {
    /// The object.
    pub object: O,
    /// What it did.
    pub by: C,
    /// Whether that is all, or only what could be seen.
    pub lower_bound: bool,
}

/// What happened up to a snapshot.
#[derive(Debug, Clone, Copy)]
pub struct Period<'a, O, C> {
    /// When the snapshot before it was read.
    pub from: Timestamp,
    /// What each object did; those that did nothing are left out.
    pub rows: &'a [PeriodRow<O, C>],
}

/// A snapshot to be written, with the period that it ends.
#[derive(Debug, Clone, Copy)]
pub struct WrittenSnapshot<'a, O, C, S> {
    /// When it was read.
    pub taken_at: Timestamp,
    /// How long the reading took, in milliseconds.
    pub read_ms: f32,
    /// When the server was started.
    pub server_started_at: Timestamp,
    /// When its counters were reset, where it tells.
    pub reset_at: Option<Timestamp>,
    /// The period that it ends, or why nothing is known of it.
    pub period: std::result::Result<Period<'a, O, C>, &'a str>,
    /// The counters as they were read: what the next difference starts from.
    pub as_read: &'a S,
}

/// The last snapshot of a kind.
#[derive(Debug, Clone, PartialEq)]
pub enum LastRead<S> {
    /// None was written yet.
    Nothing,
    /// As it was read.
    Snapshot(S),
    /// It cannot be read back, and why: differences begin anew.
    Unreadable(String),
}

impl<S> LastRead<S> {
    /// The snapshot, if it can be read.
    pub fn snapshot(self) -> Option<S> {
        match self {
            LastRead::Snapshot(snapshot) => Some(snapshot),
            LastRead::Nothing | LastRead::Unreadable(_) => None,
        }
    }
}

impl Store {
    /// Writes a snapshot and its period in one transaction. Writing the same snapshot again changes
    /// nothing and answers `false`. A period must begin where the newest one written ends: when another
    /// process has read meanwhile, nothing is written and the answer is [`StoreProblem::Overtaken`].
    pub async fn write_snapshot<C: Kind, S: Serialize>(
        &self,
        instance_id: i32,
        snapshot: &WrittenSnapshot<'_, C::Object, C, S>,
    ) -> Result<bool> {
        match self.try_write_snapshot(instance_id, snapshot).await {
            Err(problem) if problem.lacks_partition() => {
                self.make_partitions(Window { from: snapshot.taken_at, to: snapshot.taken_at }).await?;
                self.try_write_snapshot(instance_id, snapshot).await
            }
            other => other,
        }
    }

    async fn try_write_snapshot<C: Kind, S: Serialize>(
        &self,
        instance_id: i32,
        snapshot: &WrittenSnapshot<'_, C::Object, C, S>,
    ) -> Result<bool> {
        let as_read = postcard::to_stdvec(snapshot.as_read)
            .map_err(|error| StoreProblem::Unreadable { what: "snapshot", reason: error.to_string() })?;
        let (from_at, no_difference) = match &snapshot.period {
            Ok(period) => (Some(time(period.from)), None),
            Err(reason) => (None, Some(*reason)),
        };
        let mut transaction = self.pool.begin().await?;
        // Held to the end, so that no two periods begin at the same snapshot.
        let newest: Option<DateTime<Utc>> =
            sqlx::query_scalar("SELECT taken_at FROM last_read WHERE instance_id = $1 AND kind = $2 FOR UPDATE")
                .bind(instance_id)
                .bind(C::FIGURES.name())
                .fetch_optional(&mut *transaction)
                .await?;
        if newest == Some(time(snapshot.taken_at)) {
            return Ok(false);
        }
        if from_at.is_some_and(|from| newest.is_some_and(|newest| newest != from)) {
            return Err(StoreProblem::Overtaken);
        }
        // One way to the server and back for all but the rows themselves.
        let written: i64 = sqlx::query_scalar(
            "WITH written AS (
                INSERT INTO snapshot (instance_id, kind, taken_at, read_ms, server_started_at, reset_at, from_at, no_difference)
                VALUES ($1, $2, $3, $4, $5, $6, $7, $8) ON CONFLICT DO NOTHING RETURNING taken_at
             ), due AS (
                INSERT INTO roll_up_due (instance_id, detail, to_at) SELECT $1, 'ten_minutes', $9 FROM written
                ON CONFLICT (instance_id, detail, to_at) DO UPDATE SET writes = roll_up_due.writes + 1
             ), kept AS (
                INSERT INTO last_read (instance_id, kind, taken_at, payload, layout) SELECT $1, $2, $3, $10, $11 FROM written
                ON CONFLICT (instance_id, kind)
                DO UPDATE SET taken_at = excluded.taken_at, payload = excluded.payload, layout = excluded.layout
             ), seen AS (
                UPDATE instance SET last_success_at = greatest(last_success_at, $3) WHERE instance_id = $1
             )
             SELECT count(*) FROM written",
        )
        .bind(instance_id)
        .bind(C::FIGURES.name())
        .bind(time(snapshot.taken_at))
        .bind(snapshot.read_ms)
        .bind(time(snapshot.server_started_at))
        .bind(snapshot.reset_at.map(time))
        .bind(from_at)
        .bind(no_difference)
        .bind(time(Detail::TenMinutes.bucket_end(snapshot.taken_at)))
        .bind(as_read)
        .bind(C::layout())
        .fetch_one(&mut *transaction)
        .await?;
        if written == 0 {
            return Ok(false);
        }
        if let Ok(period) = &snapshot.period
            && !period.rows.is_empty()
        {
            let lists = lists::<C>(period.rows);
            let mut fields = vec![Field::Int(Some(instance_id)), Field::Time(Some(snapshot.taken_at))];
            fields.extend(lists.iter().map(List::field));
            let mut copy = CopyRows::new();
            copy.push(&fields);
            copy.send(&mut transaction, C::TABLE, &C::columns()).await?;
        }
        transaction.commit().await?;
        Ok(true)
    }

    /// The last snapshot of a kind as it was read, by this version of Hurnix or the one before.
    pub async fn last_read<C, K>(&self, instance_id: i32) -> Result<LastRead<Snapshot<K, C>>>
    where
        C: Kind + DeserializeOwned,
        K: DeserializeOwned,
    {
        let kept: Option<(Vec<u8>, Option<String>)> =
            sqlx::query_as("SELECT payload, layout FROM last_read WHERE instance_id = $1 AND kind = $2")
                .bind(instance_id)
                .bind(C::FIGURES.name())
                .fetch_optional(&self.pool)
                .await?;
        Ok(match kept {
            None => LastRead::Nothing,
            Some((payload, layout)) => {
                let read = match layout {
                    Some(layout) if layout == C::layout() => postcard::from_bytes(&payload),
                    Some(layout) if layout == C::layout_of(1) => {
                        postcard::from_bytes::<FormOne<K, C>>(&payload).map(Snapshot::from)
                    }
                    _ => {
                        let reason = "it was written by another version of Hurnix, with other figures";
                        return Ok(LastRead::Unreadable(reason.into()));
                    }
                };
                read.map_or_else(|error| LastRead::Unreadable(error.to_string()), LastRead::Snapshot)
            }
        })
    }
}
