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
use crate::series::sent_lists::big_integers;
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
        let mut sums = ColumnSums::default();
        while let Some(row) = lists.try_next().await? {
            sums.add(&row, only)?;
        }
        Ok(sums.by_family())
    }
}

impl OnlyBy {
    fn columns(self) -> impl Iterator<Item = &'static str> {
        let columns = [(self.database_id, "database_id"), (self.account_id, "account_id")];
        columns.into_iter().filter_map(|(only, column)| only.map(|_| column))
    }
}

/// Sums by family, figure by figure: most lists hold nothing but zeros and are not sent, and whoever goes through one list
/// at a time does no work for them.
#[derive(Default)]
struct ColumnSums {
    /// Where the sums of a family are.
    places: HashMap<i64, usize>,
    /// The sums of each figure, in the order of the figures.
    figures: [Vec<i64>; StatementCounters::NAMES.len()],
    is_lower_bound: Vec<bool>,
    lacks_squares: Vec<bool>,
}

impl ColumnSums {
    /// Adds the entries of one period or bucket.
    fn add(&mut self, row: &PgRow, only: OnlyBy) -> Result<()> {
        let by = [(only.database_id, "database_id"), (only.account_id, "account_id")];
        let by: Vec<(i32, Vec<i32>)> =
            by.into_iter().filter_map(|(only, column)| Some((only?, row.get(column)))).collect();
        let is_meant = |entry: usize| by.iter().all(|(only, numbers)| numbers[entry] == *only);
        let families = big_integers(row, "family_id")?.unwrap_or_default();
        // Of each entry, where its family's sums are; nothing of those that are left out.
        let mut places: Vec<Option<usize>> = Vec::with_capacity(families.len());
        for (entry, family) in families.into_iter().enumerate() {
            let next = self.places.len();
            places.push(is_meant(entry).then(|| *self.places.entry(family).or_insert(next)));
        }
        let known = self.places.len();
        self.figures.iter_mut().for_each(|sums| sums.resize(known, 0));
        self.is_lower_bound.resize(known, false);
        self.lacks_squares.resize(known, false);

        let mut figures: Vec<Option<Vec<i64>>> = Vec::with_capacity(StatementCounters::NAMES.len());
        for (name, sums) in StatementCounters::NAMES.iter().zip(&mut self.figures) {
            let list = big_integers(row, name)?;
            for (place, figure) in places.iter().zip(list.iter().flatten()) {
                if let Some(place) = place {
                    sums[*place] = sums[*place].saturating_add(*figure);
                }
            }
            figures.push(list);
        }
        let lower_bounds: Vec<bool> = row.get::<Option<_>, _>("lower_bound").unwrap_or_default();
        for (place, is_lower_bound) in places.iter().zip(lower_bounds) {
            if let Some(place) = place {
                self.is_lower_bound[*place] |= is_lower_bound;
            }
        }
        let of = |name: &str| {
            let place = StatementCounters::NAMES.iter().position(|known| *known == name)?;
            figures[place].as_deref()
        };
        let (calls, times, squares) = (of("calls"), of("exec_us"), of("squared_ms"));
        for (entry, place) in places.iter().enumerate() {
            let figure = |list: Option<&[i64]>| list.and_then(|list| list.get(entry)).copied().unwrap_or_default();
            if let Some(place) = place {
                self.lacks_squares[*place] |=
                    StatementSum::is_without_squares(figure(calls), figure(times), figure(squares));
            }
        }
        Ok(())
    }

    fn by_family(self) -> HashMap<i64, StatementSum> {
        let sum = |place: usize| {
            let values: Vec<i64> = self.figures.iter().map(|sums| sums[place]).collect();
            let counters = StatementCounters::from_values(&values);
            StatementSum::of(counters, self.is_lower_bound[place], self.lacks_squares[place])
        };
        self.places.iter().map(|(family, place)| (*family, sum(*place))).collect()
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
