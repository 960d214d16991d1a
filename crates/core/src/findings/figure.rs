//! The figures of a server that are followed over time, whatever they are read from: one list for usual ranges,
//! thresholds and pages.

use crate::findings::alarm::{FigureOf, Sign, Trouble};
use crate::findings::first_look::Page;
use crate::findings::health::Health;
use crate::findings::lasting_change::{Measured, Subject};
use crate::findings::ratio::{RATIOS, Ratio};
use crate::named::Named;
use crate::readings::counters::{Counters, DatabaseCounters};
use crate::readings::metric::{Metric, Unit};
use crate::readings::wait_kind::WaitKind;
use crate::wording::{bytes, number, percent, seconds};

/// What a name of busy sessions by kind of wait begins with.
const WAITS: &str = "wait_";

/// A figure of a server. Metrics are of several objects each: of every volume, replica, table …
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum ServerFigure {
    /// Busy sessions.
    Load,
    /// Sessions running, or waiting for one kind of thing.
    Waits(WaitKind),
    /// What its databases counted, all of them together, by the second; by the name of the counter.
    Counted(&'static str),
    /// A ratio of others.
    Ratio(&'static Ratio),
    /// A metric.
    Metric(Metric),
}

impl ServerFigure {
    /// All of them, in the order in which they are shown.
    pub fn all() -> Vec<ServerFigure> {
        let counted = DatabaseCounters::NAMES.iter().copied().map(ServerFigure::Counted);
        let waits = WaitKind::ALL.into_iter().map(ServerFigure::Waits);
        std::iter::once(ServerFigure::Load)
            .chain(waits)
            .chain(counted)
            .chain(RATIOS.iter().map(ServerFigure::Ratio))
            .chain(Metric::all().map(ServerFigure::Metric))
            .collect()
    }

    /// The figure of that name.
    pub fn named(name: &str) -> Option<ServerFigure> {
        ServerFigure::all().into_iter().find(|figure| figure.name() == name)
    }

    /// The figure that a series of a server is of, and its object, which is empty for the server as a whole.
    pub fn of(measured: Measured, object: &str) -> Option<(ServerFigure, &str)> {
        match measured {
            Measured::Load => Some((ServerFigure::Load, "")),
            Measured::Waits => WaitKind::named(object).map(|kind| (ServerFigure::Waits(kind), "")),
            Measured::Metric => {
                let (name, of) = object.split_once(' ').unwrap_or((object, ""));
                let metric = Metric::named(name).map(|metric| (ServerFigure::Metric(metric), of));
                let ratio = || Ratio::named(name).map(|ratio| (ServerFigure::Ratio(ratio), of));
                metric.or_else(ratio).or_else(|| {
                    let counted = DatabaseCounters::NAMES.iter().find(|counter| counted_as(counter) == object)?;
                    Some((ServerFigure::Counted(counted), ""))
                })
            }
            Measured::TimePerCall | Measured::Calls | Measured::RowsPerCall | Measured::PagesPerCall => None,
        }
    }

    /// Its name in the repository and the API.
    pub fn name(self) -> String {
        match self {
            ServerFigure::Load => "load".into(),
            ServerFigure::Waits(kind) => format!("{WAITS}{}", kind.name()),
            ServerFigure::Counted(counter) => counted_as(counter),
            ServerFigure::Ratio(ratio) => ratio.name.into(),
            ServerFigure::Metric(metric) => metric.name().into(),
        }
    }

    /// Its name for people.
    pub fn title(self) -> String {
        match self {
            ServerFigure::Load => "Busy sessions".into(),
            ServerFigure::Waits(WaitKind::Running) => "Running sessions".into(),
            ServerFigure::Waits(kind) => format!("Sessions waiting for {}", kind.name().replace('_', " ")),
            ServerFigure::Ratio(ratio) => ratio.title.into(),
            ServerFigure::Counted("sessions") => "New sessions".into(),
            ServerFigure::Metric(Metric::ConnectionsKept) => "Connections open for more than a minute".into(),
            ServerFigure::Metric(Metric::CpuUsed) => "CPU used".into(),
            ServerFigure::Metric(Metric::CpuByCore) => "CPU used by processor".into(),
            ServerFigure::Metric(Metric::CpuOfServer) => "CPU used by this server".into(),
            ServerFigure::Metric(Metric::ConnectTime) => "Time to connect".into(),
            ServerFigure::Metric(Metric::LogWritten) => "WAL written".into(),
            ServerFigure::Metric(Metric::LogArchived) => "WAL files archived".into(),
            ServerFigure::Metric(Metric::LogArchiveFailed) => "Failed attempts to archive WAL".into(),
            ServerFigure::Metric(Metric::LogArchivedAgo) => "Time since WAL was archived".into(),
            ServerFigure::Metric(Metric::SlotKept) => "WAL kept for slot".into(),
            ServerFigure::Counted(_) | ServerFigure::Metric(_) => {
                let words = self.name().replace('_', " ");
                let mut letters = words.chars();
                letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
            }
        }
    }

    /// What it means, in a sentence that also says what its objects are.
    pub fn meaning(self) -> &'static str {
        match self {
            ServerFigure::Load => "Mean number of sessions that run or wait at a moment.",
            ServerFigure::Waits(WaitKind::Running) => "Mean number of sessions that run at a moment, without waiting.",
            ServerFigure::Waits(_) => "Mean number of sessions that wait for this kind of thing at a moment.",
            ServerFigure::Counted(_) => "What all databases of the server counted, by the second.",
            ServerFigure::Ratio(ratio) => ratio.meaning,
            ServerFigure::Metric(metric) => metric.meaning(),
        }
    }

    /// What it is measured in.
    pub fn unit(self) -> Unit {
        match self {
            ServerFigure::Load | ServerFigure::Waits(_) => Unit::Count,
            ServerFigure::Metric(metric) => metric.unit(),
            ServerFigure::Ratio(ratio) => ratio.unit,
            ServerFigure::Counted(_) => Subject { family: None, measured: Measured::Metric, object: self.name() }
                .unit()
                .unwrap_or(Unit::PerSecond),
        }
    }

    /// What it is a sign of where it is too high, or too low.
    pub fn trouble(self) -> Trouble {
        use Metric::*;
        match self {
            ServerFigure::Waits(WaitKind::Lock) | ServerFigure::Metric(LocksAwaited) => Trouble::LockWaits,
            ServerFigure::Counted("sessions") => Trouble::Connections,
            ServerFigure::Counted("temp_bytes" | "temp_files") => Trouble::TempFiles,
            ServerFigure::Counted("deadlocks") => Trouble::Deadlocks,
            ServerFigure::Metric(metric) => match metric {
                Connections | ConnectionsKept => Trouble::Connections,
                OldestTransaction => Trouble::OldTransaction,
                PreparedTransactions | OldestPrepared => Trouble::PreparedTransaction,
                ClockOffset => Trouble::Clock,
                TransactionAge | MultixactAge | TableAge | TableMultixactAge | OldestMultixact => {
                    Trouble::TransactionIds
                }
                SequenceUsed => Trouble::Sequence,
                LogArchiveFailed | LogArchivedAgo => Trouble::Backups,
                ReplicaLagBytes | ReplicaLag | ReplayLag | ReplicasConnected => Trouble::Replication,
                SlotKept | SlotActive => Trouble::Slot,
                DeadRows | VacuumedAgo => Trouble::DeadRows,
                AnalyzedAgo | RowsSinceAnalyze => Trouble::PlannerStatistics,
                MemoryAvailable | SwapUsed => Trouble::Memory,
                VolumeFree => Trouble::Volume,
                _ => Trouble::Unusual,
            },
            ServerFigure::Load | ServerFigure::Waits(_) | ServerFigure::Counted(_) | ServerFigure::Ratio(_) => {
                Trouble::Unusual
            }
        }
    }

    /// Its name for people, with that of an object.
    pub fn of_object(self, object: &str) -> String {
        [self.title().as_str(), object].join(" ").trim_end().to_owned()
    }

    /// That it is as it should not be, of an object: one alarm with what the checks of the first look call the same.
    pub(crate) fn sign(self, object: &str, verdict: Health, text: String) -> Sign {
        let trouble = self.trouble();
        let of = match trouble {
            Trouble::LockWaits | Trouble::Deadlocks => String::new(),
            Trouble::Volume | Trouble::DeadRows | Trouble::OldTransaction | Trouble::Slot | Trouble::Sequence => {
                object.into()
            }
            _ => self.of_object(object),
        };
        let mut sign = Sign::new(trouble, of, verdict, text);
        sign.step = "See what else moved at that time, and which statements and sessions it comes from.".into();
        sign.page = Some(Page::Resources);
        sign.figure = Some(FigureOf { figure: self.name(), object: object.into() });
        sign
    }

    /// The figures that show a trouble over time, and their object, which is empty where all are meant: the one that told
    /// it, or else those that go with a trouble of its kind.
    pub fn shown_with(sign: &Sign) -> (Vec<ServerFigure>, String) {
        if let Some(of) = &sign.figure {
            return (ServerFigure::named(&of.figure).into_iter().collect(), of.object.clone());
        }
        let whole = |figure| (vec![figure], String::new());
        let metric = |metric| (vec![ServerFigure::Metric(metric)], sign.object.clone());
        match sign.trouble {
            Trouble::HoldUp | Trouble::LockWaits => whole(ServerFigure::Waits(WaitKind::Lock)),
            Trouble::SlowServer | Trouble::MoreLoad => whole(ServerFigure::Load),
            Trouble::Deadlocks => whole(ServerFigure::Counted("deadlocks")),
            Trouble::TempFiles => whole(ServerFigure::Counted("temp_bytes")),
            Trouble::Connections => {
                (vec![ServerFigure::Counted("sessions"), ServerFigure::Metric(Metric::Connections)], String::new())
            }
            Trouble::Volume => metric(Metric::VolumeFree),
            Trouble::TransactionIds => metric(Metric::TransactionAge),
            Trouble::Sequence => metric(Metric::SequenceUsed),
            Trouble::Slot => metric(Metric::SlotKept),
            Trouble::Replication => metric(Metric::ReplicaLag),
            Trouble::DeadRows => metric(Metric::DeadRows),
            _ => (Vec::new(), String::new()),
        }
    }

    /// A value of it with its unit.
    pub fn told(self, value: f64) -> String {
        match self.unit() {
            Unit::Bytes => bytes(value),
            Unit::BytesPerSecond => format!("{}/s", bytes(value)),
            Unit::Seconds => seconds(value),
            Unit::Share => percent(value),
            Unit::PerSecond => format!("{}/s", number(value)),
            Unit::Cores => format!("{} cores", number(value)),
            Unit::Watts => format!("{} W", number(value)),
            Unit::Count => number(value),
        }
    }
}

/// What is counted as it is told: times are counted in microseconds and told in seconds by the second.
fn counted_as(counter: &str) -> String {
    counter.replace("_us", "_time")
}

#[cfg(test)]
mod tests {
    use std::collections::HashSet;

    use super::*;

    #[test]
    fn names_are_given_once_and_lead_back() {
        let all = ServerFigure::all();
        let names: HashSet<String> = all.iter().map(|figure| figure.name()).collect();
        assert_eq!(names.len(), all.len());
        for figure in all {
            assert_eq!(ServerFigure::named(&figure.name()), Some(figure));
        }
        assert_eq!(ServerFigure::named("nothing"), None);
    }

    #[test]
    fn a_series_is_of_a_figure_and_an_object() {
        let of = |object| ServerFigure::of(Measured::Metric, object);
        assert_eq!(of("volume_free /data"), Some((ServerFigure::Metric(Metric::VolumeFree), "/data")));
        assert_eq!(of("active_time"), Some((ServerFigure::Counted("active_us"), "")));
        assert_eq!(ServerFigure::of(Measured::Waits, "lock"), Some((ServerFigure::Waits(WaitKind::Lock), "")));
        assert_eq!(of("nothing"), None);
    }

    #[test]
    fn a_trouble_is_shown_with_the_figure_that_told_it_or_goes_with_it() {
        let told = ServerFigure::Metric(Metric::CpuUsed).sign("", Health::Look, "Much.".into());
        assert_eq!(ServerFigure::shown_with(&told), (vec![ServerFigure::Metric(Metric::CpuUsed)], String::new()));
        let of = |trouble, object: &str| ServerFigure::shown_with(&Sign::new(trouble, object, Health::Act, "Bad."));
        assert_eq!(of(Trouble::Volume, "/data"), (vec![ServerFigure::Metric(Metric::VolumeFree)], "/data".into()));
        assert_eq!(of(Trouble::HoldUp, "4711"), (vec![ServerFigure::Waits(WaitKind::Lock)], String::new()));
        assert_eq!(of(Trouble::Security, "").0, []);
    }

    #[test]
    fn values_are_told_in_their_unit() {
        let told = |name: &str, value: f64| ServerFigure::named(name).unwrap().told(value);
        assert_eq!(told("storage_busy", 0.5), percent(0.5));
        assert_eq!(told("temp_bytes", 2048.0), format!("{}/s", bytes(2048.0)));
        assert_eq!(ServerFigure::named("wait_lock").unwrap().title(), "Sessions waiting for lock");
    }
}
