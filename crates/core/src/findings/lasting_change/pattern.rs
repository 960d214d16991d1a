use super::points::Point;
use crate::findings::robust::{median, running_median, scaled_mad};
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// Days of history from which a daily pattern is looked for, and a weekly one.
const DAYS_FOR_DAILY: f64 = 3.0;
pub const DAYS_FOR_WEEKLY: f64 = 14.0;
/// Parts of a day that a weekly pattern tells apart.
const PARTS_OF_DAY: usize = 6;
const PARTS_OF_WEEK: usize = 7 * PARTS_OF_DAY;
/// A day has at least so many blocks, or its pattern cannot be told.
const LEAST_BLOCKS_A_DAY: usize = 4;
/// A pattern of which less than this share is more than noise is none.
const LEAST_SURE: f64 = 0.3;

/// What comes back each day and each week, on the log scale, to be taken off.
#[derive(Debug, Clone)]
pub struct Pattern {
    blocks_a_day: usize,
    days: f64,
    daily: Vec<f64>,
    weekly: Vec<f64>,
    kept_daily: f64,
    kept_weekly: f64,
}

impl Pattern {
    /// None yet, of a history of `blocks` blocks of which `blocks_a_day` make a day.
    pub fn none(blocks: usize, blocks_a_day: f64) -> Pattern {
        let a_day = blocks_a_day.round() as usize;
        Pattern {
            blocks_a_day: a_day,
            days: blocks as f64 / blocks_a_day,
            daily: vec![0.0; a_day.max(1)],
            weekly: vec![0.0; PARTS_OF_WEEK],
            kept_daily: 0.0,
            kept_weekly: 0.0,
        }
    }

    fn has_daily(&self) -> bool {
        self.days >= DAYS_FOR_DAILY && self.blocks_a_day >= LEAST_BLOCKS_A_DAY
    }

    fn has_weekly(&self) -> bool {
        self.days >= DAYS_FOR_WEEKLY && self.has_daily()
    }

    /// What the pattern adds at a block.
    pub fn at(&self, block: usize) -> f64 {
        self.daily[self.hour(block)] + self.weekly[self.part_of_week(block)]
    }

    fn hour(&self, block: usize) -> usize {
        block % self.daily.len()
    }

    fn part_of_week(&self, block: usize) -> usize {
        block * PARTS_OF_DAY / self.daily.len() % PARTS_OF_WEEK
    }

    /// Rough levels to begin with, which neither a day nor a weekend carries away: running medians over a day, and
    /// over a week once the day is known.
    fn rough_levels(&self, blocks: &[Point], days: usize) -> Vec<f64> {
        let without_day: Vec<f64> = blocks.iter().map(|block| block.value - self.daily[self.hour(block.at)]).collect();
        running_median(&without_day, self.blocks_a_day * days / 2)
    }

    /// Learns the pattern against levels, one for each block; against rough ones where there are none yet.
    ///
    /// The daily pattern first: the median over the days of each hour. Then the weekly one, of what is left: the
    /// median over the weeks of each part of a week. Each is drawn towards none by the share of it that is noise.
    pub fn learn(&mut self, blocks: &[Point], levels: Option<&[f64]>) {
        if self.has_daily() {
            let rough = levels.is_none().then(|| self.rough_levels(blocks, 1));
            let levels = levels.or(rough.as_deref()).unwrap_or_default();
            let mut hours = vec![Vec::new(); self.daily.len()];
            for (block, level) in blocks.iter().zip(levels) {
                hours[self.hour(block.at)].push(block.value - level - self.weekly[self.part_of_week(block.at)]);
            }
            (self.daily, self.kept_daily) = effects(&hours);
        }
        if self.has_weekly() {
            let rough = levels.is_none().then(|| self.rough_levels(blocks, 7));
            let levels = levels.or(rough.as_deref()).unwrap_or_default();
            let part = |block: &Point| block.at * PARTS_OF_DAY / self.daily.len();
            let rest: Vec<(usize, f64)> = blocks
                .iter()
                .zip(levels)
                .map(|(block, level)| (part(block), block.value - level - self.daily[self.hour(block.at)]))
                .collect();
            let mut parts = vec![Vec::new(); PARTS_OF_WEEK];
            for same in rest.chunk_by(|a, b| a.0 == b.0) {
                let values: Vec<f64> = same.iter().map(|(_, value)| *value).collect();
                parts[same[0].0 % PARTS_OF_WEEK].extend(median(&values));
            }
            (self.weekly, self.kept_weekly) = effects(&parts);
        }
    }

    /// By what the variance of what is left must be multiplied: a pattern learnt from few days takes noise with it.
    pub fn taken_along(&self) -> f64 {
        let of_daily = 1.0 - self.kept_daily / self.days;
        let of_weekly = 1.0 - self.kept_weekly / (self.days / 7.0);
        1.0 / (of_daily.max(0.5) * of_weekly.max(0.4))
    }
}

