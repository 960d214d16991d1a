//! Statement families of a window, ranked, narrowed and paged.
//!
//! What each cost is added up here and not by the repository's server, which takes several times as long for it; of texts it
//! knows more, and is asked.

use std::collections::{HashMap, HashSet};
use std::ops::{Bound, RangeBounds};

use hurnix_core::Named;
use hurnix_core::readings::counters::StatementCounters;
use hurnix_core::readings::statement_kind::StatementKind;
use hurnix_core::readings::statement_sum::StatementSum;
use sqlx::{QueryBuilder, Row};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::pieces::Pieces;
use crate::series::statement_sums::OnlyBy;
use crate::series::statements::escape_pattern;
use crate::{Result, Store};

/// What statements can be sorted by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum StatementOrder {
    /// Time executing.
    Time,
    /// Calls.
    Calls,
    /// Mean time per call.
    Mean,
    /// Pages touched.
    Pages,
    /// Rows returned or changed.
    Rows,
    /// Time planning.
    Planning,
    /// Pages read from outside the server's cache.
    Reads,
    /// Pages changed.
    Writes,
    /// Pages of temporary files, read and written.
    Temp,
    /// Write-ahead log made.
    Wal,
    /// Mean number of its sessions that waited.
    Waiting,
    /// Mean number of its sessions that ran, on a processor or ready for one.
    Running,
    /// The longest execution that was seen.
    Longest,
    /// Text of the family.
    Text,
}

impl StatementOrder {
    /// It in the unit in which it is shown; texts have no measure.
    fn measured(self, by: &StatementCounters, seen: &SeenOf) -> f64 {
        let count = |count: i64| count as f64;
        match self {
            StatementOrder::Time => count(by.exec_us) / 1e6,
            StatementOrder::Calls => count(by.calls),
            StatementOrder::Mean => count(by.exec_us) / 1e3 / count(by.calls.max(1)),
            StatementOrder::Pages => count(by.hit_pages + by.read_pages),
            StatementOrder::Rows => count(by.rows),
            StatementOrder::Planning => count(by.plan_us) / 1e6,
            StatementOrder::Reads => count(by.read_pages),
            StatementOrder::Writes => count(by.dirtied_pages),
            StatementOrder::Temp => count(by.temp_read_pages + by.temp_written_pages),
            StatementOrder::Wal => count(by.log_bytes),
            StatementOrder::Waiting => seen.waiting,
            StatementOrder::Running => seen.running,
            StatementOrder::Longest => seen.longest_seconds,
            StatementOrder::Text => 0.0,
        }
    }
}

/// What looks at the sessions saw of a family.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct SeenOf {
    /// Mean number of its sessions that waited.
    pub waiting: f64,
    /// Mean number of its sessions that ran.
    pub running: f64,
    /// So long its longest execution took at least, in seconds.
    pub longest_seconds: f64,
}

/// From where to where a figure may lie.
pub type Bounds = (Bound<f64>, Bound<f64>);

/// Which families of a window to list.
#[derive(Debug, Clone, PartialEq)]
pub struct StatementQuery {
    /// Only families whose text or tag contains this, whatever its case.
    pub search: Option<String>,
    /// Only what ran in the database of this number.
    pub database_id: Option<i32>,
    /// Only what the account of this number ran.
    pub account_id: Option<i32>,
    /// Only these sorts of statements; all where it is empty.
    pub kinds: Vec<StatementKind>,
    /// What was seen of families: what some orders go by. Those that are not named were not seen.
    pub seen: HashMap<i64, SeenOf>,
    /// Only families named in [`Self::seen`].
    pub only_seen: bool,
    /// Only families whose figure lies within these bounds, in the unit that it is shown in: time in seconds, mean time in
    /// milliseconds.
    pub bounds: Vec<(StatementOrder, Bounds)>,
    /// What to sort by.
    pub order: StatementOrder,
    /// Largest (or last) first.
    pub descending: bool,
    /// Rows to pass over.
    pub offset: i64,
    /// Rows to return.
    pub limit: i64,
}

impl StatementQuery {
    /// The families that took the most time, of everything that ran.
    pub fn costliest(limit: i64) -> StatementQuery {
        StatementQuery {
            search: None,
            database_id: None,
            account_id: None,
            kinds: Vec::new(),
            seen: HashMap::new(),
            only_seen: false,
            bounds: Vec::new(),
            order: StatementOrder::Time,
            descending: true,
            offset: 0,
            limit,
        }
    }
}

/// A family's figures in a window.
#[derive(Debug, Clone, PartialEq)]
pub struct StatementRow {
    /// Number of the family.
    pub family_id: i64,
    /// Its text.
    pub text: String,
    /// Comment kept beside it.
    pub tag: Option<String>,
    /// What sort of statement it is; nothing while it is not judged yet.
    pub kind: Option<StatementKind>,
    /// What it cost.
    pub counters: StatementCounters,
    /// Whether some of that is only what could be seen.
    pub lower_bound: bool,
}

/// All families of a window together.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct StatementTotals {
    /// Families that ran and match the search.
    pub matching: i64,
    /// What all families cost, whatever the search.
    pub counters: StatementCounters,
    /// Families of sessions and monitoring, and what they cost: of the counters above.
    pub around: (i64, StatementCounters),
}

/// A family that matches, before its text is known.
struct Ranked {
    family_id: i64,
    counters: StatementCounters,
    is_lower_bound: bool,
    seen: SeenOf,
}

