use super::{Cause, CauseKind, Evidence, LockSeen, Side};
use crate::readings::wait_kind::WaitKind;
use crate::wording::{percent, seconds, statement};

/// Looks that saw a statement wait, from which on that says something.
const LEAST_SEEN: i64 = 5;

/// Causes that show in what its sessions wait for: each kind of wait by the share of the change of time per call that
/// it makes up.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    let waited = |side: &Side, kind: WaitKind| {
        let calls_per_second = side.counters.calls as f64 / side.seconds;
        Some(side.load.mean(kind)? / calls_per_second).filter(|seconds| seconds.is_finite())
    };
    let took = |side: &Side| side.per_call(|counters| counters.exec_us).map(|us| us / 1e6);
    let (Some(before), Some(after)) = (took(evidence.before), took(evidence.after)) else { return Vec::new() };
    let of_kind = |kind: &WaitKind| {
        let (then, now) = (waited(evidence.before, *kind)?, waited(evidence.after, *kind)?);
        let share = (now - then) / (after - before);
        let seen = evidence.before.load.busy[kind.position()].max(evidence.after.load.busy[kind.position()]);
        (share > 0.0 && seen >= LEAST_SEEN).then(|| Cause {
            kind: CauseKind::Waits,
            likely: 0.85 * share.min(1.0),
            evidence: format!(
                "A call waits {} {}, {} before: {} of the change{}",
                seconds(now),
                words(*kind),
                seconds(then),
                percent(share.min(1.0)),
                evidence.lock.filter(|_| *kind == WaitKind::Lock).map(held).unwrap_or_default()
            ),
            against: None,
        })
    };
    WaitKind::ALL.iter().filter(|kind| **kind != WaitKind::Running).filter_map(of_kind).collect()
}

/// Which lock it is, and who holds it.
fn held(lock: &LockSeen) -> String {
    let on = lock.object.as_ref().map(|object| format!("on {object}"));
    let mode = lock.mode.as_ref().map(|mode| format!("as {mode}"));
    let by = lock.program.as_ref().map(|program| format!("held by {program}"));
    let idle = lock.is_idle.then(|| "idle in its transaction".to_owned());
    let runs = lock.statement.as_ref().map(|text| format!("which runs {}", statement(text)));
    let what: Vec<String> = [on, mode].into_iter().flatten().collect();
    let who: Vec<String> = [by, idle, runs].into_iter().flatten().collect();
    let told: Vec<String> = [what.join(" "), who.join(", ")].into_iter().filter(|part| !part.is_empty()).collect();
    if told.is_empty() { String::new() } else { format!(". It is mostly {}", told.join(", ")) }
}

fn words(kind: WaitKind) -> &'static str {
    match kind {
        WaitKind::Running => "for nothing",
        WaitKind::StorageRead => "for pages from storage",
        WaitKind::StorageWrite => "for pages to go to storage",
        WaitKind::LogWrite => "for the write-ahead log",
        WaitKind::TempSpace => "for temporary files",
        WaitKind::Lock => "for a lock of another transaction",
        WaitKind::Latch => "for an internal lock of the server",
        WaitKind::Network => "for the client",
        WaitKind::Peer => "for another process",
        WaitKind::Other => "for something else",
    }
}

#[cfg(test)]
mod tests {
    use super::super::tests::Case;
    use super::*;

    #[test]
    fn the_share_that_a_wait_makes_up_is_told() {
        let mut case = Case::slower(21.0);
        // One busy session in ten looks is 0.06 s a call at a thousand calls in ten minutes: the call takes 20 ms more.
        case.after.load.busy[WaitKind::StorageRead.position()] = 15;
        let causes = case.causes();
        assert!(causes[0].evidence.contains("pages from storage") && causes[0].evidence.contains("75"), "{causes:?}");
    }

    #[test]
    fn what_was_hardly_seen_says_nothing() {
        let mut case = Case::slower(21.0);
        case.after.load.busy[WaitKind::Lock.position()] = LEAST_SEEN - 1;
        assert_eq!(case.kinds(), []);
    }
}
