//! Buckets of the past that come summed up.

use std::collections::HashSet;

use chrono::{DateTime, Utc};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::{Named, Timestamp};
use sqlx::AssertSqlSafe;

use crate::series::backfill::Sums;
use crate::series::copy::{CopyRows, Field};
use crate::series::kept::{Bucket, KeptBusy, KeptLoad, KeptMeasures};
use crate::series::periods::{Kind, List, lists};
use crate::series::roll_up::note_coarser;
use crate::{Result, Store, time};

impl Store {
    /// Writes buckets of counters that come summed up, and answers how many were new. One that is there
    /// already is left as it is, and so is one whose hour is summed up and whose ten minutes are gone.
    pub async fn write_buckets<C: Kind>(
        &self,
        instance_id: i32,
        detail: Detail,
        buckets: &[Bucket<C::Object, C>],
    ) -> Result<usize> {
        let _held = self.hold_partitions().await?;
        self.try_write_buckets(instance_id, detail, buckets).await
    }

    async fn try_write_buckets<C: Kind>(
        &self,
        instance_id: i32,
        detail: Detail,
        buckets: &[Bucket<C::Object, C>],
    ) -> Result<usize> {
        let ends: Vec<Timestamp> = buckets.iter().map(|bucket| bucket.to).collect();
        let closed = self.make_room(instance_id, detail, &ends, &Sums::counters(C::FIGURES.name())).await?;
        let open: Vec<&Bucket<C::Object, C>> = buckets.iter().filter(|bucket| !closed.contains(&bucket.to)).collect();
        let mut transaction = self.pool.begin().await?;
        let new: Vec<DateTime<Utc>> = sqlx::query_scalar(AssertSqlSafe(format!(
            "INSERT INTO observed_{} (instance_id, kind, to_at, from_at, seconds, periods)
             SELECT $1, $2, * FROM unnest($3::timestamptz[], $4::timestamptz[], $5::float8[], $6::bigint[])
             ON CONFLICT DO NOTHING RETURNING to_at",
            detail.name()
        )))
        .bind(instance_id)
        .bind(C::FIGURES.name())
        .bind(open.iter().map(|bucket| time(bucket.to)).collect::<Vec<_>>())
        .bind(open.iter().map(|bucket| time(bucket.from)).collect::<Vec<_>>())
        .bind(open.iter().map(|bucket| bucket.seconds).collect::<Vec<_>>())
        .bind(open.iter().map(|bucket| bucket.periods).collect::<Vec<_>>())
        .fetch_all(&mut *transaction)
        .await?;
        let new: HashSet<DateTime<Utc>> = new.into_iter().collect();
        let mut copy = CopyRows::new();
        for bucket in open.iter().filter(|bucket| new.contains(&time(bucket.to)) && !bucket.rows.is_empty()) {
            let lists = lists::<C>(&bucket.rows);
            let mut fields = vec![Field::Int(Some(instance_id)), Field::Time(Some(bucket.to))];
            fields.extend(lists.iter().map(List::field));
            copy.push(&fields);
        }
        copy.send(&mut transaction, &format!("{}_{}", C::STEM, detail.name()), &C::columns()).await?;
        note_coarser(&mut transaction, instance_id, detail, &new.iter().copied().collect::<Vec<_>>()).await?;
        transaction.commit().await?;
        Ok(new.len())
    }

    /// Writes buckets of looks at the sessions; likewise.
    pub async fn write_load(&self, instance_id: i32, detail: Detail, buckets: &[KeptLoad]) -> Result<usize> {
        let _held = self.hold_partitions().await?;
        self.try_write_load(instance_id, detail, buckets).await
    }

