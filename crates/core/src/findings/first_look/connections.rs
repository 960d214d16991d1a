use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::readings::metric::Metric;
use crate::wording::{number, percent, seconds};

/// Share of the connections allowed that is in use: worth a look, and to act on.
const USED_TO_LOOK: f64 = 0.8;
const USED_TO_ACT: f64 = 0.95;
/// New sessions a second that are worth a look where a session is shorter than so many seconds, and to act on.
const NEW_TO_LOOK: f64 = 5.0;
const SHORT_SECONDS: f64 = 5.0;
const NEW_TO_ACT: f64 = 50.0;
/// Seconds below which it is not told how long a session lasts: what is measured is coarser.
const BRIEF: f64 = 0.01;
/// Sessions idle in a transaction that are worth a look, if they are this share of all.
const IDLE_OPEN: f64 = 5.0;
const IDLE_OPEN_SHARE: f64 = 0.2;
/// State of a session that holds a transaction open without working, by the server's own name.
const IDLE_IN_TRANSACTION: &str = "idle in transaction";

/// Whether there are enough connections, and whether they are used well.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let Some(allowed) = evidence.measured(Metric::ConnectionsAllowed) else {
        notes.unknown(
            "Connections were not counted yet.",
            Step::new("Wait for the first reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::Connections, "");
    };
    let used: f64 = evidence.measured_of(Metric::Connections).map(|(_, count)| count).sum();
    let share = used / allowed.max(1.0);
    notes.fact("Connections", format!("{} of {} allowed, {}", number(used), number(allowed), percent(share)));
    for (state, count) in evidence.largest_of(Metric::Connections) {
        notes.fact(format!("Of these {state}"), number(count));
    }
    if share >= USED_TO_LOOK {
        let text = format!("{} of {} connections are taken.", number(used), number(allowed));
        let step = Step::new("Find out who keeps them idle, and put a pool in front, before raising max_connections.");
        if share >= USED_TO_ACT {
            notes.act(text, step)
        } else {
            notes.look(text, step)
        };
    }
    let idle_open: f64 = evidence
        .measured_of(Metric::Connections)
        .filter(|(state, _)| state.starts_with(IDLE_IN_TRANSACTION))
        .map(|(_, n)| n)
        .sum();
    if idle_open >= IDLE_OPEN && idle_open >= IDLE_OPEN_SHARE * used {
        notes.look(
            format!("{} sessions hold a transaction open without working.", number(idle_open)),
            Step::new("Let programs end transactions before they wait for anything else; idle_in_transaction_session_timeout ends the rest."),
        );
    }
    let (lately, over) = (&evidence.lately.databases, evidence.lately.database_seconds);
    if over > 0.0 && lately.sessions > 0 {
        // Those that stay open, as a pool's do, have their time counted, too: it is not that of the new ones.
        let kept = evidence.measured(Metric::ConnectionsKept).unwrap_or_default().min(used) * over;
        let per_second = lately.sessions as f64 / over;
        let length = (lately.session_us as f64 / 1e6 - kept).max(0.0) / lately.sessions as f64;
        notes.fact(
            "New sessions",
            format!("{} a second, of {} at most on average", number(per_second), seconds(length)),
        );
        let text = format!(
            "{} sessions begin in a second and last {}: connecting costs more than working.",
            number(per_second),
            if length < BRIEF { "hardly any time".into() } else { format!("{} on average at most", seconds(length)) }
        );
        let step = Step::new("Put a pool in front of the server, or let programs keep their connections.");
        if per_second >= NEW_TO_ACT {
            notes.act(text, step);
        } else if per_second >= NEW_TO_LOOK && length < SHORT_SECONDS {
            notes.look(text, step);
        }
    }
    notes.done(Check::Connections, format!("{} of {} connections are in use.", number(used), number(allowed)))
}

#[cfg(test)]
mod tests {
    use super::super::evidence::NewestValue;
    use super::*;
    use crate::findings::health::Health;

    fn evidence(idle: f64, idle_open: f64, new: i64) -> Evidence {
        let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
        let mut evidence = Evidence {
            measures: vec![
                measured(Metric::ConnectionsAllowed, "", 100.0),
                measured(Metric::Connections, "idle", idle),
                measured(Metric::Connections, IDLE_IN_TRANSACTION, idle_open),
            ],
            ..Evidence::default()
        };
        evidence.measures.push(measured(Metric::ConnectionsKept, "", idle));
        evidence.lately.database_seconds = 10.0;
        evidence.lately.databases.sessions = new;
        // The new ones are short; those that stay open have counted all the time.
        evidence.lately.databases.session_us = new * 100_000 + idle as i64 * 10_000_000;
        evidence
    }

    #[test]
    fn connections_are_judged_by_number_state_and_turnover() {
        let verdict = |idle, idle_open, new| check(&evidence(idle, idle_open, new)).verdict();
        assert_eq!(verdict(50.0, 2.0, 10), Health::Quiet);
        assert_eq!(verdict(80.0, 0.0, 0), Health::Look);
        assert_eq!(verdict(95.0, 0.0, 0), Health::Act);
        assert_eq!(verdict(10.0, 5.0, 0), Health::Look);
        assert_eq!(verdict(70.0, 5.0, 0), Health::Quiet, "few of many");
        assert_eq!(verdict(10.0, 0.0, 60), Health::Look);
        assert_eq!(verdict(10.0, 0.0, 600), Health::Act);
    }
}
