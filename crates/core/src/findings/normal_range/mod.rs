//! Rule 3: the usual range of a metric for the hour of the week.
//!
//! Values are taken on a log scale where they are skewed ([`scale`]). What comes back each day and week is told apart from
//! the level ([`season`]): with neighbours of the hour where history is short, then by hour of the day, then not at all. A
//! level is that of the last days, so that a range follows slow growth, and what lasts for days is usual by then. The
//! spread is that of what could not have been known a day before, by hour of the day. How many spreads wide the range is
//! follows from the metric's own past ([`limit`]). Times outside teach nothing until they lasted. Whether the newest
//! values are outside is told by several of them ([`outside`]); which figures of a server that
//! matters of, and from where on, is in [`unusual`].
//!
//! Times are those of the clock by which the hour of the week counts.

mod grid;
mod limit;
mod outside;
mod reach;
mod scale;
mod season;
mod unusual;

use serde::{Deserialize, Serialize};

use crate::findings::robust::quantile_of;
use crate::time::{SECONDS_PER_DAY, Timestamp};
use grid::{Grid, bucket_of_week};
use reach::Reach;
use season::{DAY, Season, levels_known};

pub use outside::{Outside, Side};
pub use unusual::{OF_RANGES, Unusual};

/// Days from which on there is a range.
pub const LEAST_DAYS: f64 = 1.0;
/// Days that the level is that of.
const DAYS_OF_LEVEL: usize = 3;
/// What lasts so long is usual by then, in days.
const USUAL_AFTER_DAYS: f64 = 3.0;
/// Of the spread of an hour of the day, so many values count as much as those of the whole day.
const SHARED_WITH_DAY: f64 = 60.0;
/// What is learnt from a day is unsure: its range is wider by this, from two days by half of it.
const UNSURE: f64 = 1.0;
/// Of absolute deviations, so many are told by: the largest may be of times outside.
const TOLD_BY: f64 = 0.9;
/// Their mean times this is the standard deviation of normal values: the mean of |z| below 1.645 is 0.657.
const NORMAL: f64 = 1.0 / 0.657;

/// The usual range of a metric.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct NormalRange {
    /// The scale on which it is told.
    scale: scale::Scale,
    /// The middle of the range by hour of the week, on the scale.
    middle: Vec<f32>,
    /// What buckets within hours add to it.
    within_hours: Vec<f32>,
    /// One spread by hour of the day, on the scale.
    spread: Vec<f32>,
    /// Spreads from the middle to either end.
    limit: f32,
    /// How far either end may lie from the middle, while the day's own course is not known.
    #[serde(default)]
    reach: Option<Reach>,
    /// Buckets of an hour.
    buckets_an_hour: usize,
    /// Days that it was learnt from.
    days: f32,
}

/// What is usual at a moment, in the unit of the metric.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Usual {
    /// Below this is unusual.
    pub low: f64,
    /// The middle.
    pub middle: f64,
    /// Above this is unusual.
    pub high: f64,
}

impl NormalRange {
    /// Learns the range from values in buckets of so many seconds, the first of which begins at `start`; those that were
    /// not seen are not a number. Nothing where less than a day was seen. n log n in the values.
    pub fn learn(values: &[f64], start: Timestamp, bucket_seconds: f64) -> Option<NormalRange> {
        let scale = scale::Scale::of(values);
        let scaled = values.iter().map(|value| scale.up(*value)).collect();
        let grid = Grid::of(scaled, start, bucket_seconds)?;
        let least = LEAST_DAYS * SECONDS_PER_DAY / bucket_seconds;
        if (values.iter().filter(|value| value.is_finite()).count() as f64) < least {
            return None;
        }
        let all = Learnt::of(&grid, &vec![false; values.len()], scale);
        let unusual = all.unusual(&grid);
        let learnt = if unusual.contains(&true) { Learnt::of(&grid, &unusual, scale) } else { all };
        Some(learnt.range(&grid, &unusual, scale))
    }

    /// What is usual at a moment.
    pub fn at(&self, at: Timestamp) -> Usual {
        let (middle, [below, above]) = self.scaled(at);
        Usual {
            low: self.scale.down(middle - self.limit() * below),
            middle: self.scale.down(middle),
            high: self.scale.down(middle + self.limit() * above),
        }
    }

