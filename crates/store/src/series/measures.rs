use std::collections::HashMap;

use hurnix_core::readings::figures::Figures;
use hurnix_core::readings::metric::Metric;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::{QueryBuilder, Row};

use crate::series::copy::{CopyRows, Field};
use crate::series::pieces::{Pieces, push_cell};
use crate::series::roll_up::note_due;
use crate::{Result, Store, at, time};
use hurnix_core::keeping::detail::Detail;

/// One value of a metric with its object replaced by its number.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MeasureRow {
    /// What was measured.
    pub metric: Metric,
    /// Number of the name of the object.
    pub object_id: i32,
    /// In the metric's unit.
    pub value: f64,
}

/// Values of one metric of one object in one cell of time.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct MetricCell {
    /// Start of the cell.
    pub at: Timestamp,
    /// Readings in it.
    pub readings: i64,
    /// Mean of them.
    pub mean: f64,
    /// The smallest.
    pub least: f64,
    /// The largest.
    pub most: f64,
}

/// The newest value of one metric of one object.
#[derive(Debug, Clone, PartialEq)]
pub struct NewestMeasure {
    /// What was measured.
    pub metric: Metric,
    /// Of what; empty for the server as a whole.
    pub object: String,
    /// When.
    pub at: Timestamp,
    /// In the metric's unit.
    pub value: f64,
}

impl Store {
    /// Writes what was measured at one moment. Writing it again changes nothing.
    pub async fn write_measures(
        &self,
        instance_id: i32,
        figures: Figures,
        at: Timestamp,
        rows: &[MeasureRow],
    ) -> Result<()> {
        match self.try_write_measures(instance_id, figures, at, rows).await {
            Err(problem) if problem.lacks_partition() => {
                self.make_partitions(Window { from: at, to: at }).await?;
                self.try_write_measures(instance_id, figures, at, rows).await
            }
            other => other,
        }
    }

    async fn try_write_measures(
        &self,
        instance_id: i32,
        figures: Figures,
        at: Timestamp,
        rows: &[MeasureRow],
    ) -> Result<()> {
        let mut transaction = self.pool.begin().await?;
        let known: bool = sqlx::query_scalar(
            "SELECT EXISTS (SELECT FROM measure WHERE instance_id = $1 AND to_at = $2 AND figures = $3)",
        )
        .bind(instance_id)
        .bind(time(at))
        .bind(figures.name())
        .fetch_one(&mut *transaction)
        .await?;
        if known {
            return Ok(());
        }
        note_due(&mut transaction, instance_id, std::iter::once(at)).await?;
        let metrics: Vec<i16> = rows.iter().map(|row| row.metric.number()).collect();
        let objects: Vec<i32> = rows.iter().map(|row| row.object_id).collect();
        let values: Vec<f64> = rows.iter().map(|row| row.value).collect();
        let mut copy = CopyRows::new();
        copy.push(&[
            Field::Int(Some(instance_id)),
            Field::Time(Some(at)),
            Field::Text(figures.name()),
            Field::Smalls(&metrics),
            Field::Ints(&objects),
            Field::Doubles(&values),
        ]);
        copy.send(&mut transaction, "measure", "instance_id, to_at, figures, metric, object_id, value").await?;
        transaction.commit().await?;
        Ok(())
    }

    /// One metric of one object over time, in cells of `cell_seconds`; cells without reading are left out.
    pub async fn metric_cells(
        &self,
        instance_id: i32,
        metric: Metric,
        object: &str,
        pieces: &Pieces,
        cell_seconds: i64,
    ) -> Result<Vec<MetricCell>> {
        let mut sql = QueryBuilder::new("SELECT ");
        push_cell(&mut sql, cell_seconds);
        sql.push(
            " AS cell, sum(readings)::bigint AS readings, sum(total) / sum(readings) AS mean, min(least) AS least, max(most) AS most FROM (",
        );
        for (position, piece) in pieces.pieces.iter().enumerate() {
            sql.push(if position > 0 { " UNION ALL " } else { "" });
            let (values, table) = match piece.detail {
                Detail::Fine => (
                    "1::bigint AS readings, value[place] AS total, value[place] AS least, value[place] AS most",
                    "measure".to_owned(),
                ),
                rolled => (
                    "readings[place] AS readings, total[place] AS total, least[place] AS least, most[place] AS most",
                    format!("measure_{}", rolled.name()),
                ),
            };
            sql.push(format_args!("SELECT to_at, {values} FROM {table}, unnest(array_positions(object_id, (SELECT name_id FROM name WHERE instance_id = "));
            sql.push_bind(instance_id).push(" AND name = ").push_bind(object.to_owned());
            sql.push("))) AS place WHERE instance_id = ").push_bind(instance_id);
            sql.push(" AND figures = ").push_bind(metric.figures().name());
            sql.push(" AND metric[place] = ").push_bind(metric.number());
            sql.push(" AND to_at > ").push_bind(time(piece.window.from));
            sql.push(" AND to_at <= ").push_bind(time(piece.window.to));
        }
        sql.push(") value GROUP BY 1 ORDER BY 1");
        let rows = sql.build().fetch_all(&self.pool).await?;
        Ok(rows
            .iter()
            .map(|row| MetricCell {
                at: at(row.get("cell")),
                readings: row.get("readings"),
                mean: row.get("mean"),
                least: row.get("least"),
                most: row.get("most"),
            })
            .collect())
    }

