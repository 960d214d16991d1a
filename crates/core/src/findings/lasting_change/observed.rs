use super::Bucket;
use super::measured::Measured;
use super::points::Point;
use crate::findings::robust::{quantile, weighted_median};
use crate::readings::wait_kind::WaitKind;
use crate::time::Timestamp;

/// Counts below this in a bucket are too few for its logarithm: buckets are taken together.
const LEAST_COUNTED: f64 = 10.0;
/// Where more than so many buckets have to be taken together, nothing can be said.
const MOST_TOGETHER: usize = 36;
/// What is counted may be none for a while, which is few and not nothing. With half a one more, logarithms of few are right
/// in the mean (Anscombe 1948).
const HALF_ONE: f64 = 0.5;
/// What is read may be nothing for a while: so much of the mean is added before the logarithm.
const LIFT: f64 = 0.05;

/// A value that rests on so many is as sure as it gets.
pub const RESTS_ON_MANY: f64 = 1e6;

/// What a server was seen to do, in buckets of time that begin at `start`.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Observed {
    /// When the first bucket begins.
    pub start: Timestamp,
    /// Length of a bucket.
    pub bucket_seconds: f64,
    /// Families that may matter.
    pub families: Vec<FamilySeries>,
    /// What all other families did together.
    pub others: Vec<Bucket>,
    /// What is followed of the server as a whole.
    pub server: Vec<ServerSeries>,
}

/// What a family did.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct FamilySeries {
    /// Its number.
    pub family: i64,
    /// What it did, in order of time.
    pub buckets: Vec<Bucket>,
    /// What its sessions waited for.
    pub waits: Vec<WaitSeries>,
}

/// Waits of one kind of a family, one value for each of its buckets.
#[derive(Debug, Clone, PartialEq)]
pub struct WaitSeries {
    /// What was waited for.
    pub kind: WaitKind,
    /// Seconds that a waiting session stands for that was seen.
    pub each_seconds: f64,
    /// Waiting sessions that were seen; where a bucket was looked at more or less often than usual, as many as would have
    /// been.
    pub seen: Vec<f64>,
}

/// Something that is followed of a server.
#[derive(Debug, Clone, PartialEq)]
pub struct ServerSeries {
    /// What it is.
    pub measured: Measured,
    /// Of which kind of wait, or which metric of what.
    pub object: String,
    /// Whether it is counted one by one, so that few are uncertain; otherwise it is read.
    pub counts: bool,
    /// When, in order of time, what was counted or read, and over how much: sessions over looks, values over readings.
    pub values: Vec<(Timestamp, f64, f64)>,
}

/// A value of a series.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Value {
    /// Number of its bucket; the last one, where several were taken together.
    pub at: usize,
    /// In the unit of what is measured.
    pub value: f64,
    /// How many calls, sessions or readings it rests on.
    pub rests_on: f64,
    /// What is added to it before its logarithm.
    pub lift: f64,
}

impl Value {
    /// It on the log scale; nothing where there is nothing.
    pub fn point(&self) -> Option<Point> {
        Point::measured(self.at, self.value + self.lift, self.rests_on)
    }
}

impl Observed {
    /// Number of the bucket that begins at a moment.
    pub fn number(&self, at: Timestamp) -> usize {
        (at.seconds_since(self.start) / self.bucket_seconds).round().max(0.0) as usize
    }

    /// Number of buckets, up to the last in which anything was seen: metrics may be read when statements are not.
    pub fn count(&self) -> usize {
        let families = self.families.iter().map(|family| &family.buckets).chain([&self.others]);
        let last_of_families = families.filter_map(|buckets| Some(buckets.last()?.at));
        let last_of_server = self.server.iter().filter_map(|series| Some(series.values.last()?.0));
        last_of_families.chain(last_of_server).map(|last| self.number(last) + 1).max().unwrap_or_default()
    }

    /// All statements together.
    pub fn totals(&self) -> Vec<Bucket> {
        totals(self.families.iter().map(|family| family.buckets.as_slice()).chain([self.others.as_slice()]))
    }

