use std::collections::BTreeSet;

use super::measured::{Measured, Subject};
use super::observed::{Observed, Value, typical};
use super::pattern::{DAYS_FOR_WEEKLY, Pattern};
use super::points::Point;
use super::turn::{Taken, Turn, turns};
use super::{Bucket, LEAST_BEFORE, LastingChange, Side, Thresholds};
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// Smallest step where it is not known yet what is usual.
const LEAST_UNSURE: f64 = 2.0;
/// A server of which so few buckets are known is hardly known.
const YOUNG_BUCKETS: usize = 72;

/// Rows and pages of a family matter like so much of its time.
const OF_LARGE: f64 = 0.1;

/// A server that is looked at.
#[derive(Clone, Copy)]
pub struct Looked<'a> {
    /// What it did.
    pub observed: &'a Observed,
    /// How large a change must be.
    pub thresholds: Thresholds,
    /// Time of all its statements per second.
    pub instance_seconds_per_second: f64,
    /// Number of its buckets.
    pub count: usize,
}

/// The changes of a series, and what comes back in it each day and week.
pub struct Found {
    /// The changes, in order of time.
    pub changes: Vec<LastingChange>,
    /// What comes back, where the series is long enough to tell.
    pub pattern: Option<Pattern>,
}

impl Looked<'_> {
    /// The changes of a series of values. `beside` is what is known to move it in each bucket, on the log scale: the
    /// whole server, and what comes back each day and week.
    pub fn changes(
        &self,
        subject: &Subject,
        buckets: &[Bucket],
        values: &[Value],
        beside: impl Fn(usize) -> f64,
    ) -> Found {
        let points = values.iter().filter_map(Value::point);
        let points = points.map(|point| Point { value: point.value - beside(point.at), ..point }).collect();
        let Some(Taken { turns, pattern }) =
            turns(points, self.count, self.observed.bucket_seconds, self.least_ratio(subject).ln())
        else {
            return Found { changes: Vec::new(), pattern: None };
        };
        let first = values.first().map_or(0, |value| value.at);
        // That something was called more often for some hours is daily work; that it took longer is not.
        let is_told =
            |turn: &Turn| turn.onset.at >= first + LEAST_BEFORE && (!turn.passed() || subject.is_time_per_call());
        let told: Vec<Turn> = turns.into_iter().filter(is_told).collect();
        Found { changes: self.described(subject, buckets, values, &told), pattern: Some(pattern) }
    }

    /// Smallest step of a series that counts. A server that is hardly known yet must double or halve to be told, and so
    /// must what goes with the working week where two weeks of it were not seen.
    fn least_ratio(&self, subject: &Subject) -> f64 {
        let days = self.count as f64 * self.observed.bucket_seconds / SECONDS_PER_DAY;
        let knows_the_week = days >= DAYS_FOR_WEEKLY;
        let is_young = self.count < YOUNG_BUCKETS;
        let is_unsure = is_young || (subject.follows_the_week() && !knows_the_week);
        self.thresholds.least_ratio.max(if is_unsure { LEAST_UNSURE } else { 1.0 })
    }

    /// The turns that matter, with when they began, whether they passed, and what was before and since.
    fn described(&self, subject: &Subject, buckets: &[Bucket], values: &[Value], turns: &[Turn]) -> Vec<LastingChange> {
        let time = |number: usize| self.observed.start.plus_seconds(number as f64 * self.observed.bucket_seconds);
        let mut changes: Vec<LastingChange> = Vec::new();
        for (position, turn) in turns.iter().enumerate() {
            let next =
                turns[position + 1..].iter().find(|next| !next.passed() || turn.passed()).map(|next| next.onset.at);
            let from = turns[..position].iter().rfind(|before| !before.passed()).map_or(0, |before| before.onset.at);
            let until = if turn.passed() { turn.until } else { next };
            let stretch = Stretch { from: time(from), onset: time(turn.onset.at), until: until.map(time) };
            let Some((before, after)) = self.sides(&stretch, buckets, values) else { continue };
            let (from_time_per_call, from_calls) = parts(subject, turn, &before, &after);
            if !self.matters(subject.measured, (from_time_per_call, from_calls), &before, &after) {
                continue;
            }
            changes.push(LastingChange {
                onset: stretch.onset,
                onset_between: Some((time(turn.onset.earliest), time(turn.onset.latest))),
                until: stretch.until,
                passed: turn.passed(),
                ratio: turn.ratio(),
                before: before.side,
                after: after.side,
                from_time_per_call,
                from_calls,
                chance: turn.chance,
            });
        }
        changes
    }

    /// Whether a change with these parts is large enough for the instance: of what runs on some days only, on these.
    fn matters(&self, measured: Measured, parts: (f64, f64), before: &SideWithMean, after: &SideWithMean) -> bool {
        let matter = match measured {
            Measured::TimePerCall => parts.0.abs() / before.days_run.max(after.days_run),
            Measured::Waits | Measured::Load => parts.0.abs(),
            Measured::Calls => parts.1.abs(),
            // They cost nothing by themselves: where a call does not take longer for them, they matter in large families.
            Measured::RowsPerCall | Measured::PagesPerCall => {
                parts.0.abs().max(OF_LARGE * before.spent().max(after.spent()))
            }
            Measured::Metric => return true,
        };
        matter >= self.thresholds.least_share * self.instance_seconds_per_second
    }

    /// Figures on either side of the onset; nothing where one has none.
    fn sides(&self, stretch: &Stretch, buckets: &[Bucket], values: &[Value]) -> Option<(SideWithMean, SideWithMean)> {
        let number = |at: Timestamp| self.observed.number(at);
        let until = stretch.until.unwrap_or(Timestamp(i64::MAX));
        let side = |from: Timestamp, to: Timestamp| {
            let places = number(from)..number(to);
            let values: Vec<&Value> = values.iter().filter(|value| places.contains(&value.at)).collect();
            side(buckets.iter().filter(|bucket| bucket.at >= from && bucket.at < to), typical(&values)?)
        };
        Some((side(stretch.from, stretch.onset)?, side(stretch.onset, until)?))
    }
}

