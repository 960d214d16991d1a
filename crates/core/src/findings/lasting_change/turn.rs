use std::ops::Range;

use super::levels::{Least, Level, Levels};
use super::onset::{Onset, onset};
use super::pattern::Pattern;
use super::points::{Point, blocks, tame};
use super::ramp::{Ramp, ramp};
use super::{Interval, LEAST_BUCKETS};
use crate::findings::robust::{student_975, two_sided_p};
use crate::time::SECONDS_PER_DAY;

/// Buckets are looked at in blocks of this length at first.
const BLOCK_SECONDS: f64 = 3600.0;
/// A history is parted into at least so many blocks.
const LEAST_BLOCKS: usize = 96;
/// The onset is searched so far from a cut: so many long-run variances over the squared step, and so many blocks more.
const ONSET_REACH: f64 = 12.0;
const LEAST_ONSET_REACH: usize = 4;
/// A ramp must fit better than a step by so many long-run variances, and so many variances of white noise.
const RAMP_GAIN: (f64, f64) = (3.0, 4.0);
/// Long-run variances are known from about a third of the values that are worth one each.
const FREEDOM_SHARE: f64 = 1.0 / 3.0;
const LEAST_FREEDOM: f64 = 3.0;
/// Intervals are this much wider: the levels are the best of many that could have been told apart.
const WIDER: f64 = 1.15;
/// Errors that a passing excursion must stand out by.
const PASSING_ERRORS: f64 = 4.0;

/// Where a series leaves a level: for another that lasts, or for a while.
#[derive(Debug, Clone, PartialEq)]
pub struct Turn {
    /// Number of the first bucket that has left it.
    pub onset: Onset,
    /// Number of the first bucket that is back, where it passed; nothing where it lasts.
    pub until: Option<usize>,
    /// Step on the log scale.
    pub step: f64,
    /// Half the width of the step's 95 % interval.
    pub within: f64,
    /// Chance that noise alone shows a step this sure at one place.
    pub chance: f64,
}

impl Turn {
    /// Whether the level was back within days.
    pub fn passed(&self) -> bool {
        self.until.is_some()
    }

    /// New level ÷ old.
    pub fn ratio(&self) -> Interval {
        let Turn { step, within, .. } = self;
        Interval { value: step.exp(), low: (step - within).exp(), high: (step + within).exp() }
    }
}

/// A series taken apart.
pub struct Taken {
    /// Where it leaves its levels, in order of time.
    pub turns: Vec<Turn>,
    /// What comes back in it each day and week.
    pub pattern: Pattern,
}

/// Where a series of points on a log scale, out of `count` buckets, leaves its levels by at least `least_step`; nothing of
/// one that is too short to be judged.
pub fn turns(mut points: Vec<Point>, count: usize, bucket_seconds: f64, least_step: f64) -> Option<Taken> {
    if points.len() < 2 * LEAST_BUCKETS {
        return None;
    }
    tame(&mut points);
    // Of what runs rarely, each bucket with a value is a block.
    let longest = if points.len() < LEAST_BLOCKS { 1 } else { (BLOCK_SECONDS / bucket_seconds) as usize };
    let size = longest.min(count / LEAST_BLOCKS).max(1);
    let blocks_a_day = SECONDS_PER_DAY / (bucket_seconds * size as f64);
    let least = Least { newest: LEAST_BUCKETS.div_ceil(size), step: least_step };
    let levels = Levels::of(&blocks(&points, size), count.div_ceil(size), blocks_a_day, least);
    for point in &mut points {
        point.value -= levels.pattern.at(point.at / size);
    }
    let series = Series { levels: &levels, points: &points, size };
    let lasting = levels.levels.windows(2).filter_map(|pair| series.lasting(&pair[0], &pair[1]));
    let passing = levels.levels.iter().flat_map(|level| level.gaps().filter_map(|gap| series.passing(level, gap)));
    let mut turns: Vec<Turn> = lasting.chain(passing).collect();
    turns.sort_by_key(|turn| turn.onset.at);
    Some(Taken { turns, pattern: levels.pattern })
}

/// A series in blocks and in buckets, both without the pattern.
struct Series<'a> {
    levels: &'a Levels,
    points: &'a [Point],
    size: usize,
}

