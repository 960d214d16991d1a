use hurnix_core::Timestamp;
use hurnix_core::readings::activity::Session;
use hurnix_core::readings::server_process::{BackgroundProcess, ServerProcesses, SessionSnapshot};

use super::counted::Server;

/// Processes that a server always has, with what each waits for.
const ALWAYS: [(&str, &str); 4] = [
    ("checkpointer", "Activity:CheckpointerMain"),
    ("background writer", "Activity:BgWriterHibernate"),
    ("walwriter", "Activity:WalWriterMain"),
    ("autovacuum launcher", "Activity:AutoVacuumMain"),
];
/// Number of the first of them.
const FIRST_PROCESS: i32 = 11;

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
        }
    }
}
