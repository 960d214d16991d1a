//! What of a server is outside of its usual range, and matters.

use std::collections::HashMap;

use super::{NormalRange, Outside, Side, Usual};
use crate::findings::alarm::{Fact, Sign, Trouble};
use crate::findings::figure::ServerFigure;
use crate::findings::health::Health;
use crate::findings::lasting_change::{Observed, ServerSeries};
use crate::readings::metric::Metric;
use crate::time::Timestamp;
use crate::wording::number;

/// An alarm begins where the limit of the range was passed by this factor: of so many figures of a server, one is beyond
/// its limit every other day.
const WELL_BEYOND: f64 = 1.5;

/// Nor is there one where the figure is less than so many times what is usual, or more than that part of it: a server
/// that usually keeps twelve cores busy is in no trouble with fifteen, however steady it is.
const MANY_TIMES: f64 = 1.75;

/// When a figure of a server is a trouble.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Concern {
    /// On this side of its range.
    side: Side,
    /// From so far from the middle of the range on, in its unit.
    least: f64,
    /// And from so many times the middle on, or below that part of it.
    times: f64,
}

const fn too_much(least: f64) -> Option<Concern> {
    Some(Concern { side: Side::High, least, times: MANY_TIMES })
}

const fn too_little(least: f64) -> Option<Concern> {
    Some(Concern { side: Side::Low, least, times: MANY_TIMES })
}

/// When a figure is a trouble where it is unusual; nothing for those that only tell how much is done.
fn concern(figure: ServerFigure) -> Option<Concern> {
    const MEGABYTES: f64 = 1024.0 * 1024.0;
    match figure {
        ServerFigure::Load => too_much(2.0),
        ServerFigure::Waits(_) => too_much(1.0),
        ServerFigure::Counted("sessions" | "rollbacks") => too_much(5.0),
        ServerFigure::Counted("temp_bytes") => too_much(16.0 * MEGABYTES),
        ServerFigure::Counted(_) | ServerFigure::Ratio(_) => None,
        ServerFigure::Metric(metric) => match metric {
            Metric::ConnectionsKept => too_much(20.0),
            Metric::ReplicaLag | Metric::ReplayLag => too_much(10.0),
            Metric::ReplicaLagBytes => too_much(64.0 * MEGABYTES),
            // One of three that is gone is one too many, and storage has no more than all of its time.
            Metric::ReplicasConnected => Some(Concern { side: Side::Low, least: 0.5, times: 1.0 }),
            Metric::MemoryAvailable => too_little(512.0 * MEGABYTES),
            Metric::CpuUsed => too_much(1.0),
            Metric::StorageBusy => Some(Concern { side: Side::High, least: 0.3, times: 1.0 }),
            _ => None,
        },
    }
}

/// Troubles that unusual figures are signs of, and that nothing else looks for.
pub const OF_RANGES: &[Trouble] = &[Trouble::Unusual, Trouble::Replication];

type Key = (ServerFigure, String);

/// The usual ranges of a server's figures, and which of them are outside just now.
#[derive(Debug, Clone, Default)]
pub struct Unusual {
    ranges: HashMap<Key, NormalRange>,
    going: HashMap<Key, Going>,
    judged_to: Option<Timestamp>,
}

#[derive(Debug, Clone, Copy, Default)]
struct Going {
    outside: Outside,
    since: Option<Timestamp>,
    newest: f64,
    at: Timestamp,
}

impl Concern {
    /// Whether a value is far enough from the middle of its range to matter to anybody.
    fn matters(self, value: f64, middle: f64) -> bool {
        let times = match self.side {
            Side::High => value >= self.times * middle,
            Side::Low => value * self.times <= middle,
        };
        times && (value - middle).abs() >= self.least
    }
}

impl Unusual {
    /// Learns what is usual from all that was seen of a server. `clock` tells the time there.
    pub fn learn(&mut self, observed: &Observed, clock: impl Fn(Timestamp) -> Timestamp) {
        let Some(last) = observed.count().checked_sub(1) else { return };
        let start = clock(observed.start);
        let end = clock(observed.start.plus_seconds(last as f64 * observed.bucket_seconds));
        let place = |at: Timestamp| (at.seconds_since(start) / observed.bucket_seconds).round() as usize;
        self.ranges = observed
            .server
            .iter()
            .filter_map(|series| {
                let mut values = vec![f64::NAN; place(end) + 1];
                for (at, value) in values_of(series) {
                    if let Some(cell) = values.get_mut(place(clock(at))).filter(|_| at >= observed.start) {
                        *cell = value;
                    }
                }
                let (figure, object) = ServerFigure::of(series.measured, &series.object)?;
                let range = NormalRange::learn(&values, start, observed.bucket_seconds)?;
                Some(((figure, object.to_owned()), range))
            })
            .collect();
    }

