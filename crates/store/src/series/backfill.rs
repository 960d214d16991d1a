//! Figures of the past, many at a time: a history brought in, or lived through in fast time.

use std::collections::HashSet;

use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::readings::figures::Figures;
use hurnix_core::{Named, Timestamp, Window};
use sqlx::AssertSqlSafe;

use crate::series::copy::{CopyRows, Field};
use crate::series::periods::{Kind, List, lists};
use crate::series::roll_up::note_due;
use crate::{ActivityRow, MeasureRow, PeriodRow, Result, Store, time};

/// A snapshot of the past, with the period that it ended.
#[derive(Debug, Clone, PartialEq)]
pub struct BackfilledSnapshot<O, C> {
    /// When it was read.
    pub taken_at: Timestamp,
    /// How long the reading took, in milliseconds.
    pub read_ms: f32,
    /// When the server was started.
    pub server_started_at: Timestamp,
    /// When its counters were reset, where it tells.
    pub reset_at: Option<Timestamp>,
    /// The start of the period that it ended and what each object did, or why nothing is known of it.
    pub period: std::result::Result<(Timestamp, Vec<PeriodRow<O, C>>), String>,
}

/// What was measured at one moment.
#[derive(Debug, Clone, PartialEq)]
pub struct BackfilledMeasures {
    /// The kind of figures that was read.
    pub figures: Figures,
    /// When.
    pub at: Timestamp,
    /// The values.
    pub rows: Vec<MeasureRow>,
}

impl Store {
    /// Writes snapshots in one transaction, and answers how many were new. One that is there already is
    /// left as it is, and so is a bucket that was summed up and whose figures as read are gone: nothing
    /// can be added to it any more.
    pub async fn backfill_snapshots<C: Kind>(
        &self,
        instance_id: i32,
        snapshots: &[BackfilledSnapshot<C::Object, C>],
    ) -> Result<usize> {
        let _held = self.hold_partitions().await?;
        self.try_backfill_snapshots(instance_id, snapshots).await
    }

    async fn try_backfill_snapshots<C: Kind>(
        &self,
        instance_id: i32,
        snapshots: &[BackfilledSnapshot<C::Object, C>],
    ) -> Result<usize> {
        let taken: Vec<Timestamp> = snapshots.iter().map(|snapshot| snapshot.taken_at).collect();
        let closed = self.make_room(instance_id, Detail::Fine, &taken, &Sums::counters(C::FIGURES.name())).await?;
        let open: Vec<&BackfilledSnapshot<C::Object, C>> =
            snapshots.iter().filter(|snapshot| !closed.contains(&snapshot.taken_at)).collect();
        let from =
            |snapshot: &&BackfilledSnapshot<C::Object, C>| snapshot.period.as_ref().ok().map(|(from, _)| time(*from));
        let reason = |snapshot: &&BackfilledSnapshot<C::Object, C>| snapshot.period.as_ref().err().cloned();
        let mut transaction = self.pool.begin().await?;
        let new: Vec<DateTime<Utc>> = sqlx::query_scalar(
            "INSERT INTO snapshot (instance_id, kind, taken_at, read_ms, server_started_at, reset_at, from_at, no_difference)
             SELECT $1, $2, * FROM unnest($3::timestamptz[], $4::real[], $5::timestamptz[], $6::timestamptz[], $7::timestamptz[], $8::text[])
             ON CONFLICT DO NOTHING RETURNING taken_at",
        )
        .bind(instance_id)
        .bind(C::FIGURES.name())
        .bind(open.iter().map(|snapshot| time(snapshot.taken_at)).collect::<Vec<_>>())
        .bind(open.iter().map(|snapshot| snapshot.read_ms).collect::<Vec<_>>())
        .bind(open.iter().map(|snapshot| time(snapshot.server_started_at)).collect::<Vec<_>>())
        .bind(open.iter().map(|snapshot| snapshot.reset_at.map(time)).collect::<Vec<_>>())
        .bind(open.iter().map(from).collect::<Vec<_>>())
        .bind(open.iter().map(reason).collect::<Vec<_>>())
        .fetch_all(&mut *transaction)
        .await?;
        let new: HashSet<DateTime<Utc>> = new.into_iter().collect();
        let new: Vec<&&BackfilledSnapshot<C::Object, C>> =
            open.iter().filter(|snapshot| new.contains(&time(snapshot.taken_at))).collect();
        note_due(&mut transaction, instance_id, new.iter().map(|snapshot| snapshot.taken_at)).await?;
        let mut copy = CopyRows::new();
        for snapshot in &new {
            let Ok((_, rows)) = &snapshot.period else { continue };
            if !rows.is_empty() {
                let lists = lists::<C>(rows);
                let mut fields = vec![Field::Int(Some(instance_id)), Field::Time(Some(snapshot.taken_at))];
                fields.extend(lists.iter().map(List::field));
                copy.push(&fields);
            }
        }
        copy.send(&mut transaction, C::TABLE, &C::columns()).await?;
        transaction.commit().await?;
        Ok(new.len())
    }

    /// Writes measurements in one transaction, and answers how many were new; likewise.
    pub async fn backfill_measures(&self, instance_id: i32, past: &[BackfilledMeasures]) -> Result<usize> {
        let _held = self.hold_partitions().await?;
        self.try_backfill_measures(instance_id, past).await
    }

