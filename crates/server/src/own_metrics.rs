//! What Hurnix tells of itself at `/metrics`, in the OpenMetrics text format.

use hurnix_core::instance::collection_state::CollectionState;
use std::sync::Arc;
use std::sync::atomic::AtomicU64;
use std::time::Duration;

use hurnix_core::Named;
use hurnix_core::findings::health::Health;
use hurnix_core::readings::figures::{Figures, Tally};
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};
use strum::IntoStaticStr;

/// The content type of the format.
pub const CONTENT_TYPE: &str = "application/openmetrics-text; version=1.0.0; charset=utf-8";

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfFigures {
    figures: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfReadings {
    figures: &'static str,
    outcome: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfState {
    collection: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfHealth {
    health: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfLook {
    over: &'static str,
}

/// Over how much of its history an instance was judged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr)]
#[strum(serialize_all = "snake_case")]
pub enum JudgedOver {
    /// The last days, with each bucket that ended.
    LastDays,
    /// All that is kept.
    History,
}

/// Counts of this process, and the metrics made of them.
#[derive(Debug, Clone)]
pub struct OwnMetrics {
    registry: Arc<Registry>,
    readings: Family<OfReadings, Counter>,
    read_seconds: Family<OfFigures, Counter<f64, AtomicU64>>,
    read_bytes: Family<OfFigures, Counter>,
    judged: Family<OfLook, Counter>,
    judged_seconds: Family<OfLook, Counter<f64, AtomicU64>>,
    instances: Family<OfState, Gauge>,
    healths: Family<OfHealth, Gauge>,
    held: Gauge,
    waiting_bytes: Gauge,
    repository_up: Gauge,
    resident_memory: Gauge,
}

impl OwnMetrics {
    /// Nothing counted yet.
    pub fn new() -> OwnMetrics {
        let mut registry = Registry::with_prefix("hurnix");
        let (readings, read_seconds, read_bytes) = (Family::default(), Family::default(), Family::default());
        let (judged, judged_seconds) = (Family::default(), Family::default());
        let (instances, held, waiting_bytes, repository_up, resident_memory) =
            (Family::default(), Gauge::default(), Gauge::default(), Gauge::default(), Gauge::default());
        registry.register_with_unit(
            "resident_memory",
            "Memory that this process takes of the machine",
            Unit::Bytes,
            resident_memory.clone(),
        );
        registry.register(
            "readings",
            "Readings that were due, by kind of figures and outcome: read, refused, missed, dropped",
            readings.clone(),
        );
        registry.register_with_unit(
            "read",
            "Time that watched servers took to answer",
            Unit::Seconds,
            read_seconds.clone(),
        );
        registry.register_with_unit("read_size", "What was read", Unit::Bytes, read_bytes.clone());
        registry.register(
            "judged",
            "Looks for lasting changes of an instance, by how much of its history",
            judged.clone(),
        );
        registry.register_with_unit(
            "judged",
            "Time that looking for lasting changes took, reading and writing included",
            Unit::Seconds,
            judged_seconds.clone(),
        );
        registry.register("instances", "Instances, by how collection stands", instances.clone());
        let healths: Family<OfHealth, Gauge> = Family::default();
        registry.register("instances_by_health", "Instances, by how they are", healths.clone());
        registry.register("instances_held", "Instances that this process collects", held.clone());
        registry.register_with_unit(
            "waiting",
            "What was read and is not written yet",
            Unit::Bytes,
            waiting_bytes.clone(),
        );
        registry.register("repository_up", "1 while the repository answers", repository_up.clone());
        OwnMetrics {
            registry: Arc::new(registry),
            readings,
            read_seconds,
            read_bytes,
            judged,
            judged_seconds,
            instances,
            healths,
            held,
            waiting_bytes,
            repository_up,
            resident_memory,
        }
    }

    /// Counts how reading went.
    pub fn count(&self, figures: Figures, tally: &Tally) {
        let figures = figures.name();
        for (outcome, count) in
            [("read", tally.read), ("refused", tally.refused), ("missed", tally.missed), ("dropped", tally.dropped)]
        {
            if count > 0 {
                self.readings.get_or_create(&OfReadings { figures, outcome }).inc_by(count as u64);
            }
        }
        self.read_seconds.get_or_create(&OfFigures { figures }).inc_by(tally.read_us.max(0) as f64 / 1e6);
        self.read_bytes.get_or_create(&OfFigures { figures }).inc_by(tally.bytes.max(0) as u64);
    }

    /// Counts a look for lasting changes that took so long.
    pub fn count_look(&self, over: JudgedOver, took: Duration) {
        let over = over.into();
        self.judged.get_or_create(&OfLook { over }).inc();
        self.judged_seconds.get_or_create(&OfLook { over }).inc_by(took.as_secs_f64());
    }

    /// Notes what is held in memory until it is written, in bytes.
    pub fn note_waiting(&self, bytes: usize) {
        self.waiting_bytes.set(bytes as i64);
    }

    /// Notes how collection stands: (state, instances), and how many this process holds. Without them, the
    /// repository does not answer.
    pub fn note_instances(&self, by_state: Option<&[(CollectionState, i64)]>, held: Option<i64>) {
        self.repository_up.set(i64::from(by_state.is_some()));
        if let Some(by_state) = by_state {
            self.instances.clear();
            for (collection, count) in by_state {
                self.instances.get_or_create(&OfState { collection: collection.name().to_owned() }).set(*count);
            }
        }
        if let Some(held) = held {
            self.held.set(held);
        }
    }

    /// Notes how instances are; nothing where the repository does not answer.
    pub fn note_healths(&self, healths: &[Health]) {
        for health in Health::all() {
            let count = healths.iter().filter(|one| **one == health).count();
            self.healths.get_or_create(&OfHealth { health: health.name() }).set(count as i64);
        }
    }

    /// All of it as text.
    pub fn text(&self) -> String {
        self.resident_memory.set(resident_bytes().unwrap_or_default());
        let mut text = String::new();
        // Writing to a text does not fail.
        let _ = encode(&mut text, &self.registry);
        text
    }
}

/// Memory that this process takes of the machine, as the kernel tells it.
fn resident_bytes() -> Option<i64> {
    let status = std::fs::read_to_string("/proc/self/status").ok()?;
    let line = status.lines().find_map(|line| line.strip_prefix("VmRSS:"))?;
    line.split_whitespace().next()?.parse::<i64>().ok().map(|kilobytes| kilobytes * 1024)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_was_counted_is_told() {
        let own = OwnMetrics::new();
        own.count(
            Figures::Statements,
            &Tally { read: 2, missed: 1, read_us: 1_500_000, bytes: 70, ..Tally::default() },
        );
        own.count(Figures::Statements, &Tally { read: 1, ..Tally::default() });
        own.count_look(JudgedOver::LastDays, Duration::from_millis(250));
        own.note_instances(Some(&[(CollectionState::Collecting, 3)]), Some(2));
        own.note_healths(&[Health::Act, Health::Quiet, Health::Quiet]);
        let text = own.text();
        for line in [
            "hurnix_readings_total{figures=\"statements\",outcome=\"read\"} 3",
            "hurnix_readings_total{figures=\"statements\",outcome=\"missed\"} 1",
            "hurnix_read_seconds_total{figures=\"statements\"} 1.5",
            "hurnix_judged_total{over=\"last_days\"} 1",
            "hurnix_judged_seconds_total{over=\"last_days\"} 0.25",
            "hurnix_instances{collection=\"collecting\"} 3",
            "hurnix_instances_by_health{health=\"act\"} 1",
            "hurnix_instances_by_health{health=\"quiet\"} 2",
            "hurnix_instances_by_health{health=\"look\"} 0",
            "hurnix_instances_held 2",
            "hurnix_repository_up 1",
            "# EOF",
        ] {
            assert!(text.lines().any(|known| known == line), "{line} in {text}");
        }
        own.note_instances(None, None);
        assert!(own.text().contains("hurnix_repository_up 0"));
    }
}