    /// Time of all statements, in seconds per second; nothing where nothing was observed.
    pub fn seconds_per_second(&self) -> Option<f64> {
        let all = self.totals();
        let seconds: f64 = all.iter().map(|bucket| bucket.seconds).sum();
        let spent: f64 = all.iter().map(|bucket| bucket.exec_us as f64 / 1e6).sum();
        (seconds > 0.0).then(|| spent / seconds)
    }

    /// Values of something of the server.
    pub fn values_of_server(&self, series: &ServerSeries) -> Vec<Value> {
        let seen = series.values.iter().filter(|(at, ..)| *at >= self.start);
        let seen: Vec<_> = seen.map(|(at, count, over)| (self.number(*at), *count, *over)).collect();
        if series.counts { counts(seen, 1.0) } else { readings(seen) }
    }

    /// Values of something of a family.
    pub fn values(&self, of: &FamilySeries, measured: Measured) -> Vec<Value> {
        let per_call = |figure: fn(&Bucket) -> f64| {
            let value = |bucket: &Bucket| {
                let calls = bucket.calls as f64;
                let value = figure(bucket) / calls;
                let value = Value { at: self.number(bucket.at), value, rests_on: calls, lift: 0.0 };
                (calls > 0.0).then_some(value)
            };
            of.buckets.iter().filter_map(value).collect()
        };
        match measured {
            Measured::TimePerCall => per_call(|bucket| bucket.exec_us as f64 / 1e3),
            Measured::RowsPerCall => per_call(|bucket| bucket.rows as f64),
            Measured::PagesPerCall => per_call(|bucket| bucket.pages as f64),
            Measured::Calls => {
                let calls =
                    of.buckets.iter().map(|bucket| (self.number(bucket.at), bucket.calls as f64, bucket.seconds));
                counts(calls.collect(), 1.0)
            }
            Measured::Waits | Measured::Load | Measured::Metric => Vec::new(),
        }
    }

    /// Milliseconds that a call of a family waits.
    pub fn values_of_waits(&self, of: &FamilySeries, waits: &WaitSeries) -> Vec<Value> {
        let seen = of.buckets.iter().zip(&waits.seen);
        let seen = seen.map(|(bucket, seen)| (self.number(bucket.at), *seen, bucket.calls as f64));
        counts(seen.collect(), waits.each_seconds * 1e3)
    }
}

/// All families together, bucket by bucket.
fn totals<'a>(families: impl Iterator<Item = &'a [Bucket]>) -> Vec<Bucket> {
    let mut totals: Vec<Bucket> = Vec::new();
    for buckets in families.filter(|buckets| !buckets.is_empty()) {
        if totals.is_empty() {
            totals = buckets.to_vec();
            continue;
        }
        for (total, bucket) in totals.iter_mut().zip(buckets) {
            total.calls += bucket.calls;
            total.exec_us += bucket.exec_us;
            total.rows += bucket.rows;
            total.pages += bucket.pages;
        }
    }
    totals
}

/// What was counted over so much, times `unit`, as rates.
fn counts(counted: Vec<(usize, f64, f64)>, unit: f64) -> Vec<Value> {
    let value = |(at, count, over): (usize, f64, f64)| {
        let (rests_on, lift) = (count.max(HALF_ONE), unit * HALF_ONE / over);
        (over > 0.0).then(|| Value { at, value: unit * count / over, rests_on, lift })
    };
    taken_together(counted).into_iter().flatten().filter_map(value).collect()
}

/// Sums of what was read so many times, as means.
fn readings(read: Vec<(usize, f64, f64)>) -> Vec<Value> {
    let (all, times) = read.iter().fold((0.0, 0.0), |sum, one| (sum.0 + one.1, sum.1 + one.2));
    let lift = LIFT * all / times;
    let value = |(at, sum, times): (usize, f64, f64)| Value { at, value: sum / times, rests_on: RESTS_ON_MANY, lift };
    read.into_iter().filter(|(.., times)| *times > 0.0).map(value).collect()
}

