//! What statement families cost in a window: added up here, list by list, as the lists come from the repository.

use std::collections::HashMap;

use futures::TryStreamExt;
use futures::future::try_join_all;
use hurnix_core::Timestamp;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::statement_sum::StatementSum;
use sqlx::postgres::PgRow;
use sqlx::{QueryBuilder, Row};

use crate::series::pieces::{Entries, Pieces, Rows, push_cell};
use crate::series::statements::periods;
use crate::{Result, Store, at};

/// A stretch of time of one family, for its strips.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Stretch {
    /// Start of the cell.
    pub at: Timestamp,
    /// Seconds observed in it.
    pub seconds: f64,
    /// What the family cost.
    pub counters: StatementCounters,
}

/// Whose statements are added up.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct OnlyBy {
    /// Only what ran in the database of this number.
    pub database_id: Option<i32>,
    /// Only what the account of this number ran.
    pub account_id: Option<i32>,
}

impl Store {
    /// What one family cost in a window.
    pub async fn family_sum(&self, instance_id: i32, family_id: i64, pieces: &Pieces) -> Result<StatementCounters> {
        let mut sql = QueryBuilder::new(format!("SELECT {} FROM ", all_figures()));
        of_family(family_id).push(&mut sql, instance_id, pieces);
        let mut rows = sql.push(" period").build().fetch(&self.pool);
        let mut sum = StatementSum::default();
        while let Some(row) = rows.try_next().await? {
            sum.add(&entry(&row), false);
        }
        Ok(sum.counters())
    }

    /// What one family cost, in cells of `cell_seconds`. Cells that were not observed are left out.
    pub async fn family_cells(
        &self,
        instance_id: i32,
        family_id: i64,
        pieces: &Pieces,
        cell_seconds: i64,
    ) -> Result<Vec<Stretch>> {
        let observed = self.observed(instance_id, pieces, cell_seconds).await?;
        let mut sql = QueryBuilder::new("SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(format_args!(" AS cell, {} FROM ", all_figures()));
        of_family(family_id).push(&mut sql, instance_id, pieces);
        let mut rows = sql.push(" period").build().fetch(&self.pool);
        let mut sums: HashMap<Timestamp, StatementSum> = HashMap::new();
        while let Some(row) = rows.try_next().await? {
            sums.entry(at(row.get("cell"))).or_default().add(&entry(&row), false);
        }
        let stretch = |(cell, seconds): (Timestamp, f64)| Stretch {
            at: cell,
            seconds,
            counters: sums.get(&cell).map(StatementSum::counters).unwrap_or_default(),
        };
        Ok(observed.into_iter().map(stretch).collect())
    }

    /// Sums by family over a window, of everything that ran, or of what ran in one database.
    pub async fn family_sums(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        database_id: Option<i32>,
    ) -> Result<HashMap<i64, StatementCounters>> {
        let sums = self.summed_by_family(instance_id, pieces, OnlyBy { database_id, account_id: None }).await?;
        Ok(sums.into_iter().map(|(family, sum)| (family, sum.counters())).collect())
    }

    /// The same as sums that can be joined further.
    ///
    /// Half of the time is read over a connection of its own: what takes longest is that the server writes out the lists,
    /// and each connection is a process of it.
    pub(crate) async fn summed_by_family(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        only: OnlyBy,
    ) -> Result<HashMap<i64, StatementSum>> {
        let halves = pieces.halves();
        let summed =
            try_join_all(halves.iter().map(|half| self.summed_over_one_connection(instance_id, half, only))).await?;
        let mut sums: HashMap<i64, StatementSum> = HashMap::new();
        for (family, sum) in summed.into_iter().flatten() {
            sums.entry(family).or_default().join(&sum);
        }
        Ok(sums)
    }

    async fn summed_over_one_connection(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        only: OnlyBy,
    ) -> Result<HashMap<i64, StatementSum>> {
        // Sending a list takes the server longer than summing it up takes here: those that say nothing stay there.
        let told = |name: &str, nothing: &str| format!("CASE WHEN {nothing} <> ANY ({name}) THEN {name} END AS {name}");
        let mut lists = vec!["family_id".to_owned(), told("lower_bound", "false")];
        lists.extend(StatementCounters::NAMES.iter().map(|name| told(name, "0")));
        lists.extend(only.columns().map(str::to_owned));
        let mut sql = QueryBuilder::new("SELECT * FROM ");
        Rows { which: Entries::InLists(lists.join(", ")), ..periods("") }.push(&mut sql, instance_id, pieces);
        let mut lists = sql.push(" period").build().fetch(&self.pool);
        let mut sums: HashMap<i64, StatementSum> = HashMap::new();
        while let Some(row) = lists.try_next().await? {
            add_list(&mut sums, &row, only);
        }
        Ok(sums)
    }
}

impl OnlyBy {
    fn columns(self) -> impl Iterator<Item = &'static str> {
        let columns = [(self.database_id, "database_id"), (self.account_id, "account_id")];
        columns.into_iter().filter_map(|(only, column)| only.map(|_| column))
    }
}

/// Adds the entries of one period or bucket.
fn add_list(sums: &mut HashMap<i64, StatementSum>, row: &PgRow, only: OnlyBy) {
    let families: Vec<i64> = row.get("family_id");
    let is_lower_bound: Vec<bool> = row.get::<Option<_>, _>("lower_bound").unwrap_or_default();
    let numbers = |column: &str, only: Option<i32>| only.map(|only| (only, row.get::<Vec<i32>, _>(column)));
    let by = [numbers("database_id", only.database_id), numbers("account_id", only.account_id)];
    let list = |name: &&str| row.get::<Option<Vec<i64>>, _>(*name).unwrap_or_default();
    let figures: Vec<Vec<i64>> = StatementCounters::NAMES.iter().map(list).collect();
    let mut values = [0; StatementCounters::NAMES.len()];
    for (place, family) in families.into_iter().enumerate() {
        if by.iter().flatten().any(|(only, numbers)| numbers[place] != *only) {
            continue;
        }
        for (value, figure) in values.iter_mut().zip(&figures) {
            *value = figure.get(place).copied().unwrap_or_default();
        }
        let is_lower_bound = is_lower_bound.get(place).copied().unwrap_or_default();
        sums.entry(family).or_default().add(&StatementCounters::from_values(&values), is_lower_bound);
    }
}

/// The figures of one family, one row for each period or bucket.
fn of_family(family_id: i64) -> Rows {
    Rows { which: Entries::Only("family_id", vec![family_id]), ..periods(&all_figures()) }
}

/// The figures of such a row.
fn entry(row: &PgRow) -> StatementCounters {
    let value = |name: &&str| row.get::<Option<i64>, _>(*name).unwrap_or_default();
    StatementCounters::from_values(&StatementCounters::NAMES.iter().map(value).collect::<Vec<_>>())
}

/// All figures of statements.
fn all_figures() -> String {
    StatementCounters::NAMES.join(", ")
}