    /// What is usual of each figure and object.
    pub fn ranges(&self) -> impl Iterator<Item = (ServerFigure, &str, &NormalRange)> {
        self.ranges.iter().map(|((figure, object), range)| (*figure, object.as_str(), range))
    }

    /// What is outside after the newest values. The first time, all that was seen of the last days is gone through.
    pub fn judge(&mut self, observed: &Observed, clock: impl Fn(Timestamp) -> Timestamp) -> Vec<Sign> {
        let mut signs = Vec::new();
        let judged_to = self.judged_to;
        for series in &observed.server {
            let Some((figure, object)) = ServerFigure::of(series.measured, &series.object) else { continue };
            let key = (figure, object.to_owned());
            let (Some(concern), Some(range)) = (concern(figure), self.ranges.get(&key)) else { continue };
            let going = self.going.entry(key).or_default();
            for (at, value) in values_of(series).filter(|(at, _)| judged_to.is_none_or(|to| *at > to)) {
                let usual = range.at(clock(at));
                let deviation =
                    if concern.matters(value, usual.middle) { range.deviation(clock(at), value) } else { 0.0 };
                going.outside.go_on(deviation, range.limit() * WELL_BEYOND);
                (going.newest, going.at) = (value, at);
                going.since = going.outside.side().and(going.since.or(Some(at)));
                self.judged_to = self.judged_to.max(Some(at));
            }
            if going.outside.side() == Some(concern.side) {
                signs.push(sign(figure, object, going, range.at(clock(going.at)), range.days()));
            }
        }
        signs
    }
}

fn values_of(series: &ServerSeries) -> impl Iterator<Item = (Timestamp, f64)> + '_ {
    series.values.iter().filter(|(.., over)| *over > 0.0).map(|(at, value, over)| (*at, value / over))
}

fn sign(figure: ServerFigure, object: &str, going: &Going, usual: Usual, days: f64) -> Sign {
    let text = format!(
        "{}: {}; usually {} to {} at this hour of the week.",
        figure.of_object(object),
        figure.told(going.newest),
        figure.told(usual.low),
        figure.told(usual.high)
    );
    let mut sign = figure.sign(object, Health::Look, text);
    sign.since = going.since;
    sign.facts = vec![
        Fact { what: "Usual at this hour".into(), value: figure.told(usual.middle) },
        Fact { what: "Learnt from".into(), value: format!("{} days", number(days.round())) },
    ];
    sign
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::lasting_change::Measured;
    use crate::findings::robust::SeededRng;

    const BUCKET: f64 = 600.0;

    fn observed(days: usize, value: impl Fn(usize) -> f64) -> Observed {
        let mut rng = SeededRng::new(3);
        let at = |bucket: usize| Timestamp(0).plus_seconds(bucket as f64 * BUCKET);
        let values = (0..days * 144).map(|bucket| (at(bucket), 100.0 * (value(bucket) + 0.2 * rng.normal()), 100.0));
        let load =
            ServerSeries { measured: Measured::Load, object: String::new(), counts: true, values: values.collect() };
        Observed { start: Timestamp(0), bucket_seconds: BUCKET, server: vec![load], ..Observed::default() }
    }

    #[test]
    fn what_is_usual_is_quiet_and_what_is_not_is_told_with_both() {
        let mut unusual = Unusual::default();
        unusual.learn(&observed(14, |_| 4.0), |at| at);
        assert_eq!(unusual.clone().judge(&observed(14, |_| 4.0), |at| at), []);
        let signs = unusual.judge(&observed(14, |bucket| if bucket > 14 * 144 - 10 { 12.0 } else { 4.0 }), |at| at);
        assert_eq!(signs.len(), 1);
        assert!(
            signs[0].text.starts_with("Busy sessions: 1") && signs[0].text.contains("usually"),
            "{}",
            signs[0].text
        );
        assert!(signs[0].since.is_some());
    }

    #[test]
    fn less_than_usual_or_hardly_more_is_no_trouble() {
        let mut unusual = Unusual::default();
        unusual.learn(&observed(14, |_| 4.0), |at| at);
        assert_eq!(unusual.clone().judge(&observed(14, |_| 0.0), |at| at), []);
        assert_eq!(unusual.clone().judge(&observed(14, |_| 5.5), |at| at), [], "two sessions more matter");
        assert_eq!(unusual.judge(&observed(14, |_| 6.6), |at| at), [], "where they are many more than usual");
    }
}
