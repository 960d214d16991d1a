use std::collections::{BTreeMap, HashMap};

use hurnix_core::findings::lasting_change::{Bucket, FamilySeries, Measured, Observed, ServerSeries, WaitSeries};
use hurnix_core::findings::ratio::RATIOS;
use hurnix_core::readings::counters::{Counters, DatabaseCounters};
use hurnix_core::readings::metric::Metric;
use hurnix_core::{Named, Timestamp, WaitKind};
use sqlx::{QueryBuilder, Row};

use crate::series::activity::{Dimension, busy_sessions};
use crate::series::pieces::{Entries, Pieces, push_cell};
use crate::series::statements::{empty_buckets, periods};
use crate::{LoadCell, Result, Store, at, time};
use hurnix_core::keeping::detail::Detail;

/// Figures of a window that lasting changes are looked for in, by pieces for each group of figures.
#[derive(Debug)]
pub struct ToObserve {
    /// Of statements.
    pub statements: Pieces,
    /// Of sessions.
    pub activity: Pieces,
    /// Of databases.
    pub databases: Pieces,
    /// Of metrics.
    pub measures: Pieces,
    /// Length of a bucket.
    pub bucket_seconds: i64,
}

impl Store {
    /// Families that took at least `least_share` of all statements' time on one of the days of a window, counted back
    /// from its end.
    pub async fn families_that_matter(&self, instance_id: i32, pieces: &Pieces, least_share: f64) -> Result<Vec<i64>> {
        let mut sql = QueryBuilder::new(
            "SELECT DISTINCT family_id FROM (
                SELECT family_id, sum(exec_us)::float8 AS exec_us, sum(sum(exec_us)) OVER (PARTITION BY day)::float8 AS of_all
                FROM (SELECT family_id, exec_us, date_bin('1 day', to_at - interval '1 microsecond', ",
        );
        sql.push_bind(time(pieces.window().to)).push(") AS day FROM ");
        periods("family_id, exec_us").push(&mut sql, instance_id, pieces);
        sql.push(" period) AS by_day GROUP BY family_id, day) AS shares WHERE exec_us > 0 AND exec_us >= of_all * ");
        sql.push_bind(least_share).push(" ORDER BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok(rows.iter().map(|row| row.get(0)).collect())
    }

    /// What an instance was seen to do; these families are told one by one.
    pub async fn observed_series(&self, instance_id: i32, of: &ToObserve, families: &[i64]) -> Result<Observed> {
        let seen = self.observed(instance_id, &of.statements, of.bucket_seconds).await?;
        let Some(start) = seen.keys().next().copied() else { return Ok(Observed::default()) };
        let which = Entries::AndOthers(families.to_vec());
        let mut buckets = self.family_buckets(instance_id, &of.statements, of.bucket_seconds, which).await?;
        let empty = empty_buckets(&seen);
        let others = buckets.remove(&None).unwrap_or_else(|| empty.clone());
        for family in families {
            buckets.entry(Some(*family)).or_insert_with(|| empty.clone());
        }
        let looks = self.load(instance_id, &of.activity, of.bucket_seconds, &[]).await?;
        let families = self.with_waits(instance_id, of, buckets, &looks).await?;
        let metrics: Vec<Metric> = Metric::all().filter(|metric| metric.keeps_a_level()).collect();
        let mut server = load_series(&looks);
        server.extend(self.database_series(instance_id, &of.databases, of.bucket_seconds).await?);
        server.extend(self.metric_series(instance_id, &metrics, &of.measures, of.bucket_seconds).await?);
        let ratios: Vec<ServerSeries> = RATIOS.iter().flat_map(|ratio| ratio.of(&server)).collect();
        server.extend(ratios);
        Ok(Observed { start, bucket_seconds: of.bucket_seconds as f64, families, others, server })
    }

    /// What some families of an instance did, and nothing else of it.
    pub async fn observed_families(
        &self,
        instance_id: i32,
        of: &ToObserve,
        families: &[i64],
    ) -> Result<Vec<FamilySeries>> {
        let which = Entries::Only("family_id", families.to_vec());
        let buckets = self.family_buckets(instance_id, &of.statements, of.bucket_seconds, which).await?;
        let looks = self.load(instance_id, &of.activity, of.bucket_seconds, &[]).await?;
        self.with_waits(instance_id, of, buckets, &looks).await
    }

    /// Families with what their sessions waited for, as seen in these looks.
    async fn with_waits(
        &self,
        instance_id: i32,
        of: &ToObserve,
        buckets: BTreeMap<Option<i64>, Vec<Bucket>>,
        looks: &[LoadCell],
    ) -> Result<Vec<FamilySeries>> {
        let told: Vec<i64> = buckets.keys().filter_map(|family| *family).collect();
        let families = buckets.into_iter().filter_map(|(family, buckets)| Some((family?, buckets)));
        let mut families: Vec<FamilySeries> =
            families.map(|(family, buckets)| FamilySeries { family, buckets, waits: Vec::new() }).collect();
        let mut sql = QueryBuilder::new("SELECT family_id, wait_kind, ");
        push_cell(&mut sql, of.bucket_seconds);
        sql.push(" AS cell, sum(busy)::bigint AS busy FROM ");
        busy_sessions(&[], Some(Dimension::Family)).push(&mut sql, instance_id, &of.activity);
        // Joined, so that the list is never gone through row by row.
        sql.push(" session JOIN unnest(").push_bind(told);
        sql.push("::bigint[]) AS told ON told = family_id WHERE wait_kind > 0 GROUP BY 1, 2, 3");
        let mut waits: HashMap<(i64, i16), HashMap<Timestamp, i64>> = HashMap::new();
        for row in &sql.build().fetch_all(&self.pool).await? {
            let of = waits.entry((row.get("family_id"), row.get("wait_kind"))).or_default();
            of.insert(at(row.get("cell")), row.get("busy"));
        }
        let samples: HashMap<Timestamp, f64> = looks.iter().map(|cell| (cell.at, cell.load.samples as f64)).collect();
        for family in &mut families {
            let looks = |bucket: &Bucket| samples.get(&bucket.at).copied().unwrap_or_default();
            let seconds: f64 = family.buckets.iter().map(|bucket| bucket.seconds).sum();
            let each_seconds = seconds / family.buckets.iter().map(looks).sum::<f64>().max(1.0);
            for kind in WaitKind::ALL {
                let Some(busy) = waits.get(&(family.family, kind.position() as i16)) else { continue };
                let seen = |bucket: &Bucket| {
                    let busy = busy.get(&bucket.at).copied().unwrap_or_default() as f64;
                    if busy > 0.0 { busy * bucket.seconds / (looks(bucket) * each_seconds) } else { 0.0 }
                };
                let seen = family.buckets.iter().map(seen).collect();
                family.waits.push(WaitSeries { kind, each_seconds, seen });
            }
        }
        Ok(families)
    }

    /// Load of the server in all, and by kind of wait.
    pub(crate) async fn load_series(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        bucket_seconds: i64,
    ) -> Result<Vec<ServerSeries>> {
        Ok(load_series(&self.load(instance_id, pieces, bucket_seconds, &[]).await?))
    }

    /// What databases do a second, all of them together.
    pub(crate) async fn database_series(
        &self,
        instance_id: i32,
        pieces: &Pieces,
        bucket_seconds: i64,
    ) -> Result<Vec<ServerSeries>> {
        let cells = self.database_cells(instance_id, None, pieces, bucket_seconds).await?;
        // Times are counted in microseconds, and told in seconds by the second.
        let unit = |name: &str| if name.ends_with("_us") { 1e-6 } else { 1.0 };
        let mut series: Vec<ServerSeries> = DatabaseCounters::NAMES
            .iter()
            .map(|name| ServerSeries {
                measured: Measured::Metric,
                object: name.replace("_us", "_time"),
                counts: !(name.ends_with("_us") || name.ends_with("_bytes")),
                values: Vec::new(),
            })
            .collect();
        for (cell, seconds, counters) in cells.iter().filter(|(_, seconds, _)| *seconds > 0.0) {
            let figures = series.iter_mut().zip(DatabaseCounters::NAMES).zip(counters.values());
            for ((series, name), counted) in figures {
                series.values.push((*cell, counted as f64 * unit(name), *seconds));
            }
        }
        series.retain(|series| !series.values.is_empty());
        Ok(series)
    }

    /// Metrics, each of each of its objects.
    pub(crate) async fn metric_series(
        &self,
        instance_id: i32,
        metrics: &[Metric],
        pieces: &Pieces,
        bucket_seconds: i64,
    ) -> Result<Vec<ServerSeries>> {
        let numbers: Vec<i16> = metrics.iter().map(|metric| metric.number()).collect();
        let mut read: Vec<&str> = metrics.iter().map(|metric| metric.figures().name()).collect();
        read.sort_unstable();
        read.dedup();
        let mut sql = QueryBuilder::new("SELECT metric, name, ");
        push_cell(&mut sql, bucket_seconds);
        sql.push(" AS cell, sum(readings)::float8 AS readings, sum(total)::float8 AS total FROM (");
        for (position, piece) in pieces.pieces.iter().enumerate() {
            sql.push(if position > 0 { " UNION ALL " } else { "" });
            let (values, table) = match piece.detail {
                Detail::Fine => ("1::bigint AS readings, unnest(value) AS total", "measure".to_owned()),
                rolled => {
                    ("unnest(readings) AS readings, unnest(total) AS total", format!("measure_{}", rolled.name()))
                }
            };
            sql.push(format_args!(
                "SELECT to_at, unnest(metric) AS metric, unnest(object_id) AS object_id, {values} FROM {table} WHERE instance_id = "
            ));
            sql.push_bind(instance_id).push(" AND to_at > ").push_bind(time(piece.window.from));
            sql.push(" AND to_at <= ").push_bind(time(piece.window.to));
            sql.push(" AND figures = ANY(").push_bind(read.clone()).push(")");
        }
        sql.push(") value JOIN name ON name_id = object_id WHERE metric = ANY(").push_bind(numbers);
        sql.push(") GROUP BY 1, 2, 3 ORDER BY 1, 2, 3");
        let mut series: Vec<ServerSeries> = Vec::new();
        for row in &sql.build().fetch_all(&self.pool).await? {
            let Some(metric) = Metric::numbered(row.get("metric")) else { continue };
            let object = [metric.name(), row.get("name")].join(" ").trim().to_owned();
            if series.last().is_none_or(|last| last.object != object) {
                series.push(ServerSeries { measured: Measured::Metric, object, counts: false, values: Vec::new() });
            }
            if let Some(last) = series.last_mut() {
                last.values.push((at(row.get("cell")), row.get("total"), row.get("readings")));
            }
        }
        Ok(series)
    }
}

/// Load of the server in all, and by kind of wait.
fn load_series(cells: &[LoadCell]) -> Vec<ServerSeries> {
    let series = |measured, object: &str, busy: &dyn Fn(&[i64]) -> i64| {
        let value = |cell: &LoadCell| {
            let samples = cell.load.samples as f64;
            (samples > 0.0).then(|| (cell.at, busy(&cell.load.busy) as f64, samples))
        };
        ServerSeries {
            measured,
            object: object.to_owned(),
            counts: true,
            values: cells.iter().filter_map(value).collect(),
        }
    };
    let mut server = vec![series(Measured::Load, "", &|busy| busy.iter().sum())];
    for kind in WaitKind::ALL {
        server.push(series(Measured::Waits, kind.name(), &|busy| busy[kind.position()]));
    }
    server
}