/// Counts with what they are counted over, by number of bucket: so many neighbouring buckets taken together that a typical
/// sum is large enough for its logarithm. Nothing where that would be too many.
fn taken_together(counted: Vec<(usize, f64, f64)>) -> Option<Vec<(usize, f64, f64)>> {
    let mean = counted.iter().map(|(_, count, _)| count).sum::<f64>() / counted.len().max(1) as f64;
    let width = (LEAST_COUNTED / mean).ceil().max(1.0);
    if width > MOST_TOGETHER as f64 {
        return None;
    }
    let width = width as usize;
    let sums = counted.chunk_by(|a, b| a.0 / width == b.0 / width).map(|together| {
        let last = together[together.len() - 1].0;
        together.iter().fold((last, 0.0, 0.0), |sum, one| (last, sum.1 + one.1, sum.2 + one.2))
    });
    Some(sums.collect())
}

/// Typical value with its quartiles: median weighted by what values rest on, a quarter below, a quarter above.
pub fn typical(values: &[&Value]) -> Option<[f64; 3]> {
    let weighted: Vec<(f64, f64)> = values.iter().map(|value| (value.value, value.rests_on)).collect();
    let plain: Vec<f64> = values.iter().map(|value| value.value).collect();
    Some([weighted_median(&weighted)?, quantile(&plain, 0.25)?, quantile(&plain, 0.75)?])
}

#[cfg(test)]
mod tests {
    use super::*;

    fn bucket(at: usize, calls: i64) -> Bucket {
        let at = Timestamp(0).plus_seconds(at as f64 * 600.0);
        Bucket { at, seconds: 600.0, calls, exec_us: 3_000 * calls, rows: 2 * calls, pages: 0 }
    }

    fn observed(calls: impl Iterator<Item = i64>) -> Observed {
        let buckets = calls.enumerate().map(|(at, calls)| bucket(at, calls)).collect();
        let families = vec![FamilySeries { family: 1, buckets, waits: Vec::new() }];
        Observed { start: Timestamp(0), bucket_seconds: 600.0, families, ..Observed::default() }
    }

    #[test]
    fn each_thing_is_told_in_its_unit_and_nothing_without_calls() {
        let observed = observed([100, 0, 300].into_iter());
        let told = |measured| {
            let values = observed.values(&observed.families[0], measured);
            values.iter().map(|value| (value.at, value.value, value.rests_on)).collect::<Vec<_>>()
        };
        assert_eq!(told(Measured::TimePerCall), [(0, 3.0, 100.0), (2, 3.0, 300.0)]);
        assert_eq!(told(Measured::RowsPerCall), [(0, 2.0, 100.0), (2, 2.0, 300.0)]);
        let calls = told(Measured::Calls);
        assert_eq!(calls.iter().map(|(_, calls, _)| calls * 600.0).collect::<Vec<_>>(), [100.0, 0.0, 300.0]);
        let none = observed.values(&observed.families[0], Measured::Calls)[1];
        assert!(none.point().is_some(), "none in a while is few, and not nothing");
        let pages: Vec<Point> =
            observed.values(&observed.families[0], Measured::PagesPerCall).iter().filter_map(Value::point).collect();
        assert_eq!(pages, []);
    }

    #[test]
    fn few_are_taken_together_and_of_very_few_nothing_is_said() {
        let few = observed((0..40).map(|_| 2));
        let together = few.values(&few.families[0], Measured::Calls);
        assert_eq!((together.len(), together[0].at, together[0].rests_on), (8, 4, 10.0));
        let very_few = observed((0..400).map(|at| i64::from(at % 10 == 0)));
        assert_eq!(very_few.values(&very_few.families[0], Measured::Calls), []);
    }

    #[test]
    fn waits_are_told_per_call() {
        let mut observed = observed([100, 100].into_iter());
        // Twenty waiting sessions seen, each for ten seconds.
        let waits = WaitSeries { kind: WaitKind::Lock, each_seconds: 10.0, seen: vec![20.0, 40.0] };
        let values = observed.values_of_waits(&observed.families[0], &waits);
        assert_eq!(values.iter().map(|value| value.value).collect::<Vec<_>>(), [2_000.0, 4_000.0]);
        observed.families.clear();
        assert_eq!(observed.count(), 0);
    }
}
