use std::ops::Range;

use super::noise::Noise;
use super::pattern::Pattern;
use super::points::Point;
use super::ramp::ramp;
use super::segments::{Sums, segments};
use crate::findings::robust::two_sided_p;

/// A cut must explain so many long-run variances of the noise, times the logarithm of the number of blocks.
const PENALTY: f64 = 1.5;
/// Pattern, levels and noise are learnt from each other so many times.
const ROUNDS: usize = 4;
/// A level that is left for less than this and found again was never gone: what lay between passed.
const LONGEST_PASSING_DAYS: f64 = 3.0;
/// What lasts for less than this, unless it is the newest, is no level.
const SHORTEST_DAYS: f64 = 1.0 / 3.0;
/// Of a short history, this share in its place.
const SHORTEST_SHARE: f64 = 1.0 / 16.0;
/// Neighbouring levels in one direction, with at most so many days on each between, may be a ramp.
const LONGEST_STAIR_DAYS: f64 = 2.2;
/// Chance of one step that is none among all places where one could be.
const FALSE_STEPS: f64 = 0.05;
/// Levels closer than so many of their errors may be the same.
const ALIKE_ERRORS: f64 = 2.5;

/// What a level must be at least.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Least {
    /// Blocks that the newest must be long.
    pub newest: usize,
    /// How far it must be from its neighbours, on the log scale.
    pub step: f64,
}

/// Blocks on one level; passing excursions are left out.
#[derive(Debug, Clone, PartialEq)]
pub struct Level {
    /// Positions in the list of blocks, in order.
    pub pieces: Vec<Range<usize>>,
}

impl Level {
    /// The first block.
    pub fn start(&self) -> usize {
        self.pieces[0].start
    }

    /// Behind the last block.
    pub fn end(&self) -> usize {
        self.pieces[self.pieces.len() - 1].end
    }

    /// Since when it goes on without a gap up to its end.
    pub fn last_run(&self) -> usize {
        let gap = self.pieces.windows(2).rposition(|pair| pair[0].end < pair[1].start);
        gap.map_or(self.start(), |before| self.pieces[before + 1].start)
    }

    /// How far it goes without a gap from its start.
    pub fn first_run(&self) -> usize {
        let gap = self.pieces.windows(2).position(|pair| pair[0].end < pair[1].start);
        gap.map_or(self.end(), |before| self.pieces[before].end)
    }

    /// What lies within it and is not of it.
    pub fn gaps(&self) -> impl Iterator<Item = Range<usize>> {
        self.pieces.windows(2).map(|pair| pair[0].end..pair[1].start).filter(|gap| gap.start < gap.end)
    }

    fn joined(&self, later: &Level) -> Level {
        Level { pieces: [self.pieces.as_slice(), &later.pieces].concat() }
    }
}

/// A series in blocks, taken apart: what comes back each day and week, levels, and noise.
pub struct Levels {
    /// The blocks, without the pattern.
    pub blocks: Vec<Point>,
    /// Sums over them.
    pub sums: Sums,
    /// What comes back.
    pub pattern: Pattern,
    /// How blocks scatter around their level.
    pub noise: Noise,
    /// Blocks that make a day.
    pub blocks_a_day: f64,
    /// The levels that are far enough apart and sure, in order of time.
    pub levels: Vec<Level>,
    /// What each must be.
    pub least: Least,
}

