use std::collections::{BTreeMap, HashMap};

use chrono::{DateTime, Utc};
use hurnix_core::Timestamp;
use hurnix_core::findings::lasting_change::Bucket;
use sqlx::{QueryBuilder, Row};

use crate::series::activity::{Dimension, OnlyPart};
use crate::series::pieces::{Entries, Fine, Pieces, Rows, push_cell};
use crate::{Result, Store, at, time};

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

impl FamilyRow {
    /// Sessions that run it, and no others.
    pub fn only(&self) -> OnlyPart {
        OnlyPart { dimension: Dimension::Family, part: Some(self.family_id) }
    }
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

    /// Samples of families as the server keeps them, by number, and when each was first seen.
    pub async fn family_samples(
        &self,
        instance_id: i32,
        families: &[i64],
    ) -> Result<HashMap<i64, (String, Timestamp)>> {
        let rows = sqlx::query(
            "SELECT family_id, sample, first_seen_at FROM family WHERE instance_id = $1 AND family_id = ANY($2)",
        )
        .bind(instance_id)
        .bind(families)
        .fetch_all(&self.pool)
        .await?;
        Ok(rows.iter().map(|row| (row.get("family_id"), (row.get("sample"), at(row.get("first_seen_at"))))).collect())
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

/// Text to be found as it stands, not as a pattern.
pub(crate) fn escape_pattern(text: &str) -> String {
    text.replace('\\', "\\\\").replace('%', "\\%").replace('_', "\\_")
}
