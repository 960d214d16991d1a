use std::collections::{BTreeMap, HashMap};
use std::ops::Bound;

use chrono::{DateTime, Utc};
use hurnix_core::findings::lasting_change::Bucket;
use hurnix_core::readings::counters::{Counters, StatementCounters};
use hurnix_core::readings::statement_kind::StatementKind;
use hurnix_core::{Named, Timestamp};
use sqlx::postgres::PgRow;
use sqlx::{QueryBuilder, Row};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::series::pieces::{Entries, Fine, Pieces, Rows, push_cell};
use crate::{Result, Store, at, time};

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
    /// Text of the family.
    Text,
}

impl StatementOrder {
    /// It in the unit in which it is shown.
    fn measured(self) -> &'static str {
        match self {
            StatementOrder::Time => "exec_us / 1e6",
            StatementOrder::Calls => "calls",
            StatementOrder::Mean => "exec_us / 1e3 / greatest(calls, 1)",
            StatementOrder::Pages => "hit_pages + read_pages",
            StatementOrder::Rows => "rows",
            StatementOrder::Planning => "plan_us / 1e6",
            StatementOrder::Reads => "read_pages",
            StatementOrder::Writes => "dirtied_pages",
            StatementOrder::Temp => "temp_read_pages + temp_written_pages",
            StatementOrder::Wal => "log_bytes",
            StatementOrder::Waiting => "waiting",
            StatementOrder::Text => "text",
        }
    }
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
    /// Mean number of sessions that waited, by family: what [`StatementOrder::Waiting`] goes by. Families that are not
    /// named did not wait.
    pub waiting: Vec<(i64, f64)>,
    /// Only families named in [`Self::waiting`].
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
            waiting: Vec::new(),
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

/// What of a window was observed.
#[derive(Debug, Clone, PartialEq)]
pub struct Coverage {
    /// Start of the first period inside; nothing when there is none.
    pub from: Option<Timestamp>,
    /// End of the last period inside.
    pub to: Option<Timestamp>,
    /// Seconds of all periods inside.
    pub seconds: f64,
    /// Periods inside.
    pub periods: i64,
    /// Snapshots without a period, with the reason.
    pub without: Vec<(Timestamp, String)>,
}

/// One family.
#[derive(Debug, Clone, PartialEq)]
pub struct FamilyRow {
    /// Number.
    pub family_id: i64,
    /// Text.
    pub text: String,
    /// Comment kept beside it.
    pub tag: Option<String>,
    /// A statement of it as the server keeps it.
    pub sample: String,
    /// When it was first seen.
    pub first_seen_at: Timestamp,
}

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

impl Store {
    /// What of a window was observed of statements.
    pub async fn coverage(&self, instance_id: i32, pieces: &Pieces) -> Result<Coverage> {
        let mut sql = QueryBuilder::new(
            "SELECT min(from_at) AS from_at, max(to_at) AS to_at, coalesce(sum(periods), 0)::bigint AS periods,
                    coalesce(sum(seconds), 0)::float8 AS seconds FROM ",
        );
        observed().push(&mut sql, instance_id, pieces);
        sql.push(" period WHERE kind = 'statements'");
        let row = sql.build().fetch_one(&self.pool).await?;
        let window = pieces.window();
        let without = sqlx::query(
            "SELECT taken_at, no_difference FROM snapshot
             WHERE instance_id = $1 AND kind = 'statements' AND taken_at > $2 AND taken_at <= $3 AND no_difference IS NOT NULL
             ORDER BY taken_at LIMIT 100",
        )
        .bind(instance_id)
        .bind(time(window.from))
        .bind(time(window.to))
        .fetch_all(&self.pool)
        .await?;
        Ok(Coverage {
            from: row.get::<Option<DateTime<Utc>>, _>("from_at").map(at),
            to: row.get::<Option<DateTime<Utc>>, _>("to_at").map(at),
            seconds: row.get("seconds"),
            periods: row.get("periods"),
            without: without.iter().map(|row| (at(row.get("taken_at")), row.get("no_difference"))).collect(),
        })
    }