impl Levels {
    /// The levels of a series of blocks, out of `count` of which those without a value are absent.
    ///
    /// Round by round: the pattern is learnt against the levels of the round before, the noise from what is left of
    /// both, and levels anew with a penalty from its long-run variance. The first noise is too large where levels
    /// change, so that only great steps are seen at first; what they leave shows the others.
    pub fn of(raw: &[Point], count: usize, blocks_a_day: f64, least: Least) -> Levels {
        let mut pattern = Pattern::none(count, blocks_a_day);
        let mut blocks = raw.to_vec();
        let mut at_level: Option<Vec<f64>> = None;
        let mut stretches: Vec<Range<usize>> = Vec::new();
        let mut noise = Noise::of(&[]);
        for round in 0..ROUNDS {
            pattern.learn(raw, at_level.as_deref());
            for (block, raw) in blocks.iter_mut().zip(raw) {
                block.value = raw.value - pattern.at(raw.at);
            }
            let mut residuals = vec![f64::NAN; count];
            for (i, block) in blocks.iter().enumerate() {
                residuals[block.at] = block.value - at_level.as_ref().map_or(0.0, |levels| levels[i]);
            }
            let seen = Noise::of(&residuals);
            let effective = seen.effective(blocks.len() as f64).max(6.0);
            let of_levels = (1.0 - stretches.len().max(1) as f64 / effective).max(0.5);
            noise = seen.times(pattern.taken_along() / of_levels);
            let sums = Sums::new(&blocks);
            let found = segments(&sums, penalty(&noise, blocks.len()));
            let is_settled = round > 1 && found == stretches;
            stretches = found;
            if is_settled {
                break;
            }
            let level = |stretch: &Range<usize>| sums.level([stretch.clone()]).map_or(0.0, |(level, _)| level);
            at_level =
                Some(stretches.iter().flat_map(|stretch| std::iter::repeat_n(level(stretch), stretch.len())).collect());
        }
        let levels = stretches.into_iter().map(|stretch| Level { pieces: vec![stretch] }).collect();
        let mut found = Levels { sums: Sums::new(&blocks), blocks, pattern, noise, blocks_a_day, levels, least };
        found.join_ramps();
        found.join_alike();
        found
    }

    /// A level and what it weighs.
    pub fn level(&self, level: &Level) -> (f64, f64) {
        self.sums.level(level.pieces.iter().cloned()).unwrap_or_default()
    }

    /// Standard error of the step between two levels of these weights.
    pub fn error(&self, before: f64, after: f64) -> f64 {
        (self.noise.of_mean(before) + self.noise.of_mean(after)).sqrt()
    }

    /// What a cut must explain.
    pub fn penalty(&self) -> f64 {
        penalty(&self.noise, self.blocks.len())
    }

    fn days(&self, from: usize, to: usize) -> f64 {
        (self.blocks[to - 1].at + 1 - self.blocks[from].at) as f64 / self.blocks_a_day
    }

    /// Stairs that go one way, and that one ramp tells as well, are one change: what lies on them is no level.
    fn join_ramps(&mut self) {
        let mut first = 0;
        while first + 2 < self.levels.len() {
            let value = |at: usize| self.level(&self.levels[at]).0;
            let is_up = value(first + 1) > value(first);
            let mut last = first + 1;
            while last + 1 < self.levels.len()
                && (value(last + 1) > value(last)) == is_up
                && self.days(self.levels[last].start(), self.levels[last].end()) <= LONGEST_STAIR_DAYS
            {
                last += 1;
            }
            let tells_as_well = |last: &usize| {
                let stairs = &self.levels[first..=*last];
                ramp(self, &stairs[0], &stairs[stairs.len() - 1]).is_some_and(|ramp| {
                    let scatter: f64 = stairs
                        .iter()
                        .map(|stair| {
                            let part = stair.start().max(ramp.window.start)..stair.end().min(ramp.window.end);
                            if part.is_empty() { 0.0 } else { self.sums.distance(part, self.level(stair).0) }
                        })
                        .sum();
                    // A ramp has two places, and stairs one for each step.
                    ramp.scatter + 2.0 * self.penalty() <= scatter + (stairs.len() as f64 - 0.5) * self.penalty()
                })
            };
            if let Some(last) = (first + 2..=last).rev().find(tells_as_well) {
                self.levels.drain(first + 1..last);
            }
            first += 1;
        }
    }

