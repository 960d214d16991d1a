use std::collections::HashMap;
use std::ops::Range;

use super::Bucket;
use super::observed::{FamilySeries, Observed, ServerSeries};
use crate::time::{Timestamp, Window};

/// The last buckets may not have been complete when they were read: so many are read again.
const AGAIN_BUCKETS: f64 = 3.0;

/// What was seen of a server in the last days, kept from one look to the next: of each look, only what is new has to be
/// read.
#[derive(Debug, Clone, PartialEq)]
pub struct Remembered {
    /// What was seen.
    pub observed: Observed,
    /// Up to when it was read.
    pub to: Timestamp,
}

impl Remembered {
    /// Since when everything has to be read again.
    pub fn again_from(&self) -> Timestamp {
        self.to.plus_seconds(-AGAIN_BUCKETS * self.observed.bucket_seconds)
    }

    /// Whether enough of a window in buckets of this length is remembered to go on from there.
    pub fn serves(&self, window: Window, bucket_seconds: i64) -> bool {
        self.observed.bucket_seconds == bucket_seconds as f64
            && self.to <= window.to
            && self.again_from() > window.from.max(self.observed.start)
    }

    /// Tells families one by one that were among the others so far, from what was read of them alone.
    pub fn tell(&mut self, families: Vec<FamilySeries>) {
        let others = &mut self.observed.others;
        let place: HashMap<Timestamp, usize> =
            others.iter().enumerate().map(|(place, bucket)| (bucket.at, place)).collect();
        for family in families {
            let mut told = FamilySeries { family: family.family, buckets: empty(others), waits: Vec::new() };
            let places: Vec<Option<usize>> =
                family.buckets.iter().map(|bucket| place.get(&bucket.at).copied()).collect();
            for (place, bucket) in places.iter().zip(&family.buckets) {
                let Some(place) = *place else { continue };
                let other = &mut others[place];
                told.buckets[place] = Bucket { seconds: other.seconds, ..*bucket };
                other.calls -= bucket.calls;
                other.exec_us -= bucket.exec_us;
                other.rows -= bucket.rows;
                other.pages -= bucket.pages;
            }
            for mut waits in family.waits {
                let mut seen = vec![0.0; others.len()];
                for (place, waiting) in places.iter().zip(&waits.seen) {
                    if let Some(place) = place {
                        seen[*place] = *waiting;
                    }
                }
                waits.seen = seen;
                told.waits.push(waits);
            }
            self.observed.families.push(told);
        }
        self.observed.families.sort_by_key(|family| family.family);
    }

    /// Goes on with what was read since [`Remembered::again_from`], up to the end of a window; what lies before it is
    /// forgotten.
    pub fn go_on(&mut self, newest: Observed, window: Window) {
        let again = self.again_from();
        let Observed { others, families, server, start, .. } = &mut self.observed;
        let first_at = |moment: Timestamp| others.partition_point(|bucket| bucket.at < moment);
        let kept = first_at(window.from)..first_at(again);
        let (known, new) = (empty(&others[kept.clone()]), empty(&newest.others));
        let mut of_newest: HashMap<i64, FamilySeries> =
            newest.families.into_iter().map(|family| (family.family, family)).collect();
        for family in families.iter_mut() {
            let nothing = FamilySeries { family: family.family, buckets: Vec::new(), waits: Vec::new() };
            let newest = of_newest.remove(&family.family);
            let newest = newest.unwrap_or_else(|| FamilySeries { buckets: new.clone(), ..nothing });
            family.go_on(kept.clone(), newest);
        }
        for newest in of_newest.into_values() {
            let mut family = FamilySeries { family: newest.family, buckets: known.clone(), waits: Vec::new() };
            family.go_on(0..known.len(), newest);
            families.push(family);
        }
        families.sort_by_key(|family| family.family);
        keep(others, kept);
        others.extend(newest.others);
        *start = others.first().map_or(*start, |first| first.at);
        go_on_with_server(server, newest.server, Window { from: window.from, to: again });
        self.to = window.to;
    }
}

impl FamilySeries {
    /// Keeps these of its buckets, and goes on with newer ones.
    fn go_on(&mut self, kept: Range<usize>, newest: FamilySeries) {
        let (before, since) = (kept.len(), newest.buckets.len());
        keep(&mut self.buckets, kept.clone());
        self.buckets.extend(newest.buckets);
        self.waits.iter_mut().for_each(|waits| keep(&mut waits.seen, kept.clone()));
        for mut newest in newest.waits {
            match self.waits.iter_mut().find(|waits| waits.kind == newest.kind) {
                // One that was seen stands for as many seconds as those before.
                Some(waits) => {
                    let each = newest.each_seconds / waits.each_seconds;
                    waits.seen.extend(newest.seen.into_iter().map(|seen| seen * each));
                }
                None => {
                    newest.seen.splice(0..0, std::iter::repeat_n(0.0, before));
                    self.waits.push(newest);
                }
            }
        }
        self.waits.iter_mut().for_each(|waits| waits.seen.resize(before + since, 0.0));
        self.waits.retain(|waits| waits.seen.iter().any(|seen| *seen > 0.0));
    }
}

