use super::grid::Grid;
use crate::findings::lasting_change::effects;
use crate::findings::robust::{median, running_median};

/// Hours of a day, and of a week.
pub const DAY: usize = 24;
pub const WEEK: usize = 7 * DAY;
/// Days of history from which the hour of the day is told apart, and the hour of the week.
const DAYS_FOR_DAILY: usize = 4;
const DAYS_FOR_WEEKLY: usize = 14;
/// Times that a metric is learnt: what comes back against its level, its level without that.
const ROUNDS: usize = 2;

/// What comes back each day and each week, on the scale of the metric.
#[derive(Debug, Clone, PartialEq)]
pub struct Season {
    /// By the hour of the day.
    pub daily: Vec<f64>,
    /// By the hour of the week, on top of the day's.
    pub weekly: Vec<f64>,
    /// By the bucket of the day, on top of both.
    pub within_hours: Vec<f64>,
}

impl Season {
    /// Learns it from what was seen, without `left_out`. Pooled by how long the history is: from two weeks on by hour of
    /// the week with its neighbours, from four days on by hour of the day, before that not at all.
    pub fn learn(grid: &Grid, left_out: &[bool]) -> Season {
        let mut season = Season {
            daily: vec![0.0; DAY],
            weekly: vec![0.0; WEEK],
            within_hours: vec![0.0; DAY * grid.buckets_an_hour],
        };
        let hours = grid.hours(left_out);
        let days = hours.iter().filter(|hour| hour.is_finite()).count() / DAY;
        if days < DAYS_FOR_DAILY {
            return season;
        }
        for _ in 0..ROUNDS {
            let levels = season.levels(&hours, grid.first_hour, DAY / 2);
            season.daily = season.slots(&hours, &levels, grid.first_hour, DAY, 0);
            if days >= DAYS_FOR_WEEKLY {
                let levels = season.levels(&hours, grid.first_hour, WEEK / 2);
                season.weekly = season.slots(&hours, &levels, grid.first_hour, WEEK, 1);
            }
        }
        season.within_hours = season.learn_within_hours(grid, &hours, left_out);
        season
    }

    /// Whether what comes back each day is known.
    pub fn is_known(&self) -> bool {
        self.daily.iter().any(|hour| *hour != 0.0)
    }

    /// What it adds in an hour, counted from a Monday at midnight.
    pub fn of_hour(&self, hour: usize) -> f64 {
        self.daily[hour % DAY] + self.weekly[hour % WEEK]
    }

    /// What it adds in a bucket, counted from a Monday at midnight.
    pub fn of_bucket(&self, bucket: usize, buckets_an_hour: usize) -> f64 {
        self.of_hour(bucket / buckets_an_hour) + self.within_hours[bucket % self.within_hours.len()]
    }

    /// Running medians of what is left of hours, over `half` of them on either side. Hours that were not seen have the
    /// level of the last one that was.
    fn levels(&self, hours: &[f64], first_hour: usize, half: usize) -> Vec<f64> {
        let left = |(at, hour): (usize, &f64)| hour.is_finite().then(|| hour - self.of_hour(first_hour + at));
        let seen: Vec<f64> = hours.iter().enumerate().filter_map(left).collect();
        let mut levels = running_median(&seen, half).into_iter();
        let mut level = f64::NAN;
        hours
            .iter()
            .map(|hour| {
                if hour.is_finite() {
                    level = levels.next().unwrap_or(level);
                }
                level
            })
            .collect()
    }

    /// What hours of each of `count` kinds add to their levels, with as many `neighbours` on either side, on top of what
    /// the other season adds.
    fn slots(&self, hours: &[f64], levels: &[f64], first_hour: usize, count: usize, neighbours: usize) -> Vec<f64> {
        let left = |(at, (hour, level)): (usize, (&f64, &f64))| {
            let number = first_hour + at;
            let other = if count == DAY { self.weekly[number % WEEK] } else { self.daily[number % DAY] };
            hour - level - other
        };
        let left: Vec<f64> = hours.iter().zip(levels).enumerate().map(left).collect();
        let mut slots = vec![Vec::new(); count];
        // One value for each time that an hour came: its neighbours say no more of how often it was so.
        for at in 0..left.len() {
            let around = &left[at.saturating_sub(neighbours)..(at + neighbours + 1).min(left.len())];
            let (sum, seen) = around
                .iter()
                .filter(|value| value.is_finite())
                .fold((0.0, 0), |(sum, seen), value| (sum + value, seen + 1));
            if seen > 0 {
                slots[(first_hour + at) % count].push(sum / f64::from(seen));
            }
        }
        effects(&slots).0
    }

    /// What comes back within hours: buckets of each place of the day against their hours.
    fn learn_within_hours(&self, grid: &Grid, hours: &[f64], left_out: &[bool]) -> Vec<f64> {
        let mut slots = vec![Vec::new(); self.within_hours.len()];
        for (at, (value, left_out)) in grid.values.iter().zip(left_out).enumerate() {
            let bucket = grid.first_bucket + at;
            let left = value - hours[bucket / grid.buckets_an_hour - grid.first_hour];
            if left.is_finite() && !left_out {
                slots[bucket % self.within_hours.len()].push(left);
            }
        }
        effects(&slots).0
    }
}

/// Levels day by day, each from the `days` before it: what would have been known then.
pub fn levels_known(season: &Season, grid: &Grid, left_out: &[bool], days: usize) -> Vec<f64> {
    let hours = grid.hours(left_out);
    let left: Vec<f64> =
        hours.iter().enumerate().map(|(at, hour)| hour - season.of_hour(grid.first_hour + at)).collect();
    let of = |hours: &[f64]| {
        let seen: Vec<f64> = hours.iter().copied().filter(|hour| hour.is_finite()).collect();
        median(&seen)
    };
    let mut level = f64::NAN;
    let mut known: Vec<f64> = (0..=hours.len() / DAY)
        .map(|day| {
            let until = (day * DAY).min(hours.len());
            level = of(&left[until.saturating_sub(days * DAY)..until]).unwrap_or(level);
            level
        })
        .collect();
    // The last one is what is known at the end.
    if let (Some(last), Some(now)) = (known.last_mut(), of(&left[left.len().saturating_sub(days * DAY)..])) {
        *last = now;
    }
    known
}
