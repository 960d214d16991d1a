//! How fast long work goes: the readings of each that was looked at in the last minutes.

use std::collections::HashMap;
use std::sync::{Arc, Mutex, PoisonError};

use hurnix_core::Timestamp;
use hurnix_core::findings::time_left::{Readings, TimeLeft, go_on, is_young, time_left};
use hurnix_core::readings::operation::Operation;

/// A phase of some work: another phase begins anew.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct Phase {
    instance_id: i32,
    process: i32,
    began_at: Timestamp,
    phase: String,
}

/// Readings of long work.
#[derive(Debug, Clone, Default)]
pub struct Paces(Arc<Mutex<HashMap<Phase, Readings>>>);

impl Paces {
    /// Goes on with a reading of some work; answers how long its phase will take yet, where that is known.
    pub fn go_on(&self, instance_id: i32, operation: &Operation, at: Timestamp) -> Option<TimeLeft> {
        let Operation { process, began_at, .. } = *operation;
        let phase = Phase { instance_id, process, began_at, phase: operation.phase.clone() };
        // Whoever broke off while holding it left a whole map behind.
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        all.retain(|_, readings| is_young(readings, at));
        let readings = all.entry(phase).or_default();
        go_on(readings, at, operation.done);
        time_left(readings, operation.total?)
    }
}

#[cfg(test)]
mod tests {
    use hurnix_core::readings::operation::{OperationKind, WorkUnit};

    use super::*;

    fn vacuum(phase: &str, done: f64) -> Operation {
        Operation {
            process: 7,
            started_at: Timestamp(0),
            kind: OperationKind::Vacuum,
            is_automatic: true,
            table: "public.berth".into(),
            database: "passage".into(),
            account: String::new(),
            phase: phase.into(),
            done,
            total: Some(1000.0),
            unit: WorkUnit::Pages,
            began_at: Timestamp(0),
            blocked_by: Vec::new(),
        }
    }

    #[test]
    fn each_phase_has_a_pace_of_its_own() {
        let paces = Paces::default();
        let at = |second: i64| Timestamp(second * 1_000_000);
        let left = |second, phase, done| paces.go_on(1, &vacuum(phase, done), at(second)).map(|left| left.seconds);
        assert_eq!([left(0, "scanning heap", 0.0), left(2, "scanning heap", 200.0)], [None, None]);
        assert_eq!(left(4, "scanning heap", 400.0), Some(6.0));
        assert_eq!(left(6, "vacuuming heap", 10.0), None, "another phase begins anew");
        assert_eq!(paces.go_on(2, &vacuum("scanning heap", 600.0), at(6)), None, "on another instance, too");
    }
}
