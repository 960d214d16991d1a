//! What a past was, summed up over ten minutes: of a time of which nothing is kept as it was read.

use std::collections::{BTreeMap, HashMap};

use hurnix_core::keeping::detail::Detail;
use hurnix_core::{Named, Timestamp};
use hurnix_store::{
    ActivityRow, BackfilledMeasures, BackfilledSnapshot, Bucket, KeptBusy, KeptLoad, KeptMeasures, Kind,
};

/// The bucket that a period of a snapshot fills by itself, if it does.
pub fn bucket_of<C: Kind>(snapshot: &BackfilledSnapshot<C::Object, C>) -> Option<Bucket<C::Object, C>> {
    let (to, (from, rows)) = (snapshot.taken_at, snapshot.period.as_ref().ok()?);
    let seconds = to.seconds_since(*from);
    let fills = Detail::TenMinutes.bucket_seconds() == Some(seconds as i64) && Detail::TenMinutes.bucket_end(to) == to;
    fills.then(|| Bucket { to, from: *from, seconds, periods: 1, rows: rows.clone() })
}

/// Looks at the sessions, by buckets.
pub fn loads(samples: &[(Timestamp, i32, Vec<ActivityRow<'_>>)]) -> Vec<KeptLoad> {
    type Alike = (i16, [Option<i32>; 5], Option<i64>, Option<i32>);
    let mut buckets: BTreeMap<Timestamp, (i64, i64, HashMap<Alike, i64>)> = BTreeMap::new();
    for (at, sessions, rows) in samples {
        let (looks, all, busy) = buckets.entry(Detail::TenMinutes.bucket_end(*at)).or_default();
        *looks += 1;
        *all += i64::from(*sessions);
        for row in rows {
            let Some(kind) = row.session.wait_kind else { continue };
            let names =
                [row.event_id, Some(row.account_id), Some(row.program_id), Some(row.client_id), Some(row.database_id)];
            let table = row.awaited.map(|[_, _, object]| object);
            *busy.entry((kind.position() as i16, names, row.family_id, table)).or_default() += 1;
        }
    }
    let kept = |(to, (samples, sessions, busy)): (Timestamp, (i64, i64, HashMap<Alike, i64>))| {
        let row = |((wait_kind, names, family_id, lock_object_id), busy)| KeptBusy {
            wait_kind,
            names,
            family_id,
            lock_object_id,
            busy,
        };
        KeptLoad { to, samples, sessions, rows: busy.into_iter().map(row).collect() }
    };
    buckets.into_iter().map(kept).collect()
}

/// Values by buckets: how many there were of each, their sum, the least and the most.
pub fn measures(past: &[BackfilledMeasures]) -> Vec<KeptMeasures> {
    /// Readings, sum, least and most, by metric and object.
    type Values = BTreeMap<(i16, i32), (i64, f64, f64, f64)>;
    let mut buckets: BTreeMap<(Timestamp, &str), Values> = BTreeMap::new();
    for BackfilledMeasures { figures, at, rows } in past {
        let bucket = buckets.entry((Detail::TenMinutes.bucket_end(*at), figures.name())).or_default();
        for row in rows {
            let values = bucket.entry((row.metric.number(), row.object_id)).or_insert((0, 0.0, f64::MAX, f64::MIN));
            *values = (values.0 + 1, values.1 + row.value, values.2.min(row.value), values.3.max(row.value));
        }
    }
    let kept = |((at, figures), rows): ((Timestamp, &str), Values)| {
        let row = |((metric, object), (readings, sum, least, most))| (metric, object, readings, sum, least, most);
        KeptMeasures { at, figures: figures.to_owned(), rows: rows.into_iter().map(row).collect() }
    };
    buckets.into_iter().map(kept).collect()
}

#[cfg(test)]
mod tests {
    use hurnix_core::readings::counters::DatabaseCounters;
    use hurnix_core::readings::figures::Figures;
    use hurnix_core::readings::metric::Metric;
    use hurnix_store::MeasureRow;

    use super::*;

    fn minute(minute: i64) -> Timestamp {
        Timestamp(minute * 60_000_000)
    }

    #[test]
    fn a_period_is_a_bucket_where_it_is_one_exactly() {
        let snapshot = |from: i64, to: i64| BackfilledSnapshot::<u32, DatabaseCounters> {
            taken_at: minute(to),
            read_ms: 0.0,
            server_started_at: minute(0),
            reset_at: None,
            period: Ok((minute(from), Vec::new())),
        };
        let bucket = bucket_of(&snapshot(20, 30)).unwrap();
        assert_eq!((bucket.from, bucket.to, bucket.seconds, bucket.periods), (minute(20), minute(30), 600.0, 1));
        assert_eq!(
            [bucket_of(&snapshot(15, 25)), bucket_of(&snapshot(10, 30)), bucket_of(&snapshot(25, 30))],
            [None, None, None]
        );
        let unknown = BackfilledSnapshot { period: Err("Restarted".into()), ..snapshot(20, 30) };
        assert_eq!(bucket_of(&unknown), None);
    }

    #[test]
    fn values_of_a_bucket_keep_their_ends() {
        let at = |at: i64, values: &[(i32, f64)]| BackfilledMeasures {
            figures: Figures::Standing,
            at: minute(at),
            rows: values
                .iter()
                .map(|(object_id, value)| MeasureRow {
                    metric: Metric::Connections,
                    object_id: *object_id,
                    value: *value,
                })
                .collect(),
        };
        let kept = measures(&[at(1, &[(7, 4.0), (8, 1.0)]), at(10, &[(7, 2.0)]), at(11, &[(7, 9.0)])]);
        let number = Metric::Connections.number();
        assert_eq!(kept.len(), 2);
        assert_eq!((kept[0].at, kept[1].at), (minute(10), minute(20)));
        assert_eq!(kept[0].rows, [(number, 7, 2, 6.0, 2.0, 4.0), (number, 8, 1, 1.0, 1.0, 1.0)]);
        assert_eq!(kept[1].rows, [(number, 7, 1, 9.0, 9.0, 9.0)]);
    }
}