/// Keeps what was seen of a server within a window, and goes on with what was seen since.
fn go_on_with_server(known: &mut Vec<ServerSeries>, newest: Vec<ServerSeries>, kept: Window) {
    for series in known.iter_mut() {
        let first_at = |moment: Timestamp| series.values.partition_point(|(at, ..)| *at < moment);
        let kept = first_at(kept.from)..first_at(kept.to);
        keep(&mut series.values, kept);
    }
    let mut place: HashMap<_, usize> = HashMap::new();
    for (number, series) in known.iter().enumerate() {
        place.insert((series.measured, series.object.clone()), number);
    }
    for series in newest {
        match place.get(&(series.measured, series.object.clone())) {
            Some(number) => known[*number].values.extend(series.values),
            None => known.push(series),
        }
    }
    known.retain(|series| !series.values.is_empty());
}

/// Keeps what stands at these places only.
fn keep<T>(list: &mut Vec<T>, places: Range<usize>) {
    list.truncate(places.end);
    list.drain(..places.start);
}

/// The same buckets, in which nothing ran.
fn empty(buckets: &[Bucket]) -> Vec<Bucket> {
    let empty = |bucket: &Bucket| Bucket { calls: 0, exec_us: 0, rows: 0, pages: 0, ..*bucket };
    buckets.iter().map(empty).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{Measured, WaitSeries};
    use super::*;
    use crate::findings::robust::SeededRng;
    use crate::readings::wait_kind::WaitKind;

    fn at(bucket: usize) -> Timestamp {
        Timestamp(0).plus_seconds(bucket as f64 * 600.0)
    }

    fn window(from: usize, to: usize) -> Window {
        Window { from: at(from), to: at(to) }
    }

    /// What all families did, one of which is new at bucket 50, and of which these are told one by one.
    fn seen(from: usize, to: usize, told: &[i64]) -> Observed {
        let cells: Vec<usize> = (from..to).filter(|cell| cell % 11 != 7).collect();
        let bucket = |family: i64, cell: usize| {
            let ran = if family == 4 && cell < 50 {
                0
            } else {
                SeededRng::new(cell as u64 * 9 + family as u64).below(50) as i64
            };
            Bucket { at: at(cell), seconds: 600.0, calls: ran, exec_us: 7 * ran, rows: 3 * ran, pages: 2 * ran }
        };
        let buckets = |family: i64| cells.iter().map(|cell| bucket(family, *cell)).collect::<Vec<_>>();
        let waits = |kind: WaitKind, of: &[Bucket]| {
            let seen: Vec<f64> = of.iter().map(|bucket| (bucket.calls / 20) as f64).collect();
            seen.iter().any(|seen| *seen > 0.0).then_some(WaitSeries { kind, each_seconds: 10.0, seen })
        };
        let family = |family: &i64| {
            let buckets = buckets(*family);
            let waits = [WaitKind::Lock].into_iter().filter_map(|kind| waits(kind, &buckets)).collect();
            FamilySeries { family: *family, buckets, waits }
        };
        let mut others = empty(&buckets(0));
        for family in (0..5).filter(|family| !told.contains(family)) {
            for (other, own) in others.iter_mut().zip(buckets(family)) {
                other.calls += own.calls;
                other.exec_us += own.exec_us;
                other.rows += own.rows;
                other.pages += own.pages;
            }
        }
        let ran = |family: &FamilySeries| family.buckets.iter().any(|bucket| bucket.calls > 0);
        let values: Vec<_> = cells.iter().map(|cell| (at(*cell), *cell as f64, 6.0)).collect();
        let server = ServerSeries { measured: Measured::Load, object: String::new(), counts: true, values };
        Observed {
            start: cells.first().map_or(Timestamp(0), |cell| at(*cell)),
            bucket_seconds: 600.0,
            families: told.iter().map(family).filter(ran).collect(),
            others,
            server: (!server.values.is_empty()).then_some(server).into_iter().collect(),
        }
    }

    proptest! {
        #[test]
        fn going_on_shows_what_reading_everything_shows(steps in proptest::collection::vec(1usize..9, 1..12)) {
            let mut to = 48;
            let mut known = Remembered { observed: seen(8, to, &[1, 2]), to: at(to) };
            for (number, step) in steps.into_iter().enumerate() {
                let told: &[i64] = if number < 2 { &[1, 2] } else { &[1, 2, 3, 4] };
                to += step;
                let window = window(to - 40, to);
                prop_assert!(known.serves(window, 600));
                let again = (known.again_from().0 / 600_000_000) as usize;
                if number == 2 {
                    known.tell(seen(8, again, &[3, 4]).families);
                }
                known.go_on(seen(again, to, told), window);
                prop_assert_eq!(&known.observed, &seen(to - 40, to, told));
            }
        }
    }

    #[test]
    fn what_is_too_old_or_in_other_buckets_does_not_serve() {
        let known = Remembered { observed: seen(0, 40, &[1]), to: at(40) };
        assert!(known.serves(window(5, 45), 600));
        assert!(!known.serves(window(37, 77), 600), "nothing of it would be left");
        assert!(!known.serves(window(5, 45), 60));
        assert!(!known.serves(window(0, 39), 600));
        let young = Remembered { observed: seen(38, 40, &[1]), to: at(40) };
        assert!(!young.serves(window(0, 41), 600));
    }

    #[test]
    fn a_while_without_any_reading_forgets_nothing_else() {
        let mut known = Remembered { observed: seen(0, 40, &[1]), to: at(40) };
        known.go_on(Observed::default(), window(5, 43));
        assert_eq!(known.observed, seen(5, 37, &[1]));
        assert_eq!(known.again_from(), at(40));
    }
}