    /// Daily means of a metric by object, in order of time: from hourly sums where they are made, else from what
    /// is finer. A day begins by the clock of `zone`.
    pub async fn metric_days(
        &self,
        instance_id: i32,
        metric: Metric,
        pieces: &Pieces,
        zone: &str,
    ) -> Result<HashMap<String, Vec<(Timestamp, f64)>>> {
        let mut sql = QueryBuilder::new("SELECT name, date_trunc('day', to_at - interval '1 microsecond', ");
        sql.push_bind(zone).push(") AS day, sum(total) / sum(readings) AS mean FROM (");
        for (position, piece) in pieces.pieces.iter().enumerate() {
            sql.push(if position > 0 { " UNION ALL " } else { "" });
            let (columns, table) = match piece.detail {
                Detail::Fine => ("1::bigint AS readings, value[place] AS total", "measure".to_owned()),
                rolled => ("readings[place] AS readings, total[place] AS total", format!("measure_{}", rolled.name())),
            };
            sql.push(format_args!(
                "SELECT to_at, object_id[place] AS object_id, {columns} FROM {table}, unnest(array_positions(metric, "
            ));
            sql.push_bind(metric.number()).push(")) AS place WHERE instance_id = ").push_bind(instance_id);
            sql.push(" AND figures = ").push_bind(metric.figures().name());
            sql.push(" AND to_at > ").push_bind(time(piece.window.from));
            sql.push(" AND to_at <= ").push_bind(time(piece.window.to));
        }
        sql.push(") value JOIN name ON name_id = object_id GROUP BY 1, 2 ORDER BY 1, 2");
        let rows = sql.build().fetch_all(&self.pool).await?;
        let mut days: HashMap<String, Vec<(Timestamp, f64)>> = HashMap::new();
        for row in &rows {
            days.entry(row.get("name")).or_default().push((at(row.get("day")), row.get("mean")));
        }
        Ok(days)
    }

    /// Whether a server was a replica when last read, in the week before `at`; nothing where it was not read.
    pub async fn is_replica(&self, instance_id: i32, at: Timestamp) -> Result<Option<bool>> {
        let recovering = self.newest_of_server(instance_id, Metric::Recovering, at).await?;
        Ok(recovering.map(|recovering| recovering > 0.0))
    }

    /// The newest value of a metric of the server as a whole, in the week before `at`; nothing where it was not read.
    pub async fn newest_of_server(&self, instance_id: i32, metric: Metric, at: Timestamp) -> Result<Option<f64>> {
        let value: Option<Option<f64>> = sqlx::query_scalar(
            "SELECT value[array_position(metric, $3)] FROM measure
             WHERE instance_id = $1 AND figures = $2 AND to_at > $4 AND to_at <= $5 ORDER BY to_at DESC LIMIT 1",
        )
        .bind(instance_id)
        .bind(metric.figures().name())
        .bind(metric.number())
        .bind(time(at.plus_seconds(-7.0 * SECONDS_PER_DAY)))
        .bind(time(at))
        .fetch_optional(&self.pool)
        .await?;
        Ok(value.flatten())
    }

    /// The newest value of every metric of every object, of those read after `since`, by metric and object.
    pub async fn newest_measures(&self, instance_id: i32, since: Timestamp) -> Result<Vec<NewestMeasure>> {
        let rows = sqlx::query(
            "SELECT metric, name AS object, to_at, value FROM (
                SELECT DISTINCT ON (figures) to_at, metric AS metrics, object_id AS objects, value AS values
                FROM measure WHERE instance_id = $1 AND to_at > $2 ORDER BY figures, to_at DESC) newest,
                unnest(metrics, objects, values) AS one (metric, object_id, value)
             JOIN name ON name_id = object_id ORDER BY metric, name",
        )
        .bind(instance_id)
        .bind(time(since))
        .fetch_all(&self.pool)
        .await?;
        let newest = |row: &sqlx::postgres::PgRow| {
            Some(NewestMeasure {
                metric: Metric::numbered(row.get("metric"))?,
                object: row.get("object"),
                at: at(row.get("to_at")),
                value: row.get("value"),
            })
        };
        Ok(rows.iter().filter_map(newest).collect())
    }
}