    /// Takes levels out that are too short, and joins those that are left and found again, that are not far enough
    /// apart, or whose step is not sure; the clearest case first, until none is left.
    fn join_alike(&mut self) {
        let count = self.blocks.len() as f64;
        let shortest = (self.blocks_a_day * SHORTEST_DAYS).min(count * SHORTEST_SHARE).max(1.0);
        loop {
            let length = |at: usize| self.levels[at].end() - self.levels[at].start();
            let newest = self.levels.len().saturating_sub(1);
            let is_short = |at: &usize| {
                if *at == newest { length(*at) < self.least.newest } else { (length(*at) as f64) < shortest }
            };
            if newest == 0 {
                return;
            } else if let Some(at) = (0..=newest).filter(is_short).min_by_key(|at| length(*at)) {
                // The newest may still be of the level before it, or this be as new as itself.
                let before = at.saturating_sub(1);
                let is_new = |at: usize| length(at) < self.least.newest && self.is_nearer_to_next(at);
                if at == newest && (self.is_alike(before, at) || is_new(before)) {
                    self.join(before, at);
                } else {
                    self.levels.remove(at);
                }
            } else if let Some((first, last)) = self.found_again() {
                self.join(first, last);
            } else if let Some(at) = self.least_sure() {
                self.join(at, at + 1);
            } else {
                return;
            }
        }
    }

    /// Makes one of two levels; what lies between is left out.
    fn join(&mut self, first: usize, last: usize) {
        let joined = self.levels[first].joined(&self.levels[last]);
        self.levels.splice(first..=last, [joined]);
    }

    /// Whether a level is nearer to the one behind it than to the one before it.
    fn is_nearer_to_next(&self, at: usize) -> bool {
        let value = |at: usize| self.level(&self.levels[at]).0;
        at > 0 && (value(at) - value(at + 1)).abs() < (value(at) - value(at - 1)).abs()
    }

    /// Whether two levels are close, or may be the same.
    fn is_alike(&self, first: usize, last: usize) -> bool {
        let ((before, before_weight), (after, after_weight)) =
            (self.level(&self.levels[first]), self.level(&self.levels[last]));
        let step = (after - before).abs();
        step < self.least.step || step < ALIKE_ERRORS * self.error(before_weight, after_weight)
    }

    /// Two levels that are alike and soon after each other, those with the least between them.
    fn found_again(&self) -> Option<(usize, usize)> {
        let mut found: Option<(usize, usize, usize)> = None;
        for first in 0..self.levels.len() {
            for last in first + 2..self.levels.len() {
                let (from, to) = (self.levels[first].end(), self.levels[last].start());
                let days = (self.blocks[to].at - self.blocks[from - 1].at) as f64 / self.blocks_a_day;
                if days > LONGEST_PASSING_DAYS {
                    break;
                }
                let is_known = |at: usize| self.level(&self.levels[at]).1 >= 1.0;
                let is_nearer = found.is_none_or(|one| to - from < one.2);
                if is_nearer && is_known(first) && is_known(last) && self.is_alike(first, last) {
                    found = Some((first, last, to - from));
                }
            }
        }
        found.map(|(first, last, _)| (first, last))
    }

    /// The step that is smallest, where one is too small; else the one that is least sure, where one is not.
    fn least_sure(&self) -> Option<usize> {
        let places = self.noise.effective(self.blocks.len() as f64).max(4.0);
        let judged = (0..self.levels.len() - 1).filter_map(|at| {
            let ((before, before_weight), (after, after_weight)) =
                (self.level(&self.levels[at]), self.level(&self.levels[at + 1]));
            let step = (after - before).abs();
            let errors = step / self.error(before_weight, after_weight);
            let is_small = step < self.least.step;
            let is_unsure = two_sided_p(errors) * places > FALSE_STEPS;
            (is_small || is_unsure).then_some((at, if is_small { step - 1e3 } else { errors }))
        });
        judged.min_by(|a, b| a.1.total_cmp(&b.1)).map(|(at, _)| at)
    }
}

fn penalty(noise: &Noise, count: usize) -> f64 {
    PENALTY * noise.long_run() * (count.max(2) as f64).ln()
}