impl Store {
    /// Families of a window, sorted, filtered and paged, with the totals of all.
    pub async fn statements(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        query: &StatementQuery,
    ) -> Result<(Vec<StatementRow>, StatementTotals)> {
        let only = OnlyBy { database_id: query.database_id, account_id: query.account_id };
        let sums = self.summed_by_family(instance_id, pieces, only).await?;
        let (named, around) =
            futures::try_join!(self.families_named(instance_id, query), self.families_around(instance_id))?;
        let (mut all, mut of_around, mut families_around) = (StatementSum::default(), StatementSum::default(), 0);
        let mut matching = Vec::new();
        for (family_id, sum) in sums {
            all.join(&sum);
            if around.contains(&family_id) {
                of_around.join(&sum);
                families_around += 1;
            }
            let seen = query.seen.get(&family_id).copied();
            let ranked = Ranked {
                family_id,
                counters: sum.counters(),
                is_lower_bound: sum.is_lower_bound(),
                seen: seen.unwrap_or_default(),
            };
            let is_within =
                |(of, bounds): &(StatementOrder, Bounds)| bounds.contains(&of.measured(&ranked.counters, &ranked.seen));
            if (seen.is_some() || !query.only_seen)
                && named.as_ref().is_none_or(|named| named.contains(&family_id))
                && query.bounds.iter().all(is_within)
            {
                matching.push(ranked);
            }
        }
        let totals = StatementTotals {
            matching: matching.len() as i64,
            counters: all.counters(),
            around: (families_around, of_around.counters()),
        };
        let ids: Vec<i64> = match query.order {
            StatementOrder::Text => self.in_order_of_text(&matching, query).await?,
            _ => in_order(&mut matching, query),
        };
        let by_id: HashMap<i64, Ranked> = matching.into_iter().map(|ranked| (ranked.family_id, ranked)).collect();
        Ok((self.with_texts(&ids, &by_id).await?, totals))
    }

    /// Families that a search and sorts of statements leave; nothing where neither is asked for.
    async fn families_named(&self, instance_id: i32, query: &StatementQuery) -> Result<Option<HashSet<i64>>> {
        if query.search.is_none() && query.kinds.is_empty() {
            return Ok(None);
        }
        let mut sql = QueryBuilder::new("SELECT family_id FROM family WHERE instance_id = ");
        sql.push_bind(instance_id);
        if let Some(search) = &query.search {
            let pattern = format!("%{}%", escape_pattern(search));
            sql.push(" AND (text ILIKE ").push_bind(pattern.clone());
            sql.push(" OR tag ILIKE ").push_bind(pattern).push(")");
        }
        if !query.kinds.is_empty() {
            let kinds: Vec<&str> = query.kinds.iter().map(|kind| kind.name()).collect();
            sql.push(" AND coalesce(kind, ").push_bind(StatementKind::Other.name());
            sql.push(") = ANY(").push_bind(kinds).push(")");
        }
        let ids: Vec<i64> = sql.build_query_scalar().fetch_all(&self.pool).await?;
        Ok(Some(ids.into_iter().collect()))
    }

    /// Families of sessions and monitoring.
    async fn families_around(&self, instance_id: i32) -> Result<HashSet<i64>> {
        let kinds: Vec<&str> =
            StatementKind::all().filter(|kind| !kind.is_of_application()).map(StatementKind::name).collect();
        let ids: Vec<i64> =
            sqlx::query_scalar("SELECT family_id FROM family WHERE instance_id = $1 AND kind = ANY($2)")
                .bind(instance_id)
                .bind(kinds)
                .fetch_all(&self.pool)
                .await?;
        Ok(ids.into_iter().collect())
    }

    /// The page of these by their texts.
    async fn in_order_of_text(&self, matching: &[Ranked], query: &StatementQuery) -> Result<Vec<i64>> {
        let ids: Vec<i64> = matching.iter().map(|ranked| ranked.family_id).collect();
        let direction = if query.descending { "DESC" } else { "ASC" };
        let mut sql = QueryBuilder::new("SELECT family_id FROM family WHERE family_id = ANY(");
        sql.push_bind(ids).push(format_args!(") ORDER BY text {direction}, family_id LIMIT "));
        sql.push_bind(query.limit).push(" OFFSET ").push_bind(query.offset);
        Ok(sql.build_query_scalar().fetch_all(&self.pool).await?)
    }

    /// Families in this order, with their texts.
    async fn with_texts(&self, ids: &[i64], by_id: &HashMap<i64, Ranked>) -> Result<Vec<StatementRow>> {
        let texts = sqlx::query(
            "SELECT family_id, text, tag, kind FROM unnest($1::bigint[]) WITH ORDINALITY AS page (family_id, place)
             JOIN family USING (family_id) ORDER BY place",
        )
        .bind(ids)
        .fetch_all(&self.pool)
        .await?;
        let row = |row: &sqlx::postgres::PgRow| {
            let Ranked { family_id, counters, is_lower_bound, .. } = by_id.get(&row.get("family_id"))?;
            Some(StatementRow {
                family_id: *family_id,
                text: row.get("text"),
                tag: row.get("tag"),
                kind: row.get::<Option<&str>, _>("kind").and_then(StatementKind::named),
                counters: *counters,
                lower_bound: *is_lower_bound,
            })
        };
        Ok(texts.iter().filter_map(row).collect())
    }
}

/// The page of these by what they are measured by.
fn in_order(matching: &mut [Ranked], query: &StatementQuery) -> Vec<i64> {
    let measured = |ranked: &Ranked| query.order.measured(&ranked.counters, &ranked.seen);
    matching.sort_unstable_by(|a, b| {
        let order = measured(a).total_cmp(&measured(b));
        let order = if query.descending { order.reverse() } else { order };
        order.then(a.family_id.cmp(&b.family_id))
    });
    let (offset, limit) = (query.offset.max(0) as usize, query.limit.max(0) as usize);
    matching.iter().skip(offset).take(limit).map(|ranked| ranked.family_id).collect()
}
