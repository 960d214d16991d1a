use hurnix_core::Timestamp;
use hurnix_core::readings::operation::{Operation, OperationKind, Operations, UpkeepTable, WorkUnit};

use super::counted::{Server, TableState};
use super::model::{FIRST_PROCESS_OF_EVENTS, Happening, PROCESSES_OF_EVENT, TableModel};
use super::noise::Noise;
use super::standing::PAGE_BYTES;

/// Its own vacuum takes a table with so many dead rows and this share of its rows, new planner statistics with half of
/// that, and a table whose rows are so many transactions old, as the server does unless it is told otherwise.
const VACUUM_FROM: f64 = 50.0;
const VACUUM_SHARE: f64 = 0.2;
const FREEZE_AT: f64 = 200e6;
/// Processes of its own vacuum.
const WORKERS: i32 = 3;
/// Work goes on unevenly by this, in steps of so many seconds.
const UNEVEN: f64 = 0.15;
const STEP_SECONDS: f64 = 10.0;

impl Server {
    /// Long work that goes on, and what its own vacuum takes next.
    pub fn operations(&mut self, at: Timestamp) -> Operations {
        self.counted(at);
        let operations = self.vacuums(at);
        let age = self.transaction_age(at).round();
        let table = |((table, state), (size_bytes, _)): ((&TableModel, &TableState), (f64, f64))| UpkeepTable {
            table: format!("public.{}", table.name),
            size_bytes,
            is_automatic: true,
            dead_rows: (state.dead.round(), VACUUM_FROM + VACUUM_SHARE * state.live.round()),
            inserted_rows: None,
            changed_rows: (state.changed.round(), VACUUM_FROM + VACUUM_SHARE / 2.0 * state.live.round()),
            age: (age, FREEZE_AT),
        };
        Operations {
            at,
            workers: (operations.len() as i32, WORKERS),
            tables: self.model.tables.iter().zip(self.tables()).zip(self.sizes()).map(table).collect(),
            operations,
            is_automatic: true,
        }
    }

    /// Vacuums that go on at a moment up to which everything was counted.
    pub fn vacuums(&self, at: Timestamp) -> Vec<Operation> {
        let sizes = self.sizes();
        let mut vacuums = Vec::new();
        for (position, event) in self.model.events.iter().enumerate().filter(|(_, event)| event.goes_on(at)) {
            let (Happening::Vacuum { table }, Some(until)) = (&event.what, event.until) else { continue };
            let process = FIRST_PROCESS_OF_EVENTS + position as i32 * PROCESSES_OF_EVENT;
            let total = (sizes[*table].0 / PAGE_BYTES).ceil().max(1.0);
            let whole = until.seconds_since(event.at);
            let (step, within) = {
                let steps = at.seconds_since(event.at) / STEP_SECONDS;
                (steps.floor(), steps.fract())
            };
            let noise = |step: f64| Noise::of(self.model.seed, &[31, position as u64, step as u64]).factor(UNEVEN);
            // Each step begins where an even one would, give or take a little.
            let share = (step + within * noise(step).min(1.0)) * STEP_SECONDS / whole;
            vacuums.push(Operation {
                process,
                started_at: event.at,
                kind: OperationKind::Vacuum,
                is_automatic: true,
                table: format!("public.{}", self.model.tables[*table].name),
                database: self.model.databases[0].clone(),
                account: String::new(),
                phase: "scanning heap".into(),
                done: (share.min(1.0) * total).floor(),
                total: Some(total),
                unit: WorkUnit::Pages,
                began_at: event.at,
                blocked_by: Vec::new(),
            });
        }
        vacuums
    }
}