    /// How many spreads a value lies above the middle; below it where that is negative.
    pub fn deviation(&self, at: Timestamp, value: f64) -> f64 {
        let (middle, [below, above]) = self.scaled(at);
        let far = self.scale.up(value) - middle;
        far / if far < 0.0 { below } else { above }
    }

    /// Spreads from the middle to either end.
    pub fn limit(&self) -> f64 {
        f64::from(self.limit)
    }

    /// Days that it was learnt from.
    pub fn days(&self) -> f64 {
        f64::from(self.days)
    }

    /// The middle of a moment, and its spreads below and above, on the scale.
    fn scaled(&self, at: Timestamp) -> (f64, [f64; 2]) {
        let bucket = bucket_of_week(at, self.buckets_an_hour);
        let hour = bucket / self.buckets_an_hour;
        let within = self.within_hours[bucket % self.within_hours.len()];
        let middle = f64::from(self.middle[hour % self.middle.len()] + within);
        let spread = f64::from(self.spread[hour % DAY]);
        let spreads = self.reach.map_or([spread; 2], |reach| reach.ends().map(|end| spread.min(end / self.limit())));
        (middle, spreads)
    }
}

/// What is learnt of a metric.
struct Learnt {
    season: Season,
    /// Levels as they were known at the beginning of each day, and at the end.
    levels: Vec<f64>,
    spread: Vec<f64>,
    limit: f64,
    deviations: Vec<f64>,
}

impl Learnt {
    /// Of everything that is not left out.
    fn of(grid: &Grid, left_out: &[bool], scale: scale::Scale) -> Learnt {
        let season = Season::learn(grid, left_out);
        let levels = levels_known(&season, grid, left_out, DAYS_OF_LEVEL);
        let a_day = DAY * grid.buckets_an_hour;
        let offset = grid.first_bucket - grid.first_hour * grid.buckets_an_hour;
        let residual = |(at, value): (usize, &f64)| {
            // The first day has nothing before it: it is held against its own level.
            let level = levels[((at + offset) / a_day).max(1).min(levels.len() - 1)];
            value - level - season.of_bucket(grid.first_bucket + at, grid.buckets_an_hour)
        };
        let residuals: Vec<f64> = grid.values.iter().enumerate().map(residual).collect();
        let spread = spreads(grid, &residuals, left_out, scale.least_spread());
        let hour = |at: usize| (grid.first_bucket + at) / grid.buckets_an_hour % DAY;
        let deviations: Vec<f64> =
            residuals.iter().enumerate().map(|(at, residual)| residual / spread[hour(at)]).collect();
        let limit = limit::limit(&deviations);
        Learnt { season, levels, spread, limit, deviations }
    }

    /// Which buckets are of times outside that did not last so long that they are usual by now.
    fn unusual(&self, grid: &Grid) -> Vec<bool> {
        let mut outside = Outside::default();
        let sides: Vec<Option<Side>> = self
            .deviations
            .iter()
            .map(|deviation| {
                outside.go_on(*deviation, self.limit);
                outside.side()
            })
            .collect();
        let lasting = USUAL_AFTER_DAYS * (DAY * grid.buckets_an_hour) as f64;
        let mut unusual = vec![false; sides.len()];
        let mut from = 0;
        for same in sides.chunk_by(|a, b| a.is_some() == b.is_some()) {
            let until = from + same.len();
            if same[0].is_some() && (same.len() as f64) < lasting {
                // The first of the values that told it came before.
                unusual[from.saturating_sub(outside::LOOKED_AT - 1)..until].fill(true);
            }
            from = until;
        }
        unusual
    }

    fn range(&self, grid: &Grid, left_out: &[bool], scale: scale::Scale) -> NormalRange {
        let level = self.levels.last().copied().unwrap_or_default();
        let limit = self.limit * (1.0 + UNSURE / grid.days().max(1.0));
        NormalRange {
            scale,
            middle: (0..season::WEEK).map(|hour| (level + self.season.of_hour(hour)) as f32).collect(),
            within_hours: self.season.within_hours.iter().map(|within| *within as f32).collect(),
            spread: self.spread.iter().map(|spread| *spread as f32).collect(),
            reach: (!self.season.is_known()).then(|| Reach::of(grid, left_out, level, scale.least_spread())),
            limit: limit as f32,
            buckets_an_hour: grid.buckets_an_hour,
            days: grid.days() as f32,
        }
    }
}

