use crate::findings::robust::quantile_of;
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// Seconds of an hour.
const HOUR: f64 = 3600.0;
/// The epoch was a Thursday: so many hours before it a week began.
const HOURS_OF_EPOCH: i64 = 3 * 24;

/// Values of a metric on its scale, bucket by bucket, placed in the week.
#[derive(Debug, Clone)]
pub struct Grid {
    /// The values; those that were not seen are not a number.
    pub values: Vec<f64>,
    /// Number of the first bucket, counted from a Monday at midnight.
    pub first_bucket: usize,
    /// Number of the first hour, likewise.
    pub first_hour: usize,
    /// Buckets of an hour.
    pub buckets_an_hour: usize,
}

impl Grid {
    /// Values in buckets of so many seconds, the first of which begins at a moment by the clock of a place. Buckets that
    /// do not divide an hour are none; nothing for those.
    pub fn of(values: Vec<f64>, start: Timestamp, bucket_seconds: f64) -> Option<Grid> {
        let buckets_an_hour = (HOUR / bucket_seconds).round();
        if buckets_an_hour < 1.0 || (buckets_an_hour * bucket_seconds - HOUR).abs() > 1e-6 {
            return None;
        }
        let buckets_an_hour = buckets_an_hour as usize;
        let first_bucket = bucket_of_week(start, buckets_an_hour);
        Some(Grid { values, first_bucket, first_hour: first_bucket / buckets_an_hour, buckets_an_hour })
    }

    /// Days that it goes over.
    pub fn days(&self) -> f64 {
        self.values.len() as f64 / (24 * self.buckets_an_hour) as f64
    }

    /// Medians of hours, without buckets that are left out; those of which nothing was seen are not a number.
    pub fn hours(&self, left_out: &[bool]) -> Vec<f64> {
        let last = self.first_bucket + self.values.len();
        let count = last.div_ceil(self.buckets_an_hour) - self.first_hour;
        let mut hours = Vec::with_capacity(count);
        let mut of_hour = Vec::with_capacity(self.buckets_an_hour);
        for hour in self.first_hour..self.first_hour + count {
            let from = (hour * self.buckets_an_hour).saturating_sub(self.first_bucket);
            let until = ((hour + 1) * self.buckets_an_hour - self.first_bucket).min(self.values.len());
            of_hour.clear();
            let seen = self.values[from..until].iter().zip(&left_out[from..until]);
            of_hour.extend(seen.filter(|(value, left_out)| value.is_finite() && !**left_out).map(|(value, _)| *value));
            hours.push(quantile_of(&mut of_hour, 0.5).unwrap_or(f64::NAN));
        }
        hours
    }
}

/// Number of the bucket of the week that holds a moment, counted from Monday at midnight.
pub fn bucket_of_week(at: Timestamp, buckets_an_hour: usize) -> usize {
    let since = at.seconds_since(Timestamp(0)) + HOURS_OF_EPOCH as f64 * HOUR;
    let of_week = since.rem_euclid(7.0 * SECONDS_PER_DAY);
    (of_week / HOUR * buckets_an_hour as f64) as usize
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_week_begins_on_monday() {
        // 2026-11-30 is a Monday.
        let monday = Timestamp(1_795_996_800_000_000);
        assert_eq!(bucket_of_week(monday, 6), 0);
        assert_eq!(bucket_of_week(monday.plus_seconds(-1.0), 6), 7 * 144 - 1);
        assert_eq!(bucket_of_week(Timestamp(0), 1), 72);
    }

    #[test]
    fn hours_are_medians_of_what_was_seen_of_them() {
        let grid = Grid::of(vec![9.0, 1.0, 2.0, f64::NAN, 3.0], Timestamp(0).plus_seconds(3000.0), 600.0).unwrap();
        let hours = grid.hours(&[false, false, false, false, true]);
        assert_eq!(hours, [9.0, 2.0]);
        assert_eq!(Grid::of(vec![], Timestamp(0), 700.0).map(|grid| grid.days()), None);
    }
}
