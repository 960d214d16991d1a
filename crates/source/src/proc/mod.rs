//! What a Linux kernel tells of its host in the files of `/proc`, turned into single figures.

mod process;

use hurnix_core::readings::counters::MeasureCounters;
use hurnix_core::readings::metric::{Measure, Metric};
use hurnix_core::time::MICROS_PER_SECOND;

pub use process::process;

/// Files below `/proc` that are read.
pub const FILES: [&str; 4] = ["stat", "meminfo", "diskstats", "net/dev"];

/// Ticks of processor time in a second: fixed in the kernel's interface, whatever its own clock does.
const TICKS_PER_SECOND: i64 = 100;
/// The kernel counts storage in sectors of this size, whatever the device's own is.
const SECTOR_BYTES: i64 = 512;

/// Figures of the host.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct HostFigures {
    /// When the host was started, in seconds since the epoch; zero when not told.
    pub started_at_seconds: i64,
    /// As they stand.
    pub measures: Vec<Measure>,
    /// As far as they were counted up since the start.
    pub counted: Vec<((Metric, String), MeasureCounters)>,
}

impl HostFigures {
    fn stands(&mut self, metric: Metric, value: f64) {
        self.measures.push(Measure { metric, object: String::new(), value });
    }

    fn counts(&mut self, metric: Metric, object: &str, counted: i64) {
        self.counted.push(((metric, object.to_owned()), MeasureCounters { counted }));
    }

    /// Adds what one of [`FILES`] tells. Lines that are not what they should be are passed over.
    pub fn add(&mut self, file: &str, text: &str) {
        match file {
            "stat" => self.add_stat(text),
            "meminfo" => self.add_memory(text),
            "diskstats" => self.add_storage(text),
            "net/dev" => self.add_network(text),
            _ => {}
        }
    }

    fn add_stat(&mut self, text: &str) {
        let mut processors = 0_u32;
        for line in text.lines() {
            let mut words = line.split_ascii_whitespace();
            let Some(name) = words.next() else { continue };
            if name == "btime" {
                self.started_at_seconds = words.next().and_then(|word| word.parse().ok()).unwrap_or(0);
            }
            let Some(number) = name.strip_prefix("cpu") else { continue };
            let ticks: Vec<i64> = words.filter_map(|word| word.parse().ok()).collect();
            let of = |kinds: &[usize]| -> i64 {
                let ticks: i64 = kinds.iter().filter_map(|kind| ticks.get(*kind)).sum();
                ticks * (MICROS_PER_SECOND / TICKS_PER_SECOND)
            };
            if number.is_empty() {
                self.counts(Metric::CpuUsed, "user", of(&[0, 1]));
                self.counts(Metric::CpuUsed, "system", of(&[2, 5, 6]));
                self.counts(Metric::CpuUsed, "waiting for storage", of(&[4]));
                self.counts(Metric::CpuUsed, "taken by others", of(&[7]));
            } else if number.bytes().all(|byte| byte.is_ascii_digit()) {
                processors += 1;
                self.counts(Metric::CpuByCore, number, of(&[0, 1, 2, 5, 6]));
            }
        }
        self.stands(Metric::Cpus, f64::from(processors));
    }

    fn add_memory(&mut self, text: &str) {
        let bytes = |name: &str| {
            let line = text.lines().find_map(|line| line.strip_prefix(name)?.strip_prefix(':'))?;
            let kilobytes: f64 = line.split_ascii_whitespace().next()?.parse().ok()?;
            Some(kilobytes * 1024.0)
        };
        if let Some(total) = bytes("MemTotal") {
            self.stands(Metric::MemoryTotal, total);
        }
        if let Some(available) = bytes("MemAvailable") {
            self.stands(Metric::MemoryAvailable, available);
        }
        if let (Some(total), Some(free)) = (bytes("SwapTotal"), bytes("SwapFree")) {
            self.stands(Metric::SwapUsed, total - free);
        }
    }

    fn add_storage(&mut self, text: &str) {
        let lines: Vec<Vec<&str>> = text.lines().map(|line| line.split_ascii_whitespace().collect()).collect();
        let names: Vec<&str> = lines.iter().filter_map(|words| words.get(2).copied()).collect();
        for words in &lines {
            let Some(name) = words.get(2) else { continue };
            let number = |position: usize| words.get(position).and_then(|word| word.parse::<i64>().ok());
            let sum = |one: usize, other: usize| number(one).zip(number(other)).map(|(one, other)| one + other);
            let (Some(read), Some(written), Some(busy_ms)) = (number(5), number(9), number(12)) else { continue };
            let (Some(requests), Some(spent_ms)) = (sum(3, 7), sum(6, 10)) else { continue };
            let is_made_up = ["loop", "ram", "zram", "sr", "fd"].iter().any(|start| name.starts_with(start));
            if is_made_up || is_part_of_another(name, &names) {
                continue;
            }
            self.counts(Metric::StorageRead, name, read * SECTOR_BYTES);
            self.counts(Metric::StorageWritten, name, written * SECTOR_BYTES);
            self.counts(Metric::StorageBusy, name, busy_ms * 1000);
            self.counts(Metric::StorageRequests, name, requests);
            self.counts(Metric::StorageQueue, name, spent_ms * 1000);
        }
    }

