use std::collections::HashMap;

use super::crossing::Crossing;
use super::{SetThreshold, Threshold};
use crate::findings::alarm::{Fact, Sign};
use crate::findings::figure_series::FigureSeries;
use crate::findings::normal_range::Side;
use crate::time::{Timestamp, Window};
use crate::wording::seconds;

/// How the figures of an instance stand to the thresholds in force there, from one judgement to the next.
#[derive(Debug, Clone, Default)]
pub struct Watching {
    in_force: Vec<SetThreshold>,
    going: HashMap<(i32, String), Going>,
    judged_to: Option<Timestamp>,
}

#[derive(Debug, Clone, Copy, Default)]
struct Going {
    crossing: Crossing,
    newest: f64,
}

impl Watching {
    /// Up to when figures were judged by these thresholds; nothing where they are others than before, so that the past
    /// has to be gone through.
    pub fn judged_to(&mut self, in_force: Vec<SetThreshold>) -> Option<Timestamp> {
        if self.in_force != in_force {
            *self = Watching { in_force, ..Watching::default() };
        }
        self.judged_to
    }

    /// The thresholds in force.
    pub fn in_force(&self) -> &[SetThreshold] {
        &self.in_force
    }

    /// Goes on with what was seen since, up to `to`. Answers with what is beyond.
    pub fn judge(&mut self, seen: &[FigureSeries], to: Timestamp) -> Vec<Sign> {
        for set in &self.in_force {
            let of =
                |series: &&FigureSeries| series.figure == set.threshold.figure && set.threshold.is_of(&series.object);
            for series in seen.iter().filter(of) {
                let going = self.going.entry((set.threshold_id, series.object.clone())).or_default();
                for seen in &series.buckets {
                    let bucket = Window { from: seen.at, to: seen.at.plus_seconds(series.bucket_seconds) };
                    going.crossing.go_on(&set.threshold, bucket, seen.mean());
                    going.newest = seen.mean();
                }
            }
        }
        self.judged_to = Some(to);
        let mut signs = Vec::new();
        for set in &self.in_force {
            let mut of: Vec<_> = self.going.iter().filter(|((id, _), _)| *id == set.threshold_id).collect();
            of.sort_unstable_by_key(|(key, _)| *key);
            for ((_, object), going) in of {
                if let Some(since) = going.crossing.raised_since(to) {
                    signs.push(sign(&set.threshold, object, going.newest, since, to));
                }
            }
        }
        signs
    }
}

fn sign(threshold: &Threshold, object: &str, newest: f64, since: Timestamp, now: Timestamp) -> Sign {
    let Threshold { figure, side, value, clears_at, verdict, .. } = threshold;
    let what = figure.of_object(object);
    let side = if *side == Side::High { "above" } else { "below" };
    let text = if threshold.is_beyond(newest) {
        format!(
            "{what}: {}; {side} {} for {}.",
            figure.told(newest),
            figure.told(*value),
            seconds(now.seconds_since(since))
        )
    } else {
        format!("{what}: {}; it was {side} {} and is not back yet.", figure.told(newest), figure.told(*value))
    };
    let mut sign = figure.sign(object, *verdict, text);
    sign.since = Some(since);
    sign.facts = vec![
        Fact { what: "Threshold".into(), value: format!("{side} {}", figure.told(*value)) },
        Fact { what: "Over at".into(), value: figure.told(*clears_at) },
    ];
    if !threshold.step.is_empty() {
        sign.step.clone_from(&threshold.step);
    }
    sign
}

#[cfg(test)]
mod tests {
    use super::super::Scope;
    use super::super::tests::load_above;
    use super::*;
    use crate::findings::alarm::Trouble;
    use crate::findings::figure::ServerFigure;
    use crate::findings::figure_series::Seen;
    use crate::readings::metric::Metric;

    fn at(bucket: i64) -> Timestamp {
        Timestamp(bucket * 600_000_000)
    }

    fn set(threshold: Threshold) -> SetThreshold {
        SetThreshold { threshold_id: 1, scope: Scope::All, is_on: true, threshold }
    }

    fn series(object: &str, values: &[(i64, f64)]) -> FigureSeries {
        FigureSeries {
            figure: ServerFigure::Metric(Metric::StorageBusy),
            object: object.into(),
            bucket_seconds: 600.0,
            buckets: values.iter().map(|(bucket, value)| Seen::reading(at(*bucket), *value)).collect(),
        }
    }

    #[test]
    fn each_object_is_beyond_on_its_own_and_going_on_is_as_judging_all() {
        let busy = Threshold { figure: ServerFigure::Metric(Metric::StorageBusy), ..load_above(0.9, 0.8, 1200.0) };
        let mut watching = Watching::default();
        assert_eq!(watching.judged_to(vec![set(busy.clone())]), None);
        let first = [series("sda", &[(0, 0.5), (1, 0.95)]), series("sdb", &[(0, 0.95), (1, 0.4)])];
        assert_eq!(watching.judge(&first, at(2)), []);
        assert_eq!(watching.judged_to(vec![set(busy.clone())]), Some(at(2)));
        let signs = watching.judge(&[series("sda", &[(2, 0.97)]), series("sdb", &[(2, 0.95)])], at(3));
        assert_eq!(signs.len(), 1);
        assert!(signs[0].text.starts_with("Storage busy sda: 97"), "{}", signs[0].text);
        assert_eq!((signs[0].since, signs[0].trouble), (Some(at(1)), Trouble::Unusual));
        assert_eq!(watching.judge(&[series("sda", &[(3, 0.85)])], at(4)).len(), 1, "it does not clear yet");
        assert_eq!(watching.judge(&[series("sda", &[(4, 0.7)])], at(5)), []);
        let mut anew = Watching::default();
        anew.judged_to(vec![set(busy.clone())]);
        let all = series("sda", &[(0, 0.5), (1, 0.95), (2, 0.97)]);
        assert_eq!(anew.judge(&[all], at(3)), signs, "judged at once");
        assert_eq!(anew.judge(&[], at(40)), [], "an object that is gone is beyond nothing");
        assert_eq!(anew.judged_to(vec![set(busy.at(0.5))]), None, "another threshold begins anew");
    }
}