    async fn try_write_load(&self, instance_id: i32, detail: Detail, buckets: &[KeptLoad]) -> Result<usize> {
        let ends: Vec<Timestamp> = buckets.iter().map(|bucket| bucket.to).collect();
        let closed = self.make_room(instance_id, detail, &ends, &Sums::ACTIVITY).await?;
        let open: Vec<&KeptLoad> = buckets.iter().filter(|bucket| !closed.contains(&bucket.to)).collect();
        let mut transaction = self.pool.begin().await?;
        let new: Vec<DateTime<Utc>> = sqlx::query_scalar(AssertSqlSafe(format!(
            "INSERT INTO activity_sample_{} (instance_id, to_at, samples, sessions)
             SELECT $1, * FROM unnest($2::timestamptz[], $3::bigint[], $4::bigint[]) ON CONFLICT DO NOTHING RETURNING to_at",
            detail.name()
        )))
        .bind(instance_id)
        .bind(open.iter().map(|bucket| time(bucket.to)).collect::<Vec<_>>())
        .bind(open.iter().map(|bucket| bucket.samples).collect::<Vec<_>>())
        .bind(open.iter().map(|bucket| bucket.sessions).collect::<Vec<_>>())
        .fetch_all(&mut *transaction)
        .await?;
        let new: HashSet<DateTime<Utc>> = new.into_iter().collect();
        let mut copy = CopyRows::new();
        for bucket in open.iter().filter(|bucket| new.contains(&time(bucket.to))) {
            for KeptBusy { wait_kind, names, family_id, lock_object_id, busy } in &bucket.rows {
                let mut fields =
                    vec![Field::Int(Some(instance_id)), Field::Time(Some(bucket.to)), Field::Small(Some(*wait_kind))];
                fields.extend(names.iter().map(|name| Field::Int(*name)));
                fields.extend([Field::Big(*family_id), Field::Int(*lock_object_id), Field::Big(Some(*busy))]);
                copy.push(&fields);
            }
        }
        let columns = "instance_id, to_at, wait_kind, event_id, account_id, program_id, client_id, database_id, family_id, lock_object_id, busy";
        copy.send(&mut transaction, &format!("activity_{}", detail.name()), columns).await?;
        note_coarser(&mut transaction, instance_id, detail, &new.iter().copied().collect::<Vec<_>>()).await?;
        transaction.commit().await?;
        Ok(new.len())
    }

    /// Writes buckets of single figures; likewise.
    pub async fn write_measure_buckets(
        &self,
        instance_id: i32,
        detail: Detail,
        buckets: &[KeptMeasures],
    ) -> Result<usize> {
        let _held = self.hold_partitions().await?;
        self.try_write_measure_buckets(instance_id, detail, buckets).await
    }

    async fn try_write_measure_buckets(
        &self,
        instance_id: i32,
        detail: Detail,
        buckets: &[KeptMeasures],
    ) -> Result<usize> {
        let ends: Vec<Timestamp> = buckets.iter().map(|bucket| bucket.at).collect();
        let closed = self.make_room(instance_id, detail, &ends, &Sums::MEASURES).await?;
        let table = format!("measure_{}", detail.name());
        let mut transaction = self.pool.begin().await?;
        let known: Vec<(DateTime<Utc>, String)> = sqlx::query_as(AssertSqlSafe(format!(
            "SELECT to_at, figures FROM {table} WHERE instance_id = $1 AND to_at = ANY($2)"
        )))
        .bind(instance_id)
        .bind(ends.iter().map(|at| time(*at)).collect::<Vec<_>>())
        .fetch_all(&mut *transaction)
        .await?;
        let known: HashSet<(DateTime<Utc>, String)> = known.into_iter().collect();
        let new: Vec<&KeptMeasures> = buckets
            .iter()
            .filter(|bucket| {
                !closed.contains(&bucket.at) && !known.contains(&(time(bucket.at), bucket.figures.clone()))
            })
            .collect();
        let mut copy = CopyRows::new();
        for bucket in &new {
            let metrics: Vec<i16> = bucket.rows.iter().map(|row| row.0).collect();
            let objects: Vec<i32> = bucket.rows.iter().map(|row| row.1).collect();
            let readings: Vec<i64> = bucket.rows.iter().map(|row| row.2).collect();
            let sums: Vec<f64> = bucket.rows.iter().map(|row| row.3).collect();
            let least: Vec<f64> = bucket.rows.iter().map(|row| row.4).collect();
            let most: Vec<f64> = bucket.rows.iter().map(|row| row.5).collect();
            copy.push(&[
                Field::Int(Some(instance_id)),
                Field::Time(Some(bucket.at)),
                Field::Text(&bucket.figures),
                Field::Smalls(&metrics),
                Field::Ints(&objects),
                Field::Bigs(&readings),
                Field::Doubles(&sums),
                Field::Doubles(&least),
                Field::Doubles(&most),
            ]);
        }
        copy.send(
            &mut transaction,
            &table,
            "instance_id, to_at, figures, metric, object_id, readings, total, least, most",
        )
        .await?;
        let ends: Vec<_> = new.iter().map(|bucket| time(bucket.at)).collect();
        note_coarser(&mut transaction, instance_id, detail, &ends).await?;
        transaction.commit().await?;
        Ok(new.len())
    }
}