/// Spreads by hour of the day, with the hours beside it, drawn towards that of the whole day where few values tell.
fn spreads(grid: &Grid, residuals: &[f64], left_out: &[bool], least: f64) -> Vec<f64> {
    let mut by_hour = vec![Vec::new(); DAY];
    for (at, (residual, left_out)) in residuals.iter().zip(left_out).enumerate() {
        if residual.is_finite() && !left_out {
            by_hour[(grid.first_bucket + at) / grid.buckets_an_hour % DAY].push(residual.abs());
        }
    }
    let mut all: Vec<f64> = by_hour.iter().flatten().copied().collect();
    let of_all = spread(&mut all);
    (0..DAY)
        .map(|hour| {
            let mut around: Vec<f64> =
                [DAY - 1, 0, 1].iter().flat_map(|beside| &by_hour[(hour + beside) % DAY]).copied().collect();
            let share = around.len() as f64 / (around.len() as f64 + SHARED_WITH_DAY);
            let own = spread(&mut around);
            (share * own * own + (1.0 - share) * of_all * of_all).sqrt().max(least)
        })
        .collect()
}

/// The spread that absolute deviations tell of, which are reordered. Their mean and not their median, so that it is right
/// of few that are counted, too.
fn spread(deviations: &mut [f64]) -> f64 {
    let told_by = (deviations.len() as f64 * TOLD_BY).ceil() as usize;
    if quantile_of(deviations, TOLD_BY).is_none() {
        return 0.0;
    }
    deviations[..told_by].iter().sum::<f64>() / told_by as f64 * NORMAL
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::findings::robust::SeededRng;

    const BUCKET: f64 = 600.0;
    /// A Monday at midnight.
    const MONDAY: Timestamp = Timestamp(1_795_996_800_000_000);

    fn days(days: usize, value: impl Fn(usize) -> f64, spread: f64) -> Vec<f64> {
        let mut rng = SeededRng::new(11);
        (0..days * 144).map(|at| value(at) + spread * rng.normal()).collect()
    }

    fn at(days: f64) -> Timestamp {
        MONDAY.plus_seconds(days * SECONDS_PER_DAY)
    }

    #[test]
    fn the_hour_of_the_week_has_its_own_range() {
        let office = |at: usize| {
            let (day, hour) = (at / 144 % 7, at / 6 % 24);
            if day < 5 && (8..17).contains(&hour) { 60.0 } else { 10.0 }
        };
        let range = NormalRange::learn(&days(28, office, 1.0), MONDAY, BUCKET).unwrap();
        let usual = |days: f64| range.at(at(28.0 + days));
        let tuesday_noon = usual(1.5);
        assert!(tuesday_noon.low > 35.0 && (60.0..95.0).contains(&tuesday_noon.high), "{tuesday_noon:?}");
        assert!(usual(5.5).high < 30.0, "Saturday at noon: {:?}", usual(5.5));
        assert!(usual(1.1).high < 30.0, "at night: {:?}", usual(1.1));
        assert!(range.deviation(at(33.5), 60.0) > 10.0);
    }

    #[test]
    fn a_day_is_needed_and_a_range_follows_what_lasts() {
        assert_eq!(NormalRange::learn(&days(0, |_| 5.0, 1.0), MONDAY, BUCKET), None);
        let first = NormalRange::learn(&days(1, |_| 50.0, 1.0), MONDAY, BUCKET).unwrap();
        assert!((first.at(at(1.0)).middle - 50.0).abs() < 1.0 && first.days() == 1.0);
        let same = NormalRange::learn(&days(2, |_| 50.0, 0.0), MONDAY, BUCKET).unwrap();
        assert_eq!(same.deviation(at(2.0), 50.0), 0.0);
        assert!(same.deviation(at(2.0), 70.0) > same.limit());
        let stepped = |at: usize| if at < 20 * 144 { 50.0 } else { 80.0 };
        let fresh = NormalRange::learn(&days(21, stepped, 1.0), MONDAY, BUCKET).unwrap();
        assert!(fresh.at(at(21.0)).high < 70.0, "a day is no level yet: {:?}", fresh.at(at(21.0)));
        let settled = NormalRange::learn(&days(26, stepped, 1.0), MONDAY, BUCKET).unwrap();
        assert!((settled.at(at(26.0)).middle - 80.0).abs() < 2.0, "{:?}", settled.at(at(26.0)));
    }

    #[test]
    fn in_its_first_days_a_range_ends_near_what_was_seen() {
        let office = |at: usize| if (8..17).contains(&(at / 6 % 24)) { 60.0 } else { 6.0 };
        let mut rng = SeededRng::new(3);
        for buckets in (144..4 * 144).step_by(25) {
            let values: Vec<f64> = (0..buckets).map(|at| office(at) * (0.1 * rng.normal()).exp()).collect();
            let range = NormalRange::learn(&values, MONDAY, BUCKET).unwrap();
            let largest = values.iter().copied().fold(0.0, f64::max);
            for hour in 0..24 {
                let high = range.at(at(f64::from(hour) / 24.0)).high;
                assert!(high < 2.5 * largest, "{buckets} buckets, at {hour}: {high}, and {largest} was seen");
                assert!(!(8..17).contains(&hour) || high > 60.0, "{buckets} buckets, at {hour}: {high}");
            }
        }
    }

    #[test]
    fn times_outside_do_not_teach() {
        let trouble = |at: usize| if (25 * 144..25 * 144 + 60).contains(&at) { 500.0 } else { 50.0 };
        let with = NormalRange::learn(&days(28, trouble, 1.0), MONDAY, BUCKET).unwrap();
        let without = NormalRange::learn(&days(28, |_| 50.0, 1.0), MONDAY, BUCKET).unwrap();
        let (with, without) = (with.at(at(28.1)), without.at(at(28.1)));
        assert!((with.high - without.high).abs() < 1.0, "{with:?} {without:?}");
    }

    #[test]
    fn a_range_is_kept_and_read_back_whatever_it_was_learnt_from() {
        let at_night = |at: usize| if (6..27).contains(&(at % 144)) { 1.0 } else { 0.0 };
        let scenes: [&dyn Fn(usize) -> f64; 11] = [
            &|at| if at % 290 < 4 { 0.3 } else { 0.0 },
            // What is next to never there, and comes back.
            &|at| if at % 97 == 0 { 0.01 } else { 0.0 },
            &|at| if at % 97 == 0 { at as f64 } else { 0.0 },
            &|at| if at == 60 { f64::INFINITY } else { 0.0 },
            &|at| if at % 7 == 0 { f64::INFINITY } else { at_night(at) },
            &|_| 0.0,
            &|_| 7.0,
            &at_night,
            &|at| at_night(at) * (at as f64).sin().abs(),
            &|at| if at == 700 { 1e12 } else { 0.0 },
            &|at| if at % 1009 == 0 { 0.01 } else { 0.0 },
        ];
        for (number, scene) in scenes.iter().enumerate() {
            for days in [1, 2, 3, 5, 15, 21] {
                let values: Vec<f64> = (0..days * 144).map(scene).collect();
                // Less than a day of numbers teaches nothing.
                let Some(range) = NormalRange::learn(&values, MONDAY, BUCKET) else { continue };
                let kept = serde_json::to_string(&range).unwrap();
                let read: Result<NormalRange, _> = serde_json::from_str(&kept);
                let same = read.is_ok_and(|read| read.limit() == range.limit() && read.spread == range.spread);
                assert!(same, "scene {number} of {days} days: {kept}");
            }
        }
    }

    proptest! {
        #[test]
        fn a_range_holds_its_middle_and_is_finite(
            values in prop::collection::vec(prop_oneof![Just(f64::NAN), 0.0f64..1e9, Just(0.0)], 144..1500), start in 0i64..1_000_000,
        ) {
            let start = Timestamp(0).plus_seconds(start as f64 * BUCKET);
            if let Some(range) = NormalRange::learn(&values, start, BUCKET) {
                for hour in 0..168 {
                    let usual = range.at(start.plus_seconds(f64::from(hour) * 3600.0));
                    prop_assert!(usual.low <= usual.middle && usual.middle <= usual.high, "{usual:?}");
                    prop_assert!(usual.high.is_finite() && usual.low.is_finite(), "{usual:?}");
                }
            }
        }
    }
}
