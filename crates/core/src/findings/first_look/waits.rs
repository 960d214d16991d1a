use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use super::more_load;
use crate::findings::alarm::Trouble;
use crate::named::Named;
use crate::readings::metric::Metric;
use crate::readings::wait_kind::WaitKind;
use crate::wording::{number, percent, seconds};

/// Looks at the sessions below which nothing is said of their load.
const LEAST_SAMPLES: i64 = 30;
/// Mean number of sessions waiting for one thing that is worth a look, if it is that share of the load.
const WAITING_TO_LOOK: f64 = 0.5;
const SHARE_TO_LOOK: f64 = 0.25;
/// Mean number of sessions waiting for one thing from which on somebody should act, if it is half of the load.
const WAITING_TO_ACT: f64 = 2.0;
const SHARE_TO_ACT: f64 = 0.5;

/// What sessions spend their time on.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let (load, window) = (&evidence.lately.load, evidence.lately.window);
    let Some(total) = load.total().filter(|_| load.samples >= LEAST_SAMPLES) else {
        notes.unknown(
            format!("Sessions were looked at {} times so far: too few to say what they wait for.", load.samples),
            Step::new("Come back in a few minutes.").see(Page::Load),
        );
        return notes.done(Check::Waits, "");
    };
    let over = seconds(window.seconds());
    notes.fact(format!("Busy sessions, mean of {over}"), number(total));
    let mut kinds: Vec<(WaitKind, f64)> = WaitKind::ALL
        .into_iter()
        .filter_map(|kind| Some((kind, load.mean(kind)?)))
        .filter(|(_, mean)| *mean > 0.0)
        .collect();
    kinds.sort_by(|a, b| b.1.total_cmp(&a.1));
    for (kind, mean) in &kinds {
        notes.fact(told(*kind), format!("{}, {}", number(*mean), percent(mean / total)));
        let share = mean / total;
        let Some(advice) = advice(*kind) else { continue };
        let text =
            format!("{} takes {} of the load: {} sessions at a time.", told(*kind), percent(share), number(*mean));
        let step = Step::new(advice).see(Page::Load);
        let point = if *mean >= WAITING_TO_ACT && share >= SHARE_TO_ACT {
            notes.act(text, step)
        } else if *mean >= WAITING_TO_LOOK && share >= SHARE_TO_LOOK {
            notes.look(text, step)
        } else {
            continue;
        };
        match kind {
            WaitKind::Lock => point.of(Trouble::LockWaits, ""),
            kind => point.of(Trouble::Waits, kind.name()),
        };
    }
    more_load::told(evidence, &mut notes);
    if let (Some(running), Some(cpus)) = (load.mean(WaitKind::Running), evidence.measured(Metric::Cpus)) {
        notes.fact("Processors", number(cpus));
        if running > cpus {
            notes.act(
                format!("{} sessions want one of {} processors at a time.", number(running), number(cpus)),
                Step::new("Take load off: begin with the worst statements.").see(Page::Statements),
            );
        }
    }
    let most = kinds.first().map_or_else(String::new, |(kind, _)| format!(", mostly {}", told(*kind).to_lowercase()));
    notes.done(Check::Waits, format!("{} sessions were busy at a time over {over}{most}.", number(total)))
}

/// The kind in words.
fn told(kind: WaitKind) -> &'static str {
    match kind {
        WaitKind::Running => "Running",
        WaitKind::StorageRead => "Waiting for storage to read",
        WaitKind::StorageWrite => "Waiting for storage to write",
        WaitKind::LogWrite => "Waiting for the log",
        WaitKind::TempSpace => "Waiting for temporary space",
        WaitKind::Lock => "Waiting for locks",
        WaitKind::Latch => "Waiting for latches",
        WaitKind::Network => "Waiting for clients",
        WaitKind::Peer => "Waiting for other processes",
        WaitKind::Other => "Waiting for something else",
    }
}

/// What to do about a kind that takes much; nothing for kinds that are no trouble by themselves.
pub(super) fn advice(kind: WaitKind) -> Option<&'static str> {
    match kind {
        WaitKind::StorageRead => Some("Look for statements that read much more than they return, then at memory."),
        WaitKind::StorageWrite => Some("Look at checkpoints: spread them out, and see what is written most."),
        WaitKind::LogWrite => Some("Make fewer, larger transactions, or put the log on faster storage."),
        WaitKind::TempSpace => {
            Some("Find the statements that spill, and give them more working memory or less to sort.")
        }
        WaitKind::Lock => Some("See who holds what others wait for, under Locks below."),
        WaitKind::Latch => Some("Let fewer sessions work at once: a pool in front of the server would."),
        WaitKind::Running | WaitKind::Network | WaitKind::Peer | WaitKind::Other => None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::health::Health;
    use crate::readings::load::Load;

    fn evidence(samples: i64, busy: &[(WaitKind, i64)]) -> Evidence {
        let mut load = Load { samples, ..Load::default() };
        for (kind, sessions) in busy {
            load.busy[kind.position()] = *sessions;
        }
        let mut evidence = Evidence::default();
        evidence.lately.load = load;
        evidence
    }

    #[test]
    fn waits_are_judged_by_their_size_and_share_together() {
        let verdict = |busy: &[(WaitKind, i64)]| check(&evidence(100, busy)).verdict();
        assert_eq!(verdict(&[]), Health::Quiet, "idle");
        assert_eq!(verdict(&[(WaitKind::Running, 900)]), Health::Quiet, "processors not known");
        assert_eq!(verdict(&[(WaitKind::Lock, 40)]), Health::Quiet, "small");
        assert_eq!(verdict(&[(WaitKind::Lock, 60), (WaitKind::Running, 300)]), Health::Quiet, "a small share");
        assert_eq!(verdict(&[(WaitKind::Lock, 60), (WaitKind::Running, 60)]), Health::Look);
        assert_eq!(verdict(&[(WaitKind::Lock, 300), (WaitKind::Running, 60)]), Health::Act);
        assert_eq!(check(&evidence(29, &[(WaitKind::Lock, 300)])).verdict(), Health::NoData);
    }
}