    async fn try_backfill_measures(&self, instance_id: i32, past: &[BackfilledMeasures]) -> Result<usize> {
        let moments: Vec<Timestamp> = past.iter().map(|measures| measures.at).collect();
        let closed = self.make_room(instance_id, Detail::Fine, &moments, &Sums::MEASURES).await?;
        let mut transaction = self.pool.begin().await?;
        let known: Vec<(DateTime<Utc>, String)> =
            sqlx::query_as("SELECT to_at, figures FROM measure WHERE instance_id = $1 AND to_at = ANY($2)")
                .bind(instance_id)
                .bind(moments.iter().map(|at| time(*at)).collect::<Vec<_>>())
                .fetch_all(&mut *transaction)
                .await?;
        let known: HashSet<(DateTime<Utc>, String)> = known.into_iter().collect();
        let new: Vec<&BackfilledMeasures> = past
            .iter()
            .filter(|measures| !closed.contains(&measures.at))
            .filter(|measures| !known.contains(&(time(measures.at), measures.figures.name().to_owned())))
            .collect();
        note_due(&mut transaction, instance_id, new.iter().map(|measures| measures.at)).await?;
        let mut copy = CopyRows::new();
        for measures in &new {
            let metrics: Vec<i16> = measures.rows.iter().map(|row| row.metric.number()).collect();
            let objects: Vec<i32> = measures.rows.iter().map(|row| row.object_id).collect();
            let values: Vec<f64> = measures.rows.iter().map(|row| row.value).collect();
            copy.push(&[
                Field::Int(Some(instance_id)),
                Field::Time(Some(measures.at)),
                Field::Text(measures.figures.name()),
                Field::Smalls(&metrics),
                Field::Ints(&objects),
                Field::Doubles(&values),
            ]);
        }
        copy.send(&mut transaction, "measure", "instance_id, to_at, figures, metric, object_id, value").await?;
        transaction.commit().await?;
        Ok(new.len())
    }

    /// Writes looks at the sessions of the past, and answers how many were new; likewise.
    pub async fn backfill_activity(
        &self,
        instance_id: i32,
        samples: &[(Timestamp, i32, Vec<ActivityRow<'_>>)],
    ) -> Result<usize> {
        let _held = self.hold_partitions().await?;
        self.try_backfill_activity(instance_id, samples).await
    }

    async fn try_backfill_activity(
        &self,
        instance_id: i32,
        samples: &[(Timestamp, i32, Vec<ActivityRow<'_>>)],
    ) -> Result<usize> {
        let moments: Vec<Timestamp> = samples.iter().map(|(at, _, _)| *at).collect();
        let closed = self.make_room(instance_id, Detail::Fine, &moments, &Sums::ACTIVITY).await?;
        if closed.is_empty() {
            return self.write_activity(instance_id, samples).await;
        }
        let open: Vec<_> = samples.iter().filter(|(at, _, _)| !closed.contains(at)).cloned().collect();
        self.write_activity(instance_id, &open).await
    }

    /// Makes partitions for these moments, and answers with those of them whose bucket is closed: summed up
    /// already, with nothing as fine as `detail` left of it. Adding to one would make its sum wrong.
    pub(crate) async fn make_room(
        &self,
        instance_id: i32,
        detail: Detail,
        moments: &[Timestamp],
        sums: &Sums,
    ) -> Result<HashSet<Timestamp>> {
        let coarser = if detail == Detail::Fine { Detail::TenMinutes } else { Detail::Hour };
        let ends: HashSet<DateTime<Utc>> = moments.iter().map(|at| time(coarser.bucket_end(*at))).collect();
        let fine =
            if detail == Detail::Fine { (sums.fine.to_owned(), sums.moment) } else { (sums.level(detail), "to_at") };
        let kind_is = |of: &str| sums.kind.map_or(String::new(), |kind| format!("AND {of}.kind = '{kind}'"));
        let closed: Vec<DateTime<Utc>> = sqlx::query_scalar(AssertSqlSafe(format!(
            "SELECT DISTINCT c.to_at FROM {} c WHERE c.instance_id = $1 AND c.to_at = ANY($2) {} AND NOT EXISTS (
                SELECT FROM {} f WHERE f.instance_id = $1 AND f.{moment} > c.to_at - make_interval(secs => $3)
                   AND f.{moment} <= c.to_at {})",
            sums.level(coarser),
            kind_is("c"),
            fine.0,
            kind_is("f"),
            moment = fine.1,
        )))
        .bind(instance_id)
        .bind(ends.into_iter().collect::<Vec<_>>())
        .bind(coarser.bucket_seconds().unwrap_or_default() as f64)
        .fetch_all(&self.pool)
        .await?;
        let closed: HashSet<DateTime<Utc>> = closed.into_iter().collect();
        let (closed, open): (Vec<Timestamp>, Vec<Timestamp>) =
            moments.iter().partition(|at| closed.contains(&time(coarser.bucket_end(**at))));
        // Not in the transaction that writes: whoever makes a partition waits for all who use the table.
        let mut days = HashSet::new();
        for at in open {
            if days.insert(time(at).date_naive()) {
                self.make_partitions(Window { from: at, to: at }).await?;
            }
        }
        Ok(closed.into_iter().collect())
    }
}

/// Where one kind of figures is kept at its levels.
pub(crate) struct Sums {
    stem: &'static str,
    fine: &'static str,
    moment: &'static str,
    kind: Option<&'static str>,
}

impl Sums {
    pub(crate) const ACTIVITY: Sums =
        Sums { stem: "activity_sample", fine: "activity_sample", moment: "sampled_at", kind: None };
    pub(crate) const MEASURES: Sums = Sums { stem: "measure", fine: "measure", moment: "to_at", kind: None };

    pub(crate) fn counters(kind: &'static str) -> Sums {
        Sums { stem: "observed", fine: "snapshot", moment: "taken_at", kind: Some(kind) }
    }

    fn level(&self, detail: Detail) -> String {
        format!("{}_{}", self.stem, detail.name())
    }
}
