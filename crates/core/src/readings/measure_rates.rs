use std::collections::HashMap;

use crate::readings::counters::MeasureCounters;
use crate::readings::difference::{Snapshot, between};
use crate::readings::metric::{Measure, Metric};
use crate::time::MICROS_PER_SECOND;

/// How fast what is counted was counted up between two readings at most `limit_seconds` apart; nothing
/// where that is not known ([`between`] says when).
pub fn rates(
    earlier: &Snapshot<(Metric, String), MeasureCounters>,
    later: &Snapshot<(Metric, String), MeasureCounters>,
    limit_seconds: f64,
) -> Vec<Measure> {
    let Ok(difference) = between(earlier, later, limit_seconds) else { return Vec::new() };
    let seconds = difference.seconds();
    let before: HashMap<_, _> = earlier.rows.iter().map(|(key, counters)| (key, counters)).collect();
    let grown: HashMap<_, _> =
        difference.rows.iter().filter(|row| !row.lower_bound).map(|row| (&row.key, row.by.counted)).collect();
    let rate = |(key, now): &((Metric, String), MeasureCounters)| {
        // What did not move has a rate too: zero. What is new or went down has none.
        let then = before.get(key)?;
        let by = if *then == now { 0 } else { *grown.get(key)? };
        let unit = if key.0.is_time_counted() { MICROS_PER_SECOND as f64 } else { 1.0 };
        Some(Measure { metric: key.0, object: key.1.clone(), value: by as f64 / unit / seconds })
    };
    later.rows.iter().filter_map(rate).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::time::Timestamp;

    #[test]
    fn rates_are_by_the_second_and_never_invented() {
        let reading = |at: i64, rows: &[(Metric, i64)]| {
            let row =
                |(metric, counted): &(Metric, i64)| ((*metric, String::new()), MeasureCounters { counted: *counted });
            Snapshot::new(Timestamp(at * 1_000_000), Timestamp(0), rows.iter().map(row).collect())
        };
        let earlier = reading(10, &[(Metric::LogWritten, 1000), (Metric::LogArchived, 7)]);
        let later = reading(20, &[(Metric::LogWritten, 6000), (Metric::LogArchived, 7), (Metric::LogArchiveFailed, 3)]);
        let found: Vec<(Metric, f64)> =
            rates(&earlier, &later, 60.0).iter().map(|measure| (measure.metric, measure.value)).collect();
        assert_eq!(found, [(Metric::LogWritten, 500.0), (Metric::LogArchived, 0.0)], "what is new has no rate yet");
        // Another server answers after a failover: its log stands elsewhere.
        let elsewhere = reading(30, &[(Metric::LogWritten, 200), (Metric::LogArchived, 9)]);
        let found: Vec<Metric> = rates(&later, &elsewhere, 60.0).iter().map(|measure| measure.metric).collect();
        assert_eq!(found, [Metric::LogArchived]);
        assert_eq!(rates(&earlier, &later, 5.0), []);
    }
}