    fn add_network(&mut self, text: &str) {
        for line in text.lines() {
            let Some((name, figures)) = line.split_once(':') else { continue };
            let figures: Vec<i64> = figures.split_ascii_whitespace().filter_map(|word| word.parse().ok()).collect();
            if let (Some(received), Some(sent), false) = (figures.first(), figures.get(8), name.trim() == "lo") {
                self.counts(Metric::NetworkReceived, name.trim(), *received);
                self.counts(Metric::NetworkSent, name.trim(), *sent);
            }
        }
    }
}

/// Whether a device is a partition of another one: its name is that one's with a number behind it.
fn is_part_of_another(name: &str, names: &[&str]) -> bool {
    names.iter().filter(|other| **other != name).any(|other| {
        name.strip_prefix(other).is_some_and(|rest| {
            let digits =
                if other.ends_with(|last: char| last.is_ascii_digit()) { rest.strip_prefix('p') } else { Some(rest) };
            digits.is_some_and(|digits| !digits.is_empty() && digits.bytes().all(|byte| byte.is_ascii_digit()))
        })
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn figures(file: &str, text: &str) -> HostFigures {
        let mut figures = HostFigures::default();
        figures.add(file, text);
        figures
    }

    fn counted(figures: &HostFigures, metric: Metric, object: &str) -> Option<i64> {
        let found = figures.counted.iter().find(|((known, of), _)| *known == metric && of == object);
        found.map(|(_, counters)| counters.counted)
    }

    #[test]
    fn processor_time_is_told_by_what_it_went_into() {
        let text = "cpu  100 20 30 4000 50 6 7 80 0 0\ncpu0 50 10 15 2000 25 3 3 40 0 0\ncpu1 50 10 15 2000 25 3 4 40 0 0\nintr 5\nbtime 1700000000\n";
        let figures = figures("stat", text);
        assert_eq!(figures.started_at_seconds, 1_700_000_000);
        assert_eq!(figures.measures, [Measure { metric: Metric::Cpus, object: String::new(), value: 2.0 }]);
        assert_eq!(counted(&figures, Metric::CpuUsed, "user"), Some(1_200_000));
        assert_eq!(counted(&figures, Metric::CpuUsed, "system"), Some(430_000));
        assert_eq!(counted(&figures, Metric::CpuUsed, "taken by others"), Some(800_000));
        assert_eq!(counted(&figures, Metric::CpuByCore, "0"), Some((50 + 10 + 15 + 3 + 3) * 10_000));
        assert_eq!(counted(&figures, Metric::CpuByCore, "1"), Some((50 + 10 + 15 + 3 + 4) * 10_000));
    }

    #[test]
    fn devices_are_counted_once_and_not_again_by_their_partitions() {
        let line = |name: &str| format!("   8  0 {name} 10 0 2000 5 20 0 4000 6 0 700 11\n");
        let text: String = ["sda", "sda1", "nvme0n1", "nvme0n1p2", "loop0", "dm-0", "dm-01"].map(line).concat();
        let figures = figures("diskstats", &text);
        let devices: Vec<&str> = figures
            .counted
            .iter()
            .filter(|((metric, _), _)| *metric == Metric::StorageRead)
            .map(|((_, of), _)| of.as_str())
            .collect();
        assert_eq!(devices, ["sda", "nvme0n1", "dm-0", "dm-01"]);
        assert_eq!(counted(&figures, Metric::StorageRead, "sda"), Some(2000 * 512));
        assert_eq!(counted(&figures, Metric::StorageBusy, "sda"), Some(700_000));
        assert_eq!(counted(&figures, Metric::StorageRequests, "sda"), Some(10 + 20));
        assert_eq!(counted(&figures, Metric::StorageQueue, "sda"), Some((5 + 6) * 1000));
    }

    #[test]
    fn memory_and_network_are_in_bytes() {
        let memory =
            figures("meminfo", "MemTotal:  1000 kB\nMemAvailable: 400 kB\nSwapTotal: 50 kB\nSwapFree: 20 kB\n");
        let values: Vec<f64> = memory.measures.iter().map(|measure| measure.value).collect();
        assert_eq!(values, [1_024_000.0, 409_600.0, 30.0 * 1024.0]);
        let network = figures(
            "net/dev",
            "Inter-|   Receive\n face |bytes\n    lo: 5 0 0 0 0 0 0 0 5 0\n  eth0: 77 1 0 0 0 0 0 0 88 2\n",
        );
        assert_eq!(counted(&network, Metric::NetworkReceived, "eth0"), Some(77));
        assert_eq!(counted(&network, Metric::NetworkSent, "eth0"), Some(88));
        assert_eq!(counted(&network, Metric::NetworkSent, "lo"), None);
    }

    #[test]
    fn what_is_not_what_it_should_be_is_passed_over() {
        for file in FILES {
            let figures = figures(file, "garbage: \u{202e} not 12 numbers\n\n:\n");
            assert!(figures.counted.is_empty(), "{file}: {figures:?}");
        }
    }
}
