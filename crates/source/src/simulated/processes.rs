use hurnix_core::readings::activity::Session;
use hurnix_core::readings::host_process::{BusyHost, BusyProcess};
use hurnix_core::readings::server_process::{BackgroundProcess, ServerProcesses, SessionSnapshot};
use hurnix_core::{Timestamp, WaitKind};

use super::counted::Server;
use super::noise::Noise;

/// Processes that a server always has, with what each waits for.
const ALWAYS: [(&str, &str); 4] = [
    ("checkpointer", "Activity:CheckpointerMain"),
    ("background writer", "Activity:BgWriterHibernate"),
    ("walwriter", "Activity:WalWriterMain"),
    ("autovacuum launcher", "Activity:AutoVacuumMain"),
];
/// Number of the first of them.
const FIRST_PROCESS: i32 = 11;
/// What else runs on its host, with the processors that each keeps busy on average and its memory in MiB.
const BESIDES: [(&str, f64, i64); 5] =
    [("chronyd", 0.001, 4), ("rsyslogd", 0.01, 12), ("sshd", 0.0, 9), ("cron", 0.0, 3), ("stowage-copy", 0.12, 240)];
const FIRST_BESIDES: i32 = 401;
const MEBIBYTE: i64 = 1024 * 1024;
/// Memory of a session: what it shares with the others is counted in full.
const SESSION_BYTES: i64 = 96 * MEBIBYTE;

impl Server {
    /// Processes that serve no client, those that vacuum among them, and what sessions still need.
    pub fn processes(&self, at: Timestamp, started_at: Timestamp) -> ServerProcesses {
        let always = ALWAYS.iter().zip(FIRST_PROCESS..).map(|((kind, event), process)| BackgroundProcess {
            process,
            started_at,
            kind: (*kind).into(),
            event: Some((*event).into()),
            ..BackgroundProcess::default()
        });
        let vacuums = self.vacuums(at).into_iter().map(|vacuum| BackgroundProcess {
            process: vacuum.process,
            started_at: vacuum.started_at,
            kind: "autovacuum worker".into(),
            event: None,
            database: vacuum.database,
            text: format!("autovacuum: VACUUM {}", vacuum.table),
        });
        let host = self.busy_host(at);
        let per_second = self.model.transactions_per_second;
        let snapshot = |session: Session| {
            let began = session.transaction_started_at?;
            let transactions = (per_second * at.seconds_since(began)).round() as i64;
            Some(SessionSnapshot { process: session.process, started_at: session.started_at, transactions })
        };
        ServerProcesses {
            at,
            background: always.chain(vacuums).collect(),
            snapshots: self.activity(at).active.into_iter().filter_map(snapshot).collect(),
            host: Some(host),
        }
    }

    /// What the processes of its host do: sessions that run take a processor each, as far as there are any.
    fn busy_host(&self, at: Timestamp) -> BusyHost {
        let sessions = self.activity(at).active;
        let is_running = |session: &&Session| session.wait_kind == Some(WaitKind::Running);
        let running = sessions.iter().filter(is_running).count().max(1) as f64;
        let share = (f64::from(self.model.host.cpus) / running).min(1.0);
        let of_session = |session: &Session| {
            let noise = Noise::of(self.model.seed, &[31, session.process as u64, at.0 as u64]).unit();
            let is_running = session.wait_kind == Some(WaitKind::Running);
            BusyProcess {
                process: session.process,
                name: "postgres".into(),
                cores: if is_running { share * (0.6 + 0.4 * noise) } else { 0.01 * noise },
                memory_bytes: SESSION_BYTES,
            }
        };
        let besides = |(process, (name, cores, mebibytes)): (i32, &(&str, f64, i64))| BusyProcess {
            process,
            name: (*name).into(),
            cores: cores * Noise::of(self.model.seed, &[37, process as u64, at.0 as u64]).factor(0.3),
            memory_bytes: mebibytes * MEBIBYTE,
        };
        let mut others: Vec<BusyProcess> = (FIRST_BESIDES..).zip(&BESIDES).map(besides).collect();
        others.sort_by(|a, b| b.cores.total_cmp(&a.cores).then(b.memory_bytes.cmp(&a.memory_bytes)));
        BusyHost { of_server: sessions.iter().map(of_session).collect(), others }
    }
}