/// What was learnt of a series from a long history, told for any moment.
#[derive(Debug, Clone)]
pub struct KnownPattern {
    pattern: Pattern,
    start: Timestamp,
}

impl KnownPattern {
    /// That of a series that began at `start`; nothing where nothing comes back in it.
    pub fn of(pattern: Pattern, start: Timestamp) -> Option<KnownPattern> {
        (pattern.kept_daily > 0.0 || pattern.kept_weekly > 0.0).then_some(KnownPattern { pattern, start })
    }

    /// What it adds at a moment: straight from the middle of one block to the next.
    pub fn at(&self, at: Timestamp) -> f64 {
        let a_day = self.pattern.blocks_a_day;
        let block_seconds = SECONDS_PER_DAY / a_day as f64;
        let place = at.seconds_since(self.start) / block_seconds - 0.5;
        let before = place.floor();
        let block = |number: f64| self.pattern.at(number.rem_euclid(7.0 * a_day as f64) as usize);
        let share = place - before;
        block(before) * (1.0 - share) + block(before + 1.0) * share
    }
}

/// What each slot adds on average, and how much of it was kept: medians, centred, and drawn towards nothing by the
/// share of their spread that noise explains (James and Stein).
pub fn effects(slots: &[Vec<f64>]) -> (Vec<f64>, f64) {
    let none = (vec![0.0; slots.len()], 0.0);
    let medians: Vec<Option<f64>> = slots.iter().map(|values| median(values)).collect();
    let known: Vec<f64> = medians.iter().flatten().copied().collect();
    if known.len() * 2 < slots.len() {
        return none;
    }
    let count = known.len() as f64;
    let centre = known.iter().sum::<f64>() / count;
    let spread = known.iter().map(|value| (value - centre).powi(2)).sum::<f64>() / count;
    let deviations: Vec<f64> = slots
        .iter()
        .zip(&medians)
        .flat_map(|(values, m)| values.iter().map(|value| value - m.unwrap_or(0.0)))
        .collect();
    let repeats = deviations.len() as f64 / count;
    let variance = scaled_mad(&deviations).unwrap_or_default().powi(2) * repeats / (repeats - 1.0).max(0.5);
    // The variance of a median is π/2 times that of a mean.
    let filled = slots.iter().filter(|values| !values.is_empty());
    let noise = filled.map(|values| std::f64::consts::FRAC_PI_2 / values.len() as f64).sum::<f64>() / count * variance;
    let kept = if spread > 0.0 { 1.0 - noise / spread } else { 0.0 };
    if kept < LEAST_SURE {
        return none;
    }
    (medians.into_iter().map(|value| value.map_or(0.0, |value| kept * (value - centre))).collect(), kept)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::robust::SeededRng;

    const HOURS: usize = 21 * 24;

    fn learnt(value: impl Fn(usize) -> f64, spread: f64) -> Pattern {
        let mut rng = SeededRng::new(5);
        let blocks: Vec<Point> =
            (0..HOURS).map(|at| Point { at, value: value(at) + spread * rng.normal(), weight: 1.0 }).collect();
        let mut pattern = Pattern::none(HOURS, 24.0);
        pattern.learn(&blocks, None);
        pattern
    }

    #[test]
    fn day_and_weekend_are_learnt_and_a_step_is_not_taken_for_them() {
        let day = |at: usize| (at as f64 / 24.0 * std::f64::consts::TAU).sin() * 0.3;
        let weekend = |at: usize| if at / 24 % 7 >= 5 { -0.4 } else { 0.0 };
        let pattern = learnt(|at| day(at) + weekend(at) + if at < 300 { 0.0 } else { 1.0 }, 0.05);
        let difference = |a: usize, b: usize| pattern.at(a) - pattern.at(b);
        assert!((difference(6, 18) - 0.6).abs() < 0.15, "{}", difference(6, 18));
        // Saturday against Wednesday, at the same hour.
        assert!((difference(5 * 24 + 12, 2 * 24 + 12) + 0.4).abs() < 0.15, "{}", difference(132, 60));
    }

    #[test]
    fn of_noise_no_pattern_is_made() {
        let pattern = learnt(|_| 0.0, 0.2);
        let spread = ((0..HOURS).map(|at| pattern.at(at).powi(2)).sum::<f64>() / HOURS as f64).sqrt();
        assert!(spread < 0.08, "{spread}");
        assert!(pattern.taken_along() < 1.3);
    }

    #[test]
    fn a_history_of_hours_has_none() {
        let blocks: Vec<Point> = (0..30).map(|at| Point { at, value: at as f64, weight: 1.0 }).collect();
        let mut pattern = Pattern::none(30, 144.0);
        pattern.learn(&blocks, None);
        assert!((0..30).all(|at| pattern.at(at) == 0.0));
        assert_eq!(pattern.taken_along(), 1.0);
    }
}
