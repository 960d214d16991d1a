use std::collections::BTreeMap;

use hurnix_core::Timestamp;
use hurnix_core::readings::activity::ActivitySample;
use hurnix_core::readings::counters::MeasureCounters;
use hurnix_core::readings::metric::{Measure, Metric};

use super::counted::{Counted, Server};
use super::model::Happening;
use super::noise::Noise;
use super::shape::minute_of;

/// Transactions after which vacuum freezes old rows, as long as nothing holds it back.
const FREEZE_AFTER: f64 = 150e6;
/// Bytes of a page.
pub const PAGE_BYTES: f64 = 8192.0;
/// Processor time of the system beside that of the statements.
const SYSTEM_SHARE: f64 = 0.15;
/// Seconds that a new connection takes while few are begun, and sessions begun in a second that double it.
const CONNECT_SECONDS: f64 = 0.004;
const CONNECT_DOUBLES: f64 = 100.0;
/// By how much more of its share the first processor takes than the last.
const FIRST_PROCESSOR_MORE: f64 = 0.4;
/// Bytes that storage reads or writes at a time.
const REQUEST_BYTES: i64 = 64 * 1024;

/// A list of single figures being made.
#[derive(Debug, Default)]
pub struct Measures {
    pub measures: Vec<Measure>,
    pub counted: Vec<((Metric, String), MeasureCounters)>,
}

impl Measures {
    fn add(&mut self, metric: Metric, object: impl Into<String>, value: f64) {
        self.measures.push(Measure { metric, object: object.into(), value });
    }

    fn count(&mut self, metric: Metric, object: impl Into<String>, counted: i64) {
        self.counted.push(((metric, object.into()), MeasureCounters { counted }));
    }
}

impl Server {
    /// When the oldest transaction began that holds vacuum back, and whether it was prepared.
    fn old_transaction(&self, at: Timestamp) -> Option<(Timestamp, bool)> {
        self.model.events.iter().find_map(|event| match event.what {
            Happening::OldTransaction { prepared } if event.goes_on(at) => Some((event.at, prepared)),
            _ => None,
        })
    }

    /// Sessions, transactions and locks as they stand.
    pub fn standing(&self, at: Timestamp) -> Measures {
        let sample = self.activity(at);
        let mut found = Measures::default();
        let open = sample.active.iter().filter(|session| session.wait_kind.is_none()).count();
        let idle = sample.sessions - sample.active.len() as i32;
        for (state, count) in
            [("active", sample.active.len() - open), ("idle in transaction", open), ("idle", idle.max(0) as usize)]
        {
            found.add(Metric::Connections, state, count as f64);
        }
        found.add(Metric::ConnectionsAllowed, "", f64::from(self.model.connections.allowed));
        found.add(Metric::ConnectionsKept, "", f64::from(sample.sessions));
        let queue = 1.0 + self.model.connections.per_second / CONNECT_DOUBLES;
        let noise = Noise::of(self.model.seed, &[29, minute_of(at) as u64]).factor(0.15);
        found.add(Metric::ConnectTime, "", CONNECT_SECONDS * queue * noise);
        self.xmin_ages(at, &sample).into_iter().for_each(|(object, age)| found.add(Metric::XminAge, object, age));
        let mut oldest: BTreeMap<&str, f64> = BTreeMap::new();
        let mut awaited: BTreeMap<&str, f64> = BTreeMap::new();
        for session in &sample.active {
            if let Some(began) = session.transaction_started_at {
                let age = oldest.entry(&session.database).or_default();
                *age = age.max(at.seconds_since(began));
            }
            if let Some(lock) = &session.awaited {
                *awaited.entry(&lock.mode).or_default() += 1.0;
            }
        }
        oldest.into_iter().for_each(|(database, age)| found.add(Metric::OldestTransaction, database, age));
        awaited.into_iter().for_each(|(mode, count)| found.add(Metric::LocksAwaited, mode, count));
        let busy = sample.active.len() as f64;
        found.add(Metric::LocksHeld, "AccessShareLock", busy * 2.0);
        found.add(Metric::LocksHeld, "RowExclusiveLock", (busy / 2.0).floor());
        found.add(Metric::LocksHeld, "ExclusiveLock", busy);
        let prepared = self.old_transaction(at).filter(|(_, prepared)| *prepared);
        found.add(Metric::PreparedTransactions, "", f64::from(u8::from(prepared.is_some())));
        if let Some((since, _)) = prepared {
            found.add(Metric::OldestPrepared, "", at.seconds_since(since));
        }
        for vacuum in self.vacuums(at) {
            let share = vacuum.total.map(|total| vacuum.done / total);
            found.add(Metric::Progress, format!("vacuum {}", vacuum.table), share.unwrap_or_default());
        }
        found
    }