impl Series<'_> {
    /// First bucket of a block.
    fn bucket(&self, block: usize) -> usize {
        let blocks = &self.levels.blocks;
        blocks.get(block).map_or_else(|| (blocks[blocks.len() - 1].at + 1) * self.size, |block| block.at * self.size)
    }

    /// The step between two levels and weights, and how sure it is.
    fn turn(&self, onset: Onset, before: (f64, f64), after: (f64, f64)) -> Turn {
        let noise = &self.levels.noise;
        let (step, error) = (after.0 - before.0, self.levels.error(before.1, after.1));
        let freedom = (noise.effective(before.1 + after.1) * FREEDOM_SHARE - 2.0).max(LEAST_FREEDOM);
        Turn {
            onset,
            until: None,
            step,
            within: WIDER * student_975(freedom) * error,
            chance: two_sided_p(step / error),
        }
    }

    /// The way from one level to the next that lasts; nothing yet where too few buckets are behind its onset.
    fn lasting(&self, before: &Level, after: &Level) -> Option<Turn> {
        let levels = self.levels;
        let fitted = ramp(levels, before, after);
        let (long_run, white) = (levels.noise.long_run(), levels.noise.white);
        let outside = |level: &Level, bounds: Range<usize>| {
            let within = level.pieces.iter().map(|piece| piece.start.max(bounds.start)..piece.end.min(bounds.end));
            levels.sums.level(within).unwrap_or_else(|| levels.level(level))
        };
        let gain = |ramp: &Ramp| ramp.scatter_of_step - ramp.scatter;
        if let Some(ramp) = fitted.as_ref().filter(|ramp| gain(ramp) > RAMP_GAIN.0 * long_run + RAMP_GAIN.1 * white) {
            let onset = Onset {
                at: self.bucket(ramp.start),
                // Its ends lie somewhere in their blocks.
                earliest: self.bucket(ramp.earliest.saturating_sub(1)),
                latest: self.bucket(ramp.latest + 2),
            };
            return Some(self.turn(
                onset,
                outside(before, 0..ramp.start),
                outside(after, ramp.end..levels.blocks.len()),
            ));
        }
        let (old, new) = (levels.level(before), levels.level(after));
        let step = new.0 - old.0;
        let reach = ((ONSET_REACH * long_run / (step * step)) as usize + LEAST_ONSET_REACH) * self.size;
        let last_piece = before.pieces[before.pieces.len() - 1].end;
        let earliest = self.bucket((before.last_run() + last_piece) / 2);
        let latest = self.bucket((after.pieces[0].start + after.first_run()) / 2) + self.size;
        // Of what runs rarely, the last value before lies further back than that.
        let reached = self.bucket(before.end()).saturating_sub(reach).min(self.bucket(before.end() - 1));
        let window = reached.max(earliest)..(self.bucket(after.start()) + reach).min(latest);
        let mut onset = onset(self.points, window, old.0, new.0);
        // Where a ramp tells it as well, it may have begun with that.
        if let Some(ramp) = fitted.filter(|ramp| gain(ramp) > 0.0) {
            onset.earliest = onset.earliest.min(self.bucket(ramp.earliest));
        }
        let behind = self.points.len() - self.points.partition_point(|point| point.at < onset.at);
        // The block that the onset falls into is on neither level.
        let first = levels.blocks.partition_point(|block| block.at * self.size < onset.at);
        let last = levels.blocks.partition_point(|block| (block.at + 1) * self.size <= onset.at);
        let (old, new) = (outside(before, 0..last), outside(after, first..levels.blocks.len()));
        (behind >= LEAST_BUCKETS).then(|| self.turn(onset, old, new))
    }

    /// What left a level for a while, where it stands out and lasts long enough to be told.
    fn passing(&self, level: &Level, gap: Range<usize>) -> Option<Turn> {
        let levels = self.levels;
        let (normal, passing) = (levels.level(level), levels.sums.level([gap.clone()])?);
        let onset = Onset {
            at: self.bucket(gap.start),
            earliest: self.bucket(gap.start).saturating_sub(self.size - 1),
            latest: self.bucket(gap.start) + self.size - 1,
        };
        let until = self.bucket(gap.end);
        let turn = Turn { until: Some(until), ..self.turn(onset, normal, passing) };
        let is_clear = turn.step.abs() > PASSING_ERRORS * levels.error(normal.1, passing.1)
            && turn.step.abs() >= levels.least.step
            && until - onset.at >= LEAST_BUCKETS;
        is_clear.then_some(turn)
    }
}