    /// Families of a window, sorted, filtered and paged, with the totals of all.
    pub async fn statements(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        query: &StatementQuery,
    ) -> Result<(Vec<StatementRow>, StatementTotals)> {
        let order = query.order.measured();
        let direction = if query.descending { "DESC" } else { "ASC" };
        let names = all_figures();
        // Summed up once: the totals are those of all families, the page is of those that match.
        let mut sql = QueryBuilder::new(format!(
            "WITH summed AS (SELECT family_id, bool_or(lower_bound) AS lower_bound, {} FROM ",
            sums(Naming::Named)
        ));
        let mut of = periods(&format!("family_id, account_id, lower_bound, {names}"));
        of.which = query.database_id.map_or(Entries::All, in_database);
        of.push(&mut sql, instance_id, pieces);
        sql.push(" period");
        if let Some(account_id) = query.account_id {
            sql.push(" WHERE account_id = ").push_bind(account_id);
        }
        sql.push(
            " GROUP BY family_id), by_family AS (SELECT summed.*, coalesce(waited.mean, 0) AS waiting FROM summed ",
        );
        sql.push(if query.only_seen { "JOIN" } else { "LEFT JOIN" });
        let (seen, waiting): (Vec<i64>, Vec<f64>) = query.waiting.iter().copied().unzip();
        sql.push(" unnest(").push_bind(seen).push("::bigint[], ").push_bind(waiting);
        sql.push(
            "::float8[]) AS waited(family, mean) ON waited.family = family_id),
             named AS (SELECT by_family.*, text, tag, kind FROM by_family JOIN family USING (family_id)),
             matching AS (SELECT * FROM named WHERE true",
        );
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
        for (of, (low, high)) in &query.bounds {
            for (bound, exclusive, inclusive) in [(low, ">", ">="), (high, "<", "<=")] {
                let (sign, value) = match bound {
                    Bound::Excluded(value) => (exclusive, *value),
                    Bound::Included(value) => (inclusive, *value),
                    Bound::Unbounded => continue,
                };
                sql.push(format_args!(" AND {} {sign} ", of.measured())).push_bind(value);
            }
        }
        sql.push(format_args!(
            "), page AS (SELECT family_id, text, tag, kind, lower_bound, ARRAY[{names}] AS figures FROM matching
             ORDER BY {order} {direction}, family_id LIMIT "
        ));
        sql.push_bind(query.limit).push(" OFFSET ").push_bind(query.offset);
        let around: Vec<&str> =
            StatementKind::all().filter(|kind| !kind.is_of_application()).map(StatementKind::name).collect();
        sql.push(format_args!(
            ") SELECT totals.figures AS total_figures, totals.matching, around.figures AS around_figures, around.families AS around_families, page.*
               FROM (SELECT ARRAY[{}] AS figures, (SELECT count(*) FROM matching) AS matching FROM by_family) totals,
                    (SELECT ARRAY[{}] AS figures, count(*) AS families FROM named WHERE kind = ANY(",
            sums(Naming::Bare),
            sums(Naming::Bare)
        ));
        sql.push_bind(around).push(")) around LEFT JOIN page ON true");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let counters = |row: &PgRow, column: &str| StatementCounters::from_values(&row.get::<Vec<i64>, _>(column));
        // The totals stand in every row, and there is one at least.
        let first = rows.first().ok_or(sqlx::Error::RowNotFound)?;
        let totals = StatementTotals {
            matching: first.get("matching"),
            counters: counters(first, "total_figures"),
            around: (first.get("around_families"), counters(first, "around_figures")),
        };
        let rows = rows
            .iter()
            .filter(|row| row.get::<Option<i64>, _>("family_id").is_some())
            .map(|row| StatementRow {
                family_id: row.get("family_id"),
                text: row.get("text"),
                tag: row.get("tag"),
                kind: row.get::<Option<&str>, _>("kind").and_then(StatementKind::named),
                counters: counters(row, "figures"),
                lower_bound: row.get("lower_bound"),
            })
            .collect();
        Ok((rows, totals))
    }

    /// One family of an instance.
    pub async fn family(&self, instance_id: i32, family_id: i64) -> Result<Option<FamilyRow>> {
        let row = sqlx::query(
            "SELECT family_id, text, tag, sample, first_seen_at FROM family WHERE instance_id = $1 AND family_id = $2",
        )
        .bind(instance_id)
        .bind(family_id)
        .fetch_optional(&self.pool)
        .await?;
        Ok(row.map(|row| FamilyRow {
            family_id: row.get("family_id"),
            text: row.get("text"),
            tag: row.get("tag"),
            sample: row.get("sample"),
            first_seen_at: at(row.get("first_seen_at")),
        }))
    }

    /// The number of a family on each instance that has it, by instance: families of one text are the same.
    pub async fn same_family(&self, instance_id: i32, family_id: i64) -> Result<HashMap<i32, i64>> {
        let rows = sqlx::query_as(
            "SELECT other.instance_id, other.family_id FROM family own JOIN family other USING (fingerprint, text)
             WHERE own.instance_id = $1 AND own.family_id = $2",
        )
        .bind(instance_id)
        .bind(family_id)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.into_iter().collect())
    }

    /// What one family cost in a window.
    pub async fn family_sum(&self, instance_id: i32, family_id: i64, pieces: &Pieces) -> Result<StatementCounters> {
        let mut sql = QueryBuilder::new(format!("SELECT ARRAY[{}] AS figures FROM ", sums(Naming::Bare)));
        let of_family = Rows { which: Entries::Only("family_id", vec![family_id]), ..periods(&all_figures()) };
        of_family.push(&mut sql, instance_id, pieces);
        let figures: Vec<i64> = sql.push(" period").build().fetch_one(&self.pool).await?.get("figures");
        Ok(StatementCounters::from_values(&figures))
    }

    /// Samples of all families, by number, as the server keeps them.
    pub async fn family_samples(&self, instance_id: i32, families: &[i64]) -> Result<HashMap<i64, String>> {
        let rows = sqlx::query("SELECT family_id, sample FROM family WHERE instance_id = $1 AND family_id = ANY($2)")
            .bind(instance_id)
            .bind(families)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(|row| (row.get("family_id"), row.get("sample"))).collect())
    }

    /// Texts of families, by number.
    pub async fn family_texts(&self, instance_id: i32, families: &[i64]) -> Result<HashMap<i64, String>> {
        let rows = sqlx::query("SELECT family_id, text FROM family WHERE instance_id = $1 AND family_id = ANY($2)")
            .bind(instance_id)
            .bind(families)
            .fetch_all(&self.pool)
            .await?;
        Ok(rows.iter().map(|row| (row.get("family_id"), row.get("text"))).collect())
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
        sql.push(format_args!(" AS cell, ARRAY[{}] AS figures FROM ", sums(Naming::Bare)));
        let of_family = Rows { which: Entries::Only("family_id", vec![family_id]), ..periods(&all_figures()) };
        of_family.push(&mut sql, instance_id, pieces);
        sql.push(" period GROUP BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let figures: HashMap<Timestamp, Vec<i64>> =
            rows.iter().map(|row| (at(row.get("cell")), row.get("figures"))).collect();
        Ok(observed
            .into_iter()
            .map(|(cell, seconds)| Stretch {
                at: cell,
                seconds,
                counters: figures.get(&cell).map(|values| StatementCounters::from_values(values)).unwrap_or_default(),
            })
            .collect())
    }

    /// All families of a window in buckets of `bucket_seconds`, in order of time: buckets without calls are there as
    /// zeros, buckets that were not observed are not.
    pub async fn family_series(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        bucket_seconds: i64,
        database_id: Option<i32>,
    ) -> Result<HashMap<i64, Vec<Bucket>>> {
        let which = database_id.map_or(Entries::All, in_database);
        let buckets = self.family_buckets(instance_id, pieces, bucket_seconds, which).await?;
        Ok(buckets.into_iter().filter_map(|(family, buckets)| Some((family?, buckets))).collect())
    }

    /// The same by family, of some of them; all others are together under none where they are asked for.
    pub(crate) async fn family_buckets(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        bucket_seconds: i64,
        which: Entries,
    ) -> Result<BTreeMap<Option<i64>, Vec<Bucket>>> {
        let observed = self.observed(instance_id, pieces, bucket_seconds).await?;
        let mut sql = QueryBuilder::new("SELECT family_id, ");
        push_cell(&mut sql, bucket_seconds);
        sql.push(" AS cell, calls, exec_us, rows, hit_pages + read_pages AS pages FROM ");
        let rows = periods("family_id, calls, exec_us, rows, hit_pages, read_pages");
        Rows { which, ..rows }.push(&mut sql, instance_id, pieces);
        let rows = sql.push(" period").build().fetch_all(&self.pool).await?;
        let place: HashMap<Timestamp, usize> =
            observed.keys().enumerate().map(|(place, cell)| (*cell, place)).collect();
        let empty = empty_buckets(&observed);
        let mut families: BTreeMap<Option<i64>, Vec<Bucket>> = BTreeMap::new();
        for row in &rows {
            let Some(place) = place.get(&at(row.get("cell"))) else { continue };
            let bucket = &mut families.entry(row.get("family_id")).or_insert_with(|| empty.clone())[*place];
            bucket.calls += row.get::<i64, _>("calls");
            bucket.exec_us += row.get::<i64, _>("exec_us");
            bucket.rows += row.get::<i64, _>("rows");
            bucket.pages += row.get::<i64, _>("pages");
        }
        Ok(families)
    }

    /// Sums by family over a window, of everything that ran, or of what ran in one database.
    pub async fn family_sums(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        database_id: Option<i32>,
    ) -> Result<HashMap<i64, StatementCounters>> {
        let mut sql = QueryBuilder::new(format!("SELECT family_id, ARRAY[{}] AS figures FROM ", sums(Naming::Bare)));
        let rows = periods(&format!("family_id, {}", all_figures()));
        let which = database_id.map_or(Entries::All, in_database);
        Rows { which, ..rows }.push(&mut sql, instance_id, pieces);
        sql.push(" period GROUP BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok(rows
            .iter()
            .map(|row| (row.get("family_id"), StatementCounters::from_values(&row.get::<Vec<i64>, _>("figures"))))
            .collect())
    }

    /// Seconds of statement periods by the cell that they end in.
    pub(crate) async fn observed(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        cell_seconds: i64,
    ) -> Result<BTreeMap<Timestamp, f64>> {
        let mut sql = QueryBuilder::new("SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(" AS cell, sum(seconds)::float8 AS seconds FROM ");
        observed().push(&mut sql, instance_id, pieces);
        sql.push(" period WHERE kind = 'statements' GROUP BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok(rows.iter().map(|row| (at(row.get("cell")), row.get("seconds"))).collect())
    }
}

/// What ran in one database.
fn in_database(database_id: i32) -> Entries {
    Entries::Only("database_id", vec![i64::from(database_id)])
}

/// Buckets in which nothing ran, for these seconds by their start.
pub(crate) fn empty_buckets(observed: &BTreeMap<Timestamp, f64>) -> Vec<Bucket> {
    let empty = |(at, seconds): (&Timestamp, &f64)| Bucket {
        at: *at,
        seconds: *seconds,
        calls: 0,
        exec_us: 0,
        rows: 0,
        pages: 0,
    };
    observed.iter().map(empty).collect()
}

/// Periods of statements, with some of the columns.
pub(crate) fn periods(columns: &str) -> Rows {
    Rows {
        fine: Fine::Lists { table: "statement_period" },
        stem: "statement",
        columns: columns.into(),
        which: Entries::All,
    }
}

/// All figures of statements.
fn all_figures() -> String {
    StatementCounters::NAMES.join(", ")
}

/// What was observed: periods of all kinds with their seconds.
pub(crate) fn observed() -> Rows {
    Rows {
        fine: Fine::Rows {
            table: "snapshot",
            moment: "taken_at",
            columns: "kind, from_at, extract(epoch FROM taken_at - from_at)::float8 AS seconds, 1::bigint AS periods"
                .into(),
            condition: " AND from_at IS NOT NULL",
        },
        stem: "observed",
        columns: "kind, from_at, seconds, periods".into(),
        which: Entries::All,
    }
}

/// Whether sums in SQL carry names.
enum Naming {
    Named,
    Bare,
}

/// The sums of all figures.
fn sums(naming: Naming) -> String {
    let sum = |name: &&str| match *name {
        // Executions of a millisecond and more have squares: where they have none, an earlier version kept them, and the
        // squares of the rest tell nothing of all.
        "squared_ms" => {
            "CASE WHEN bool_or(coalesce(squared_ms, 0) = 0 AND calls > 0 AND exec_us >= 1000 * calls) THEN 0
             ELSE coalesce(sum(squared_ms), 0)::bigint END"
                .to_owned()
        }
        name => format!("coalesce(sum({name}), 0)::bigint"),
    };
    let sums: Vec<String> = StatementCounters::NAMES
        .iter()
        .map(|name| match naming {
            Naming::Named => format!("{} AS {name}", sum(name)),
            Naming::Bare => sum(name),
        })
        .collect();
    sums.join(", ")
}

/// Text to be found as it stands, not as a pattern.
pub(crate) fn escape_pattern(text: &str) -> String {
    text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")
}