    /// Transactions since the oldest row version that a session or a prepared transaction needs.
    fn xmin_ages(&self, at: Timestamp, sample: &ActivitySample) -> BTreeMap<String, f64> {
        let given_out = |since: Timestamp| (self.model.transactions_per_second * at.seconds_since(since)).round();
        let mut ages: BTreeMap<String, f64> = BTreeMap::new();
        for session in &sample.active {
            if let Some(began) = session.transaction_started_at {
                let age = ages.entry(format!("session of {} in {}", session.account, session.database)).or_default();
                *age = age.max(given_out(began));
            }
        }
        if let Some((since, true)) = self.old_transaction(at) {
            let object = format!("prepared transaction transfer in {}", self.model.databases[0]);
            ages.insert(object, given_out(since));
        }
        ages
    }

    /// The write-ahead log.
    pub fn replication(&self, at: Timestamp, counted: &Counted) -> Measures {
        let mut found = Measures::default();
        let is_replica = self.model.lag.is_some();
        found.add(Metric::Recovering, "", f64::from(u8::from(is_replica)));
        found.add(Metric::ReplicasConnected, "", 0.0);
        found.count(Metric::LogWritten, "", self.log_received(at).unwrap_or_else(|| counted.log_written()));
        if let Some(seconds) = self.lag_seconds(at) {
            found.add(Metric::ReplayLag, "", seconds);
        }
        found
    }

    /// Transactions since the oldest row that is not frozen.
    pub fn transaction_age(&self, at: Timestamp) -> f64 {
        let given_out =
            |until: Timestamp| self.model.transactions_per_second * until.seconds_since(self.model.began_at);
        match self.old_transaction(at) {
            Some((since, _)) => given_out(since) % FREEZE_AFTER + given_out(at) - given_out(since),
            None => given_out(at) % FREEZE_AFTER,
        }
    }

    /// Bytes of each table, and of its indexes together.
    pub fn sizes(&self) -> Vec<(f64, f64)> {
        let size = |(table, state): (&super::model::TableModel, &super::counted::TableState)| {
            let entries: f64 = table.indexes.iter().map(|index| index.entry_bytes).sum();
            (state.room * table.row_bytes, state.room * entries)
        };
        self.model.tables.iter().zip(self.tables()).map(size).collect()
    }

    /// Sizes, ages and the state of upkeep.
    pub fn space(&self, at: Timestamp) -> Measures {
        let mut found = Measures::default();
        let sizes = self.sizes();
        let total: f64 = sizes.iter().map(|(table, indexes)| table + indexes).sum();
        let first = &self.model.databases[0];
        found.add(Metric::DatabaseSize, first, total);
        for other in &self.model.databases[1..] {
            found.add(Metric::DatabaseSize, other, 64e6);
        }
        found.add(Metric::TablespaceSize, "pg_default", total);
        let age = self.transaction_age(at).round();
        found.add(Metric::TransactionAge, first, age);
        for ((table, state), (bytes, index_bytes)) in self.model.tables.iter().zip(self.tables()).zip(&sizes) {
            let name = format!("public.{}", table.name);
            found.add(Metric::TableSize, &name, *bytes);
            found.add(Metric::TableIndexSize, &name, *index_bytes);
            found.add(Metric::LiveRows, &name, state.live.round());
            found.add(Metric::DeadRows, &name, state.dead.round());
            found.add(Metric::RowsSinceAnalyze, &name, state.changed.round());
            found.add(Metric::VacuumedAgo, &name, at.seconds_since(Timestamp(state.cleaned * 60_000_000)).max(0.0));
            found.add(Metric::TableAge, &name, age);
        }
        found
    }

