use std::collections::HashMap;

use super::described::{Found, Looked};
use super::discoveries::sure_together;
use super::measured::{Measured, Subject};
use super::observed::{FamilySeries, Observed, Value};
use super::pattern::KnownPattern;
use super::points::Point;
use super::whole_server::WholeServer;
use super::{Bucket, LEAST_RATIO, LastingChange, Thresholds, with_ends};
use crate::named::Named;
use crate::time::Timestamp;

/// What comes back each day and week, by what it comes back in.
pub type Patterns = HashMap<Subject, KnownPattern>;

/// What of a family may move with all others at once.
const SHARED: [Measured; 2] = [Measured::TimePerCall, Measured::Calls];
/// What is only its own.
const OWN: [Measured; 2] = [Measured::RowsPerCall, Measured::PagesPerCall];

/// The changes of an instance.
#[derive(Debug, Clone, Default)]
pub struct InstanceChanges {
    /// Changes in order of subject and time.
    pub changes: Vec<(Subject, LastingChange)>,
    /// What comes back each day and week, where the history is long enough to tell.
    pub patterns: Patterns,
}

/// The changes of an instance: of its families, of nearly all of them at once, and of what is followed of the server.
///
/// What moves nearly all families at once is taken off each and told once, as a change of the whole server: a statement
/// that only shared a busy machine is not called slower. What is known to come back each day and week from a longer
/// history is taken off too. Each change is one of very many that could have been found; of those told, at most one in
/// twenty is none.
pub fn changes_of_instance(observed: &Observed, thresholds: Thresholds, known: &Patterns) -> InstanceChanges {
    let Some(instance_seconds_per_second) = observed.seconds_per_second() else { return InstanceChanges::default() };
    let all = observed.totals();
    let count = observed.count();
    let looked = Looked { observed, thresholds, instance_seconds_per_second, count };
    let mut search = Search { looked, known, found: InstanceChanges::default(), tried: 0 };
    for measured in SHARED {
        search.with_whole(measured, &all);
    }
    for family in &observed.families {
        for measured in OWN {
            let subject = Subject::of(Some(family.family), measured);
            search.one(subject, &family.buckets, &observed.values(family, measured));
        }
        for waits in &family.waits {
            let object = waits.kind.name().to_owned();
            let subject = Subject { object, ..Subject::of(Some(family.family), Measured::Waits) };
            search.one(subject, &family.buckets, &observed.values_of_waits(family, waits));
        }
    }
    for series in &observed.server {
        let subject = Subject { object: series.object.clone(), ..Subject::of(None, series.measured) };
        search.one(subject, &all, &observed.values_of_server(series));
    }
    search.told()
}

/// A search in progress.
struct Search<'a> {
    looked: Looked<'a>,
    known: &'a Patterns,
    found: InstanceChanges,
    tried: usize,
}

impl Search<'_> {
    /// Something of each family, and what all of them have in common of it.
    fn with_whole(&mut self, measured: Measured, all: &[Bucket]) {
        let families = &self.looked.observed.families;
        let values: Vec<Vec<Value>> =
            families.iter().map(|family| self.looked.observed.values(family, measured)).collect();
        let points: Vec<Vec<Point>> =
            values.iter().map(|values| values.iter().filter_map(Value::point).collect()).collect();
        let whole = WholeServer::of(costliest_first(families, &points), self.looked.count);
        for (family, values) in families.iter().zip(&values) {
            self.beside(Subject::of(Some(family.family), measured), &family.buckets, values, |at| whole.at(at));
        }
        let found = self.look(&Subject::of(None, measured), all, &whole.values(), |_| 0.0);
        self.found
            .changes
            .extend(ended_by_steps(found).into_iter().map(|change| (Subject::of(None, measured), change)));
    }

    fn one(&mut self, subject: Subject, buckets: &[Bucket], values: &[Value]) {
        self.beside(subject, buckets, values, |_| 0.0);
    }

    fn beside(&mut self, subject: Subject, buckets: &[Bucket], values: &[Value], whole: impl Fn(usize) -> f64) {
        self.tried += 1;
        let changes = with_ends(self.look(&subject, buckets, values, whole));
        self.found.changes.extend(changes.into_iter().map(|change| (subject.clone(), change)));
    }

    /// The changes of a series, without what is known to come back in it.
    fn look(
        &mut self,
        subject: &Subject,
        buckets: &[Bucket],
        values: &[Value],
        whole: impl Fn(usize) -> f64,
    ) -> Vec<LastingChange> {
        let known = self.known.get(subject);
        let observed = self.looked.observed;
        let time = |at: usize| observed.start.plus_seconds((at as f64 + 0.5) * observed.bucket_seconds);
        let beside = |at: usize| whole(at) + known.map_or(0.0, |pattern| pattern.at(time(at)));
        let Found { changes, pattern } = self.looked.changes(subject, buckets, values, beside);
        if let Some(pattern) = pattern.and_then(|pattern| KnownPattern::of(pattern, observed.start)) {
            self.found.patterns.insert(subject.clone(), pattern);
        }
        changes
    }

    /// What of all that was found is sure enough, having looked at so much.
    fn told(mut self) -> InstanceChanges {
        let chances: Vec<f64> = self
            .found
            .changes
            .iter()
            .filter(|(subject, _)| !subject.is_whole_server())
            .map(|(_, change)| change.chance)
            .collect();
        let surest = sure_together(&chances, self.tried);
        self.found.changes.retain(|(subject, change)| {
            subject.is_whole_server() || surest.is_some_and(|chance| change.chance <= chance)
        });
        self.found.changes.sort_by(|(a, one), (b, other)| (a, one.onset).cmp(&(b, other.onset)));
        self.found
    }
}

