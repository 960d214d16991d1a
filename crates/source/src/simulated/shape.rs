use hurnix_core::Timestamp;
use hurnix_core::time::MICROS_PER_SECOND;
use serde::{Deserialize, Serialize};

const MINUTES_PER_DAY: i64 = 24 * 60;

/// How something rises and falls through days and weeks, UTC.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Shape {
    /// Level at each full hour of the day; straight lines between them.
    pub hours: Vec<f64>,
    /// Factor of each day of the week, Monday first.
    pub days: [f64; 7],
    /// Besides that, levels for a while.
    pub bursts: Vec<Burst>,
}

/// A level that holds for a while on some days.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Burst {
    /// Days of the week on which it happens, Monday being 0.
    pub days: Vec<u8>,
    /// Minutes of the day at which it begins.
    pub starts: Vec<u16>,
    /// How long it lasts, in minutes.
    pub minutes: u16,
    /// The level that is added.
    pub level: f64,
    /// Whether it happens on the last day of a month only.
    pub month_end: bool,
}

impl Shape {
    /// Always at level 1.
    pub fn steady() -> Shape {
        Shape { hours: vec![1.0; 24], days: [1.0; 7], bursts: Vec::new() }
    }

    /// Its level in the minute with this number since the epoch.
    pub fn level(&self, minute: i64) -> f64 {
        let (day, of_day) = (minute.div_euclid(MINUTES_PER_DAY), minute.rem_euclid(MINUTES_PER_DAY));
        let weekday = weekday(day);
        let hour = (of_day / 60) as usize;
        let (from, to) = (self.at_hour(hour), self.at_hour(hour + 1));
        let curve = (from + (to - from) * (of_day % 60) as f64 / 60.0) * self.days[weekday];
        let burst = |burst: &&Burst| {
            let today = burst.days.iter().any(|day| usize::from(*day) == weekday);
            let runs = |start: &u16| (i64::from(*start)..i64::from(start + burst.minutes)).contains(&of_day);
            today && burst.starts.iter().any(runs) && (!burst.month_end || is_last_of_month(day))
        };
        curve + self.bursts.iter().filter(burst).map(|burst| burst.level).sum::<f64>()
    }

    fn at_hour(&self, hour: usize) -> f64 {
        self.hours.get(hour % self.hours.len().max(1)).copied().unwrap_or(0.0)
    }
}

/// The number of the minute since the epoch that holds a moment.
pub fn minute_of(at: Timestamp) -> i64 {
    at.0.div_euclid(60 * MICROS_PER_SECOND)
}

/// Day of the week of a day since the epoch, Monday being 0: that day was a Thursday.
fn weekday(day: i64) -> usize {
    (day + 3).rem_euclid(7) as usize
}

/// Whether a day since the epoch is the last of its month, by the proleptic Gregorian calendar
/// (H. Hinnant's method: years that begin in March, eras of 400 of them).
fn is_last_of_month(day: i64) -> bool {
    day_of_month(day + 1) == 1
}

fn day_of_month(day: i64) -> i64 {
    let shifted = day + 719_468;
    let of_era = shifted.rem_euclid(146_097);
    let year_of_era = (of_era - of_era / 1460 + of_era / 36_524 - of_era / 146_096) / 365;
    let of_year = of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month = (5 * of_year + 2) / 153;
    of_year - (153 * month + 2) / 5 + 1
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Minutes to 2026-11-23, a Monday.
    const MONDAY: i64 = 20_780 * MINUTES_PER_DAY;

    #[test]
    fn levels_follow_hours_days_and_bursts() {
        let mut shape = Shape::steady();
        shape.hours[10] = 3.0;
        shape.days[6] = 0.5;
        shape.bursts.push(Burst { days: vec![0], starts: vec![60], minutes: 5, level: 7.0, month_end: false });
        assert_eq!(shape.level(MONDAY + 10 * 60), 3.0);
        assert_eq!(shape.level(MONDAY + 9 * 60 + 30), 2.0, "half way up");
        assert_eq!(shape.level(MONDAY - 5), 0.5, "Sunday");
        assert_eq!((shape.level(MONDAY + 64), shape.level(MONDAY + 65)), (8.0, 1.0));
        assert_eq!(shape.level(MONDAY + MINUTES_PER_DAY + 62), 1.0, "not on Tuesday");
    }

    #[test]
    fn the_end_of_a_month_is_found() {
        // 2026-11-30, 2026-12-31, 2028-02-29, 2027-02-28.
        let last = [20_787, 20_818, 21_243, 20_877];
        assert!(last.iter().all(|day| is_last_of_month(*day)));
        assert!(!last.iter().any(|day| is_last_of_month(day - 1) || is_last_of_month(day + 1)));
        assert_eq!(day_of_month(0), 1);
    }
}