    /// Processor time of its own processes.
    pub fn server_cpu(&self, at: Timestamp, counted: &Counted) -> Measures {
        let mut found = Measures::default();
        let up_us = at.0 - self.model.began_at.0;
        let user = counted.running_us.min(up_us * i64::from(self.model.host.cpus));
        found.count(Metric::CpuOfServer, "", (user as f64 * (1.0 + SYSTEM_SHARE)) as i64);
        found
    }

    /// The machine.
    pub fn host(&self, at: Timestamp, counted: &Counted) -> Measures {
        let host = &self.model.host;
        let mut found = Measures::default();
        let up_us = at.0 - self.model.began_at.0;
        // No more than there are processors, however many statements want one.
        let user = counted.running_us.min(up_us * i64::from(host.cpus));
        found.count(Metric::CpuUsed, "user", user);
        found.count(Metric::CpuUsed, "system", (user as f64 * SYSTEM_SHARE) as i64 + up_us / 50);
        found.count(Metric::CpuUsed, "waiting for storage", counted.storage_us / 4);
        let used = user as f64 * (1.0 + SYSTEM_SHARE) + up_us as f64 / 50.0;
        for core in 0..host.cpus {
            let position = f64::from(core) / f64::from(host.cpus - 1).max(1.0) - 0.5;
            let part = used / f64::from(host.cpus) * (1.0 - FIRST_PROCESSOR_MORE * position);
            found.count(Metric::CpuByCore, core.to_string(), (part as i64).min(up_us));
        }
        found.add(Metric::Cpus, "", f64::from(host.cpus));
        found.add(Metric::MemoryTotal, "", host.memory_bytes);
        let noise = Noise::of(self.model.seed, &[23, minute_of(at) as u64]).factor(0.03);
        found.add(Metric::MemoryAvailable, "", host.memory_bytes * 0.55 * noise.min(1.5));
        found.add(Metric::SwapUsed, "", 0.0);
        let pages = |of: fn(&hurnix_core::readings::counters::StatementCounters) -> i64| -> i64 {
            counted.families.iter().map(of).sum::<i64>() * PAGE_BYTES as i64
        };
        let (read, written) = (
            pages(|family| family.read_pages + family.temp_read_pages),
            pages(|family| family.dirtied_pages / 2 + family.temp_written_pages),
        );
        found.count(Metric::StorageRead, "sda", read);
        found.count(Metric::StorageWritten, "sda", written);
        // At 400 MB a second it would be busy all the time.
        found.count(Metric::StorageBusy, "sda", (read + written) / 400);
        found.count(Metric::StorageRequests, "sda", (read + written) / REQUEST_BYTES);
        // Whoever waits for storage waits for a request of its own.
        found.count(Metric::StorageQueue, "sda", counted.storage_us.max((read + written) / 400));
        let used: f64 = self.sizes().iter().map(|(table, indexes)| table + indexes).sum::<f64>() + host.other_bytes;
        found.add(Metric::VolumeSize, "/data", host.volume_bytes);
        found.add(Metric::VolumeFree, "/data", (host.volume_bytes - used).max(0.0));
        let rates = self.changes.in_minute(&self.model, minute_of(at));
        let cores: f64 = (0..self.model.families.len())
            .map(|position| {
                let rate = rates.of(position);
                let waiting: f64 = rate.waits.iter().map(|(_, _, share)| share).sum();
                rate.per_second * rate.cost.ms / 1000.0 * (1.0 - waiting).max(0.0)
            })
            .sum::<f64>()
            .min(f64::from(host.cpus));
        found.add(Metric::Power, "rack", (host.watts.0 + host.watts.1 * cores) * noise.sqrt());
        found
    }
}
