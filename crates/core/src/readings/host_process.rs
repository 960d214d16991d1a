//! Processes of a host, as its kernel counts their processor time.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use crate::time::MICROS_PER_SECOND;

/// A process of a host as it stands.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HostProcess {
    /// Its number.
    pub process: i32,
    /// The number of the one that started it.
    pub parent: i32,
    /// What it calls itself, as far as the kernel keeps it: fifteen letters.
    pub name: String,
    /// When it began, in the kernel's ticks since the host was started: two of one number differ in it.
    pub began: i64,
    /// Processor time that it has used, in microseconds.
    pub cpu_us: i64,
    /// Processor time of processes that it started and that have ended, in microseconds.
    pub ended_us: i64,
    /// Memory that it has in use, in bytes, what it shares with others counted in full.
    pub memory_bytes: i64,
}

/// What a process does within a second or so.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct BusyProcess {
    /// Its number.
    pub process: i32,
    /// What it calls itself.
    pub name: String,
    /// Processors that it keeps busy.
    pub cores: f64,
    /// Memory that it has in use, in bytes, what it shares with others counted in full.
    pub memory_bytes: i64,
}

/// What the processes of a host do, those of a server and the others.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct BusyHost {
    /// Those of the server.
    pub of_server: Vec<BusyProcess>,
    /// The others, the busiest first, then the largest.
    pub others: Vec<BusyProcess>,
}

/// Whether a process is one of the server whose first one is `head`.
fn is_of_server(one: &HostProcess, head: i32) -> bool {
    one.process == head || one.parent == head
}

/// Processor time that a server has used since it was started, in microseconds: of its first process `head`, of those
/// that this one started, and of all of them that have ended. Nothing where the first one is not seen.
///
/// When a process ends, the kernel adds its time to that of its parent: the sum only grows.
pub fn server_cpu_us(all: &[HostProcess], head: i32) -> Option<i64> {
    all.iter().find(|one| one.process == head)?;
    Some(all.iter().filter(|one| is_of_server(one, head)).map(|one| one.cpu_us + one.ended_us).sum())
}

/// What processes did between two looks that lie `seconds` apart. Those that began in between count from nothing; those
/// that ended are left out.
pub fn busy_host(before: &[HostProcess], after: &[HostProcess], seconds: f64, head: i32) -> BusyHost {
    let known: HashMap<(i32, i64), i64> = before.iter().map(|one| ((one.process, one.began), one.cpu_us)).collect();
    let busy = |one: &HostProcess| {
        let used = one.cpu_us - known.get(&(one.process, one.began)).copied().unwrap_or_default();
        BusyProcess {
            process: one.process,
            name: one.name.clone(),
            cores: used.max(0) as f64 / MICROS_PER_SECOND as f64 / seconds,
            memory_bytes: one.memory_bytes,
        }
    };
    let (of_server, others): (Vec<&HostProcess>, Vec<&HostProcess>) =
        after.iter().partition(|one| is_of_server(one, head));
    let mut others: Vec<BusyProcess> = others.into_iter().map(busy).collect();
    others.sort_by(|a, b| b.cores.total_cmp(&a.cores).then(b.memory_bytes.cmp(&a.memory_bytes)));
    BusyHost { of_server: of_server.into_iter().map(busy).collect(), others }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn process(process: i32, parent: i32, cpu_us: i64, ended_us: i64) -> HostProcess {
        HostProcess { process, parent, cpu_us, ended_us, began: 5, ..HostProcess::default() }
    }

    #[test]
    fn a_server_is_its_first_process_and_those_that_it_started() {
        let all = [process(1, 0, 9, 0), process(20, 1, 10, 500), process(21, 20, 30, 4), process(30, 1, 7, 7)];
        assert_eq!(server_cpu_us(&all, 20), Some(544));
        assert_eq!(server_cpu_us(&all, 99), None, "the kernel shows nobody else's processes");
    }

    #[test]
    fn what_happens_between_two_looks_is_told_of_each() {
        let before = [process(20, 1, 0, 0), process(21, 20, 1_000_000, 0), process(40, 1, 100, 0)];
        let mut again = process(40, 1, 500_000, 0);
        again.began = 6;
        let after = [process(20, 1, 0, 0), process(21, 20, 3_000_000, 0), again, process(41, 1, 1_000_000, 0)];
        let busy = busy_host(&before, &after, 2.0, 20);
        let cores = |of: &[BusyProcess]| of.iter().map(|one| (one.process, one.cores)).collect::<Vec<_>>();
        assert_eq!(cores(&busy.of_server), [(20, 0.0), (21, 1.0)]);
        assert_eq!(cores(&busy.others), [(41, 0.5), (40, 0.25)], "another one of the same number");
    }

    proptest! {
        /// Whoever of a server ends, its time stays that of the server.
        #[test]
        fn time_of_those_that_ended_is_not_lost(
            times in prop::collection::vec((0..1_000_000_i64, 0..1_000_000_i64), 1..20), ends in any::<prop::sample::Index>(),
        ) {
            let mut all = vec![process(1, 0, 1, 0), process(2, 1, 5, 11)];
            all.extend((10..).zip(&times).map(|(number, (cpu, ended))| process(number, 2, *cpu, *ended)));
            let before = server_cpu_us(&all, 2);
            let gone = all.remove(2 + ends.index(times.len()));
            all[1].ended_us += gone.cpu_us + gone.ended_us;
            prop_assert_eq!(server_cpu_us(&all, 2), before);
        }
    }
}
