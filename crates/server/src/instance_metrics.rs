//! What Hurnix tells of one instance, in the OpenMetrics text format.

use std::sync::atomic::AtomicU64;

use hurnix_core::findings::health::Health;
use hurnix_core::readings::load::Load;
use hurnix_core::readings::metric::Unit as Measured;
use hurnix_core::{Named, Timestamp, WaitKind};
use hurnix_store::NewestMeasure;
use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::registry::{Registry, Unit};

type Gauges<L> = Family<L, Gauge<f64, AtomicU64>>;

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfObject {
    object: String,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfHealth {
    health: &'static str,
}

#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
struct OfKind {
    wait_kind: &'static str,
}

/// What there is to tell of an instance.
#[derive(Debug)]
pub struct Told {
    /// Its label.
    pub label: String,
    /// Whether figures arrive.
    pub is_collected: bool,
    /// When they last arrived.
    pub last_success_at: Option<Timestamp>,
    /// How it is.
    pub health: Health,
    /// Its load lately; nothing where it was not looked at.
    pub load: Option<Load>,
    /// The newest value of every metric of every object.
    pub newest: Vec<NewestMeasure>,
}

fn unit(measured: Measured) -> Option<Unit> {
    match measured {
        Measured::Count => None,
        Measured::Bytes => Some(Unit::Bytes),
        Measured::Seconds => Some(Unit::Seconds),
        Measured::Share => Some(Unit::Other("ratio".into())),
        other => Some(Unit::Other(other.name().into())),
    }
}

/// A text as the format has it between quotes: the encoder writes what it is given, and names of a watched
/// server may hold anything.
fn escaped(text: &str) -> String {
    text.replace('\\', "\\\\").replace('"', "\\\"").replace('\n', "\\n")
}

/// All of it as text.
pub fn text(told: &Told) -> String {
    let labels = [("server".into(), escaped(&told.label).into())];
    let mut registry = Registry::with_prefix_and_labels("hurnix_instance", labels.into_iter());
    let up = Gauge::<i64>::default();
    up.set(i64::from(told.is_collected));
    registry.register("up", "1 while figures arrive", up);
    let health: Family<OfHealth, Gauge> = Family::default();
    for one in Health::all() {
        health.get_or_create(&OfHealth { health: one.name() }).set(i64::from(one == told.health));
    }
    registry.register("health", "1 for how it is, 0 for what it is not", health);
    if let Some(at) = told.last_success_at {
        let last = Gauge::<f64, AtomicU64>::default();
        last.set(at.0 as f64 / 1e6);
        registry.register_with_unit("last_figures_timestamp", "When figures last arrived", Unit::Seconds, last);
    }
    if let Some(load) = &told.load {
        let busy: Gauges<OfKind> = Family::default();
        for kind in WaitKind::ALL {
            busy.get_or_create(&OfKind { wait_kind: kind.name() }).set(load.mean(kind).unwrap_or_default());
        }
        registry.register(
            "load",
            "Busy sessions in the last minute, on average, by what they spend their time on",
            busy,
        );
    }
    for of_metric in told.newest.chunk_by(|one, next| one.metric == next.metric) {
        let metric = of_metric[0].metric;
        let values: Gauges<OfObject> = Family::default();
        for value in of_metric {
            values.get_or_create(&OfObject { object: escaped(&value.object) }).set(value.value);
        }
        // The format ends each description by itself.
        let meaning = metric.meaning().trim_end_matches('.');
        match unit(metric.unit()) {
            Some(unit) => registry.register_with_unit(metric.name(), meaning, unit, values),
            None => registry.register(metric.name(), meaning, values),
        }
    }
    let mut text = String::new();
    // Writing to a text does not fail.
    let _ = encode(&mut text, &registry);
    text
}

#[cfg(test)]
mod tests {
    use hurnix_core::readings::metric::Metric;

    use super::*;

    #[test]
    fn names_carry_units_and_objects_are_quoted() {
        let newest =
            |metric, object: &str, value| NewestMeasure { metric, object: object.into(), at: Timestamp(0), value };
        let mut load = Load { samples: 4, ..Load::default() };
        load.busy[WaitKind::Lock.position()] = 6;
        let told = Told {
            label: "passage \"a\"".into(),
            is_collected: true,
            health: Health::Look,
            last_success_at: Some(Timestamp(1_500_000)),
            load: Some(load),
            newest: vec![
                newest(Metric::Connections, "active", 3.0),
                newest(Metric::DatabaseSize, "ferry\n\"x\"", 8192.0),
                newest(Metric::DatabaseSize, "crew", 1.0),
                newest(Metric::SequenceUsed, "s", 0.5),
            ],
        };
        let text = text(&told);
        for line in [
            "hurnix_instance_up{server=\"passage \\\"a\\\"\"} 1",
            "hurnix_instance_health{server=\"passage \\\"a\\\"\",health=\"look\"} 1",
            "hurnix_instance_last_figures_timestamp_seconds{server=\"passage \\\"a\\\"\"} 1.5",
            "hurnix_instance_load{server=\"passage \\\"a\\\"\",wait_kind=\"lock\"} 1.5",
            "hurnix_instance_connections{server=\"passage \\\"a\\\"\",object=\"active\"} 3.0",
            "hurnix_instance_database_size_bytes{server=\"passage \\\"a\\\"\",object=\"ferry\\n\\\"x\\\"\"} 8192.0",
            "hurnix_instance_sequence_used_ratio{server=\"passage \\\"a\\\"\",object=\"s\"} 0.5",
            "# EOF",
        ] {
            assert!(text.lines().any(|known| known == line), "{line} in {text}");
        }
    }
}
