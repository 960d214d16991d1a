//! A stand-in for a host exporter with a power meter: it tells of the machine that it runs on, and of the power
//! that a made-up meter would show for that load.

use std::collections::BTreeMap;
use std::fmt::Write;
use std::net::SocketAddr;
use std::sync::{Arc, Mutex, PoisonError};
use std::time::Instant;

use anyhow::{Context, Result};
use axum::Router;
use axum::extract::State;
use axum::http::header;
use axum::routing::get;
use hurnix_core::readings::metric::{Measure, Metric};
use hurnix_source::proc::{FILES, HostFigures};
use tokio::net::TcpListener;

/// Power of the made-up machine when idle, and more for each busy processor, in watts.
const IDLE_WATTS: f64 = 71.0;
const WATTS_PER_PROCESSOR: f64 = 34.0;

/// Kinds of processor time as the convention names them, in the order in which the kernel counts them in `/proc/stat`.
const MODES: [&str; 8] = ["user", "nice", "system", "idle", "iowait", "interrupt", "interrupt", "steal"];
/// Ticks of processor time in a second.
const TICKS_PER_SECOND: f64 = 100.0;

/// Processor time used when the meter was last read, with when that was.
type Last = Arc<Mutex<Option<(Instant, f64)>>>;

/// Serves `/metrics` on an address until the program stops; answers with the address once it listens.
pub async fn serve_meter(listen: SocketAddr) -> Result<(SocketAddr, impl Future<Output = Result<()>>)> {
    let listener = TcpListener::bind(listen).await.with_context(|| format!("listening on {listen}"))?;
    let address = listener.local_addr()?;
    let app = Router::new().route("/metrics", get(metrics)).with_state(Last::default());
    Ok((address, async move { Ok(axum::serve(listener, app).await?) }))
}

async fn metrics(State(last): State<Last>) -> ([(header::HeaderName, &'static str); 1], String) {
    let mut figures = HostFigures::default();
    let read = |file: &str| std::fs::read_to_string(format!("/proc/{file}")).unwrap_or_default();
    for file in FILES {
        figures.add(file, &read(file));
    }
    let body = exposition(&figures, &read("stat"), &last);
    ([(header::CONTENT_TYPE, "application/openmetrics-text; version=1.0.0; charset=utf-8")], body)
}

/// Seconds of each kind that each processor was in, by its number, from the file `/proc/stat`.
fn by_processor(stat: &str) -> impl Iterator<Item = (&str, BTreeMap<&'static str, f64>)> {
    stat.lines().filter_map(|line| {
        let mut words = line.strip_prefix("cpu")?.split(' ');
        let number = words.next().filter(|number| !number.is_empty())?;
        let mut seconds = BTreeMap::new();
        for (mode, ticks) in MODES.into_iter().zip(words) {
            *seconds.entry(mode).or_default() += ticks.parse::<f64>().ok()? / TICKS_PER_SECOND;
        }
        Some((number, seconds))
    })
}

/// The figures as OpenMetrics text.
fn exposition(figures: &HostFigures, stat: &str, last: &Last) -> String {
    let mut text = String::from("# TYPE system_cpu_time_seconds counter\n");
    let mut used = 0.0;
    for (number, modes) in by_processor(stat) {
        for (mode, seconds) in modes {
            if !matches!(mode, "idle" | "iowait" | "steal") {
                used += seconds;
            }
            let _ = writeln!(
                text,
                "system_cpu_time_seconds_total{{cpu_logical_number=\"{number}\",cpu_mode=\"{mode}\"}} {seconds}"
            );
        }
    }
    text += "# TYPE system_disk_io_bytes counter\n";
    for ((metric, device), counters) in &figures.counted {
        let direction = match metric {
            Metric::StorageRead => "read",
            Metric::StorageWritten => "write",
            _ => continue,
        };
        let bytes = counters.counted;
        let _ = writeln!(
            text,
            "system_disk_io_bytes_total{{system_device=\"{device}\",disk_io_direction=\"{direction}\"}} {bytes}"
        );
    }
    let of_devices = [
        (Metric::StorageBusy, "system_disk_io_time_seconds", 1e6),
        (Metric::StorageRequests, "system_disk_operations", 1.0),
        (Metric::StorageQueue, "system_disk_operation_time_seconds", 1e6),
    ];
    for (metric, name, counted_in) in of_devices {
        let _ = writeln!(text, "# TYPE {name} counter");
        for ((_, device), counters) in figures.counted.iter().filter(|((known, _), _)| *known == metric) {
            let value = counters.counted as f64 / counted_in;
            let _ = writeln!(text, "{name}_total{{system_device=\"{device}\"}} {value}");
        }
    }
    let gauges = [
        (Metric::Cpus, "system_cpu_logical_count"),
        (Metric::MemoryTotal, "system_memory_limit_bytes"),
        (Metric::MemoryAvailable, "system_linux_memory_available_bytes"),
    ];
    for Measure { metric, value, .. } in &figures.measures {
        if let Some((_, name)) = gauges.iter().find(|(known, _)| known == metric) {
            let _ = writeln!(text, "# TYPE {name} gauge\n{name} {value}");
        }
    }
    let _ = writeln!(
        text,
        "# TYPE system_boot_time_seconds gauge\nsystem_boot_time_seconds {}",
        figures.started_at_seconds
    );
    let watts = IDLE_WATTS + WATTS_PER_PROCESSOR * busy_since_last(last, used);
    let _ = writeln!(text, "# TYPE hw_power_watts gauge\nhw_power_watts{{hw_id=\"meter\"}} {watts:.1}");
    text + "# EOF\n"
}

/// Processors that were busy since the meter was last read; none on the first reading.
fn busy_since_last(last: &Last, used: f64) -> f64 {
    let now = Instant::now();
    let before = last.lock().unwrap_or_else(PoisonError::into_inner).replace((now, used));
    before.map_or(0.0, |(then, used_then)| {
        (used - used_then).max(0.0) / now.duration_since(then).as_secs_f64().max(0.001)
    })
}