/// Ends of changes by their own steps: one is over when later ones have brought the server back to where it was. How long
/// a typical call takes says nothing of that, since what is called changes.
fn ended_by_steps(mut changes: Vec<LastingChange>) -> Vec<LastingChange> {
    let steps: Vec<(Timestamp, f64)> =
        changes.iter().filter(|change| !change.passed).map(|change| (change.onset, change.ratio.value.ln())).collect();
    for change in changes.iter_mut().filter(|change| !change.passed) {
        let own = change.ratio.value.ln();
        let mut away = own;
        let mut later = steps.iter().filter(|(onset, _)| *onset > change.onset);
        let back = later.find(|(_, step)| {
            away += step;
            away * own.signum() < LEAST_RATIO.ln()
        });
        change.until = back.map(|(onset, _)| *onset);
    }
    changes
}

/// The points of families, those first that took the most time.
fn costliest_first<'a>(families: &[FamilySeries], points: &'a [Vec<Point>]) -> Vec<&'a [Point]> {
    let spent = |family: &FamilySeries| family.buckets.iter().map(|bucket| bucket.exec_us).sum::<i64>();
    let mut order: Vec<(i64, &[Point])> =
        families.iter().zip(points).map(|(family, points)| (spent(family), points.as_slice())).collect();
    order.sort_by_key(|(spent, _)| std::cmp::Reverse(*spent));
    order.into_iter().map(|(_, points)| points).collect()
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{ServerSeries, WaitSeries};
    use super::*;
    use crate::findings::robust::SeededRng;
    use crate::readings::wait_kind::WaitKind;

    const TEN_MINUTES: i64 = 600_000_000;

    /// Families whose time per call is a level of their own times `level(family, bucket)`.
    fn server(families: i64, seed: u64, level: impl Fn(i64, usize) -> f64) -> Vec<(i64, Vec<Bucket>)> {
        let mut rng = SeededRng::new(seed);
        (0..families)
            .map(|family| {
                let usual = (rng.normal() * 1.5).exp();
                let buckets = (0..300).map(|at| Bucket {
                    at: Timestamp(at as i64 * TEN_MINUTES),
                    seconds: 600.0,
                    calls: 100,
                    exec_us: (usual * level(family, at) * (0.15 * rng.normal()).exp() * 1e5) as i64,
                    rows: 100,
                    pages: 400,
                });
                (family, buckets.collect())
            })
            .collect()
    }

    fn observed(families: Vec<(i64, Vec<Bucket>)>) -> Observed {
        let families =
            families.into_iter().map(|(family, buckets)| FamilySeries { family, buckets, waits: Vec::new() }).collect();
        Observed { start: Timestamp(0), bucket_seconds: 600.0, families, ..Observed::default() }
    }

    /// Changes of time per call: of families, and of the whole server.
    fn changes(families: Vec<(i64, Vec<Bucket>)>) -> (Vec<(i64, LastingChange)>, Vec<LastingChange>) {
        let found = changes_of_instance(&observed(families), Thresholds::default(), &Patterns::new());
        let (own, whole): (Vec<_>, Vec<_>) = found
            .changes
            .into_iter()
            .filter(|(subject, _)| subject.is_time_per_call())
            .partition(|(subject, _)| subject.family.is_some());
        let own = own.into_iter().filter_map(|(subject, change)| Some((subject.family?, change))).collect();
        (own, whole.into_iter().map(|(_, change)| change).collect())
    }

    #[test]
    fn what_only_shared_a_busy_machine_is_not_called_slower() {
        let mut named = 0;
        for seed in 0..10 {
            let slower = server(30, seed, |_, at| if at < 200 { 1.0 } else { 1.6 });
            let (families, whole_server) = changes(slower);
            named += families.len();
            assert_eq!(whole_server.len(), 1, "seed {seed}: {whole_server:?}");
            let whole = &whole_server[0];
            assert!((whole.onset.0 / TEN_MINUTES - 200).abs() <= 1, "seed {seed}: {whole:?}");
            assert!(whole.ratio.low < 1.6 && 1.6 < whole.ratio.high && whole.until.is_none(), "seed {seed}: {whole:?}");
            let lost = whole.from_time_per_call / (whole.from_time_per_call + whole.from_calls);
            assert!((lost - 1.0).abs() < 0.15, "the calls are as many as before: {whole:?}");
        }
        assert!(named <= 1, "{named} families of 300 were called changed");
    }

    #[test]
    fn one_that_slowed_down_on_a_slower_server_is_told_beside_it() {
        let level = |family: i64, at: usize| match (family, at) {
            (3, 100..) => 20.0,
            (_, 200..) => 0.6,
            _ => 1.0,
        };
        let (families, whole_server) = changes(server(30, 1, level));
        assert_eq!((families[0].0, families[0].1.onset), (3, Timestamp(100 * TEN_MINUTES)));
        assert_eq!((whole_server.len(), whole_server[0].ratio.value < 1.0), (1, true));
    }

    #[test]
    fn a_server_that_is_back_where_it_was_is_over_and_a_quiet_one_has_nothing() {
        let level = |_: i64, at: usize| if (60..200).contains(&at) { 2.0 } else { 1.0 };
        let (_, whole_server) = changes(server(20, 1, level));
        assert!(
            whole_server.iter().all(|change| change.until.is_some() || change.ratio.value < 1.0),
            "{whole_server:?}"
        );
        for seed in 0..20 {
            assert_eq!(changes(server(20, seed, |_, _| 1.0)), (vec![], vec![]), "seed {seed}");
        }
        assert_eq!(changes(vec![]), (vec![], vec![]));
    }

    /// What is told of a server, but for time per call: of whom, what, and by what factor.
    fn told(observed: &Observed, known: &Patterns) -> Vec<(Option<i64>, Measured, f64)> {
        let found = changes_of_instance(observed, Thresholds::default(), known);
        let told = found.changes.into_iter().filter(|(subject, _)| !subject.is_time_per_call());
        told.map(|(subject, change)| (subject.family, subject.measured, change.ratio.value)).collect()
    }

    #[test]
    fn each_thing_that_changed_is_told_as_what_it_is() {
        let mut rng = SeededRng::new(3);
        let mut families = server(20, 3, |_, _| 1.0);
        for (_, buckets) in &mut families {
            buckets.iter_mut().for_each(|bucket| bucket.calls = 90 + rng.below(20) as i64);
        }
        // Two that matter.
        for bucket in families[4..6].iter_mut().flat_map(|(_, buckets)| buckets) {
            bucket.exec_us *= 1_000;
        }
        for bucket in families[4].1.iter_mut().skip(150) {
            bucket.calls *= 4;
            bucket.exec_us *= 4;
            bucket.rows *= 4;
            bucket.pages *= 4;
        }
        families[5].1.iter_mut().skip(150).for_each(|bucket| bucket.pages *= 10);
        let mut observed = observed(families);
        let mut seen = |at: usize, from: i64, to: i64| (if at < 150 { from } else { to }) + rng.below(8) as i64;
        let seen_waiting = (0..300).map(|at| seen(at, 20, 200) as f64).collect();
        observed.families[6].waits.push(WaitSeries { kind: WaitKind::Lock, each_seconds: 1.0, seen: seen_waiting });
        let values = (0..300).map(|at| (Timestamp(at as i64 * TEN_MINUTES), seen(at, 50, 150) as f64, 60.0)).collect();
        observed.server.push(ServerSeries {
            measured: Measured::Metric,
            object: "cpu_used user".into(),
            counts: false,
            values,
        });
        let told = told(&observed, &Patterns::new());
        let expected = [
            (None, Measured::Metric, 2.9),
            (Some(4), Measured::Calls, 4.0),
            (Some(5), Measured::PagesPerCall, 10.0),
            (Some(6), Measured::Waits, 9.0),
        ];
        assert_eq!(told.len(), expected.len(), "{told:?}");
        for (told, expected) in told.iter().zip(expected) {
            assert_eq!((told.0, told.1), (expected.0, expected.1));
            assert!((told.2 / expected.2 - 1.0).abs() < 0.2, "{told:?}");
        }
    }

    #[test]
    fn a_weekend_that_is_known_from_the_weeks_before_is_no_change() {
        let week = |at: usize| if (at / 144) % 7 < 5 { 4.0 } else { 1.0 };
        let mut rng = SeededRng::new(5);
        let mut buckets = |from: usize, to: usize| -> Vec<Bucket> {
            let bucket = |at: usize| {
                let calls = (100.0 * week(at) * (0.1 * rng.normal()).exp()) as i64;
                let at = Timestamp(at as i64 * TEN_MINUTES);
                Bucket { at, seconds: 600.0, calls, exec_us: calls * 1_000, rows: calls, pages: calls }
            };
            (from..to).map(bucket).collect()
        };
        // Five weeks that end on a Friday, and three days up to Saturday's end.
        let long = observed(vec![(1, buckets(0, 33 * 144))]);
        let found = changes_of_instance(&long, Thresholds::default(), &Patterns::new());
        assert_eq!(found.changes, []);
        let short =
            Observed { start: Timestamp(31 * 144 * TEN_MINUTES), ..observed(vec![(1, buckets(31 * 144, 34 * 144))]) };
        assert_eq!(told(&short, &Patterns::new()).len(), 1, "three days know nothing of a week");
        assert_eq!(told(&short, &found.patterns), []);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]

        /// Statements may stop being read while metrics go on, or begin later, with gaps and any figures.
        #[test]
        fn whatever_was_seen_can_be_judged(
            (from, to) in (0usize..80, 80usize..300),
            (metric_from, metric_to) in (0usize..150, 150usize..400),
            gap in 1usize..60,
            seed: u64,
        ) {
            let mut rng = SeededRng::new(seed);
            let mut figure = || (8.0 * rng.normal()).exp() as i64;
            let bucket = |at: usize| Bucket {
                at: Timestamp(at as i64 * TEN_MINUTES),
                seconds: 600.0,
                calls: figure(),
                exec_us: figure(),
                rows: figure(),
                pages: figure(),
            };
            let is_seen = |at: &usize| !(100..100 + gap).contains(at);
            let buckets: Vec<Bucket> = (from..to).filter(is_seen).map(bucket).collect();
            let start = buckets[0].at;
            let mut observed = Observed { start, ..observed(vec![(1, buckets.clone()), (2, buckets)]) };
            let seen = observed.families[0].buckets.iter().map(|bucket| bucket.rows as f64).collect();
            observed.families[0].waits.push(WaitSeries { kind: WaitKind::Lock, each_seconds: 1.0, seen });
            for counts in [false, true] {
                let value = |at: usize| (Timestamp(at as i64 * TEN_MINUTES), rng.normal().exp() * 9.0, 60.0);
                let values = (metric_from..metric_to).filter(is_seen).map(value).collect();
                observed.server.push(ServerSeries { measured: Measured::Metric, object: "cpu_used user".into(), counts, values });
            }
            for (_, change) in changes_of_instance(&observed, Thresholds::default(), &Patterns::new()).changes {
                prop_assert!(change.ratio.value > 0.0 && change.onset >= start, "{change:?}");
            }
        }
    }

    #[test]
    fn only_what_is_large_enough_is_told() {
        let slower = observed(server(20, 1, |family, at| if family == 3 && at >= 150 { 9.0 } else { 1.0 }));
        let count = |thresholds| changes_of_instance(&slower, thresholds, &Patterns::new()).changes.len();
        let usual = Thresholds::default();
        assert_eq!(count(usual), 1);
        assert_eq!(count(Thresholds { least_ratio: 20.0, ..usual }), 0);
        assert_eq!(count(Thresholds { least_share: 0.9, ..usual }), 0);
    }
}