/// Where one change lies: since when the level before it held, its onset, and the next change.
struct Stretch {
    from: Timestamp,
    onset: Timestamp,
    until: Option<Timestamp>,
}

struct SideWithMean {
    side: Side,
    mean_ms: f64,
    /// Share of the days on which it ran.
    days_run: f64,
}

impl SideWithMean {
    /// Time of its statements, in seconds per second.
    fn spent(&self) -> f64 {
        self.mean_ms / 1e3 * self.side.calls_per_second
    }
}

/// What of a change of the time per second comes from time per call, and what from calls.
fn parts(subject: &Subject, turn: &Turn, before: &SideWithMean, after: &SideWithMean) -> (f64, f64) {
    let rates = (before.side.calls_per_second, after.side.calls_per_second);
    match (subject.family, subject.measured) {
        (_, Measured::Metric) => (0.0, 0.0),
        (None, Measured::Load | Measured::Waits) => (after.side.typical - before.side.typical, 0.0),
        // What the calls of now would take less if the server were as it was; the rest comes from what is called.
        (None, measured) => {
            let moved = after.spent() * (1.0 - 1.0 / turn.ratio().value);
            let rest = after.spent() - before.spent() - moved;
            if measured == Measured::Calls { (rest, moved) } else { (moved, rest) }
        }
        (Some(_), Measured::Waits) => shared((before.side.typical / 1e3, after.side.typical / 1e3), rates),
        (Some(_), _) => shared((before.mean_ms / 1e3, after.mean_ms / 1e3), rates),
    }
}

/// Exact: the two add up to the change of rate × seconds a call.
fn shared(seconds: (f64, f64), rates: (f64, f64)) -> (f64, f64) {
    ((seconds.1 - seconds.0) * (rates.0 + rates.1) / 2.0, (rates.1 - rates.0) * (seconds.0 + seconds.1) / 2.0)
}

fn side<'a>(
    buckets: impl Iterator<Item = &'a Bucket> + Clone,
    [typical, quarter, three_quarters]: [f64; 3],
) -> Option<SideWithMean> {
    let sum = |figure: fn(&Bucket) -> f64| buckets.clone().map(figure).sum::<f64>();
    let (calls, seconds) = (sum(|bucket| bucket.calls as f64), sum(|bucket| bucket.seconds));
    if seconds <= 0.0 {
        return None;
    }
    let per_call = |figure: fn(&Bucket) -> f64| if calls > 0.0 { sum(figure) / calls } else { 0.0 };
    let days = |buckets: &mut dyn Iterator<Item = &Bucket>| {
        let day = |bucket: &Bucket| (bucket.at.0 as f64 / 1e6 / SECONDS_PER_DAY) as i64;
        buckets.map(day).collect::<BTreeSet<i64>>().len() as f64
    };
    let run = days(&mut buckets.clone().filter(|bucket| bucket.calls > 0)).max(1.0);
    Some(SideWithMean {
        days_run: run / days(&mut buckets.clone()),
        mean_ms: per_call(|bucket| bucket.exec_us as f64 / 1e3),
        side: Side {
            typical,
            quarter,
            three_quarters,
            calls_per_second: calls / seconds,
            rows_per_call: per_call(|bucket| bucket.rows as f64),
            pages_per_call: per_call(|bucket| bucket.pages as f64),
            seconds,
        },
    })
}
