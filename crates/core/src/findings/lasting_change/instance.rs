use super::points::Point;
use super::turn::turns;
use super::whole_server::{WholeServer, totals};
use super::{Bucket, LEAST_RATIO, LastingChange, SideWithMean, describe, described, sure_together, with_ends};
use crate::time::Timestamp;

/// The changes of all families of an instance, and those of the server as a whole.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct InstanceChanges {
    /// Changes of families on their own, with the family, in order of family and time.
    pub families: Vec<(i64, LastingChange)>,
    /// Changes that nearly all families share.
    pub whole_server: Vec<LastingChange>,
}

/// The changes of an instance whose families were observed in the same buckets of time, over so many seconds.
///
/// What moves nearly all of them at once is taken off each and told once, as a change of the whole server: a statement
/// that only shared a busy machine is not called slower. Each change is one of very many that could have been found; of
/// those told of families, at most one in twenty is none.
pub fn changes_of_instance(families: &[(i64, Vec<Bucket>)], bucket_seconds: f64, seconds: f64) -> InstanceChanges {
    let Some(first) = families.iter().find_map(|(_, buckets)| buckets.first()) else {
        return InstanceChanges::default();
    };
    let number = |bucket: &Bucket| (bucket.at.seconds_since(first.at) / bucket_seconds).round() as usize;
    let spent: i64 = families.iter().flat_map(|(_, buckets)| buckets).map(|bucket| bucket.exec_us).sum();
    let instance_seconds_per_second = spent as f64 / 1e6 / seconds;
    let count = families.iter().filter_map(|(_, buckets)| buckets.last()).map(|last| number(last) + 1).max();
    let count = count.unwrap_or_default();
    let points: Vec<Vec<Point>> = families
        .iter()
        .map(|(_, buckets)| buckets.iter().filter_map(|bucket| Point::time_per_call(number(bucket), bucket)).collect())
        .collect();
    let whole = WholeServer::of(costliest_first(families, &points), count);
    let mut changes = InstanceChanges::default();
    for ((family, buckets), mut points) in families.iter().zip(points) {
        points.iter_mut().for_each(|point| point.value -= whole.at(point.at));
        let turns = turns(points, count, bucket_seconds);
        let of_family = with_ends(described(first.at, bucket_seconds, &turns, |stretch, turn| {
            describe(buckets, stretch, turn.ratio(), instance_seconds_per_second)
        }));
        changes.families.extend(of_family.into_iter().map(|change| (*family, change)));
    }
    let chances: Vec<f64> = changes.families.iter().map(|(_, change)| change.chance).collect();
    let surest = sure_together(&chances, families.len());
    changes.families.retain(|(_, change)| surest.is_some_and(|chance| change.chance <= chance));
    changes.families.sort_by_key(|(family, change)| (*family, change.onset));

    let turns = turns(whole.points(), count, bucket_seconds);
    let all = totals(families.iter().map(|(_, buckets)| buckets.as_slice()));
    let of_whole = described(first.at, bucket_seconds, &turns, |stretch, turn| {
        let (before, after) = stretch.sides(&all)?;
        let spent = |side: &SideWithMean| side.mean_ms / 1e3 * side.side.calls_per_second;
        // What the calls of now would take less if the server were as it was; the rest comes from what is called.
        let from_time_per_call = spent(&after) * (1.0 - 1.0 / turn.ratio().value);
        let from_calls = spent(&after) - spent(&before) - from_time_per_call;
        Some(stretch.change(turn.ratio(), (before.side, after.side), (from_time_per_call, from_calls)))
    });
    changes.whole_server = ended_by_steps(of_whole);
    changes
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
fn costliest_first<'a>(families: &[(i64, Vec<Bucket>)], points: &'a [Vec<Point>]) -> Vec<&'a [Point]> {
    let spent = |buckets: &[Bucket]| buckets.iter().map(|bucket| bucket.exec_us).sum::<i64>();
    let mut order: Vec<(i64, &[Point])> =
        families.iter().zip(points).map(|((_, buckets), points)| (spent(buckets), points.as_slice())).collect();
    order.sort_by_key(|(spent, _)| std::cmp::Reverse(*spent));
    order.into_iter().map(|(_, points)| points).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::robust::SeededRng;

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

    fn changes(families: &[(i64, Vec<Bucket>)]) -> InstanceChanges {
        changes_of_instance(families, 600.0, 300.0 * 600.0)
    }

    #[test]
    fn what_only_shared_a_busy_machine_is_not_called_slower() {
        let mut named = 0;
        for seed in 0..10 {
            let slower = server(30, seed, |_, at| if at < 200 { 1.0 } else { 1.6 });
            let InstanceChanges { families, whole_server } = changes(&slower);
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
        let InstanceChanges { families, whole_server } = changes(&server(30, 1, level));
        assert_eq!((families[0].0, families[0].1.onset), (3, Timestamp(100 * TEN_MINUTES)));
        assert_eq!((whole_server.len(), whole_server[0].ratio.value < 1.0), (1, true));
    }

    #[test]
    fn a_server_that_is_back_where_it_was_is_over_and_a_quiet_one_has_nothing() {
        let level = |_: i64, at: usize| if (60..200).contains(&at) { 2.0 } else { 1.0 };
        let InstanceChanges { whole_server, .. } = changes(&server(20, 1, level));
        assert!(
            whole_server.iter().all(|change| change.until.is_some() || change.ratio.value < 1.0),
            "{whole_server:?}"
        );
        for seed in 0..20 {
            assert_eq!(changes(&server(20, seed, |_, _| 1.0)), InstanceChanges::default(), "seed {seed}");
        }
        assert_eq!(changes(&[]), InstanceChanges::default());
    }
}
