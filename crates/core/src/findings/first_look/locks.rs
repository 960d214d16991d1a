use super::Check;
use super::evidence::{Evidence, LookedAt};
use super::finding::{Finding, Notes, Page, Step};
use crate::changes::action::{Action, SessionMeant};
use crate::changes::remedy::Remedy;
use crate::findings::alarm::Trouble;
use crate::named::Named;
use crate::readings::activity::PREPARED;
use crate::readings::blocking::blocked_behind;
use crate::readings::metric::Metric;
use crate::readings::server_log::LogKind;
use crate::readings::wait_kind::WaitKind;
use crate::time::Timestamp;
use crate::wording::{counted, number, seconds};

/// Sessions held up at once by one holder: worth a look, and to act on.
const HELD_UP_TO_LOOK: usize = 2;
const HELD_UP_TO_ACT: usize = 5;
/// Seconds that a transaction is open before it can be said to hold others up: shorter ones are daily life.
const HOLDS_UP_AFTER: f64 = 2.0;
/// Mean number of sessions waiting for locks that is worth a look.
const WAITING_TO_LOOK: f64 = 0.25;
/// Age of a transaction that is worth a look, and to act on, in seconds.
const OLD_TO_LOOK: f64 = 15.0 * 60.0;
const OLD_TO_ACT: f64 = 4.0 * 3600.0;

/// Who waits for whom.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let waiting = evidence.lately.load.mean(WaitKind::Lock);
    if let Some(waiting) = waiting {
        notes.fact(
            format!("Sessions waiting for locks, mean of {}", seconds(evidence.lately.window.seconds())),
            number(waiting),
        );
    }
    for (holder, held_up) in holders(&evidence.lately.sessions) {
        if held_up >= HELD_UP_TO_LOOK && has_held_for_long(holder, evidence.at) {
            let text = format!("{} holds up {}.", told(holder, evidence.at), counted(held_up, "session"));
            let step = match holder.process {
                PREPARED => Step::new(format!(
                    "No session holds these locks: ask {} whether it is to be finished, or roll it back by its name.",
                    holder.account
                ))
                .run(Remedy::ListPrepared),
                _ => end(holder, "to end the transaction"),
            }
            .see(Page::Blocking);
            let point = if held_up >= HELD_UP_TO_ACT { notes.act(text, step) } else { notes.look(text, step) };
            let who = format!("{} {}", holder.account, holder.program);
            point.of(Trouble::HoldUp, who.trim_end()).since = holder.transaction_started_at;
        }
    }
    if notes.is_quiet() && waiting.is_some_and(|waiting| waiting >= WAITING_TO_LOOK) {
        notes
            .look(
                format!("{} sessions at a time waited for locks.", number(waiting.unwrap_or_default())),
                Step::new("See which statements wait for whom.").see(Page::Blocking),
            )
            .of(Trouble::LockWaits, "");
    }
    let lately = &evidence.lately;
    let (logged, counted_up) = (evidence.logged(LogKind::Deadlock), lately.databases.deadlocks);
    let (deadlocks, over) =
        if logged >= counted_up { (logged, lately.log_seconds) } else { (counted_up, lately.window.seconds()) };
    if deadlocks > 0 {
        notes
            .look(
                format!("{} within {}.", counted(deadlocks as usize, "deadlock"), seconds(over)),
                Step::new("Let all programs lock rows in the same order; the server's log names both statements.")
                    .see(Page::Blocking),
            )
            .of(Trouble::Deadlocks, "");
    }
    let given_up = evidence.logged(LogKind::LockTimeout);
    if given_up > 0 {
        notes
            .look(
                format!("{} gave up waiting for a lock.", counted(given_up as usize, "statement")),
                Step::new("See in the server's log which, and who held the lock then.").see(Page::Blocking),
            )
            .of(Trouble::LockTimeouts, "");
    }
    old_transactions(&mut notes, evidence);
    let locks = |metric: Metric| evidence.measured_of(metric).map(|(_, locks)| locks).sum::<f64>();
    notes.fact(
        "Locks held and waited for just now",
        format!("{} and {}", number(locks(Metric::LocksHeld)), number(locks(Metric::LocksAwaited))),
    );
    notes.done(Check::Locks, "Nobody is held up.")
}

fn old_transactions(notes: &mut Notes, evidence: &Evidence) {
    for (database, age) in evidence.largest_of(Metric::OldestTransaction) {
        notes.fact(format!("Oldest transaction in {database}"), seconds(age));
        if age >= OLD_TO_LOOK {
            let (text, step) = match oldest_in(&evidence.lately.sessions, database, evidence.at) {
                Some(session) => {
                    let does = session.wait_kind.map_or_else(String::new, |kind| match kind {
                        WaitKind::Running => "; it runs".into(),
                        kind => format!("; it waits for {}", kind.name().replace('_', " ")),
                    });
                    let who = told(session, evidence.at);
                    let text = format!("{who} has had a transaction open in {database}{does}: it keeps its locks.");
                    (text, end(session, "whether it still wants the transaction"))
                }
                None => (
                    format!("A transaction in {database} has been open for {}: it keeps its locks.", seconds(age)),
                    Step::new("Find out whose it is, and whether it is still wanted.").see(Page::Sessions),
                ),
            };
            let point = if age >= OLD_TO_ACT { notes.act(text, step) } else { notes.look(text, step) };
            point.of(Trouble::OldTransaction, database);
        }
    }
}

/// The session whose transaction is the oldest in a database, where it is old.
fn oldest_in<'a>(sessions: &'a [LookedAt], database: &str, at: Timestamp) -> Option<&'a LookedAt> {
    let of = sessions.iter().filter(|session| session.process != PREPARED && session.database == database);
    let oldest = of.min_by_key(|session| session.transaction_started_at.map_or(i64::MAX, |began| began.0))?;
    let is_old = |began: Timestamp| at.seconds_since(began) >= OLD_TO_LOOK;
    oldest.transaction_started_at.is_some_and(is_old).then_some(oldest)
}

/// To end the session of a holder, who was asked something first.
fn end(holder: &LookedAt, asked: &str) -> Step {
    Step::new(format!("Ask {} {asked} of process {}, or end the session.", holder.account, holder.process))
        .run(Remedy::Act(Action::EndSession(SessionMeant {
            process: holder.process,
            started_at: holder.started_at,
            account: holder.account.clone(),
            program: holder.program.clone(),
        })))
        .see(Page::Sessions)
}

/// Whether its transaction is open for long enough; one of which that is not known counts as long.
fn has_held_for_long(holder: &LookedAt, at: Timestamp) -> bool {
    holder.transaction_started_at.is_none_or(|began| at.seconds_since(began) >= HOLDS_UP_AFTER)
}

fn told(holder: &LookedAt, at: Timestamp) -> String {
    if holder.process == PREPARED {
        let since = seconds(at.seconds_since(holder.started_at).max(0.0));
        return format!("The {} of {}, prepared {since} ago,", holder.program, holder.account);
    }
    let idle = if holder.wait_kind.is_none() { ", idle in its transaction" } else { "" };
    let age = holder
        .transaction_started_at
        .map_or_else(String::new, |began| format!(" for {}", seconds(at.seconds_since(began).max(0.0))));
    format!(
        "{} ({}, process {}{idle}{age})",
        holder.account,
        if holder.program.is_empty() { "no program named" } else { &holder.program },
        holder.process
    )
}

/// Sessions that others wait for without waiting themselves, with how many they hold up in all; the most first.
fn holders(sessions: &[LookedAt]) -> Vec<(&LookedAt, usize)> {
    let behind = blocked_behind(sessions.iter().map(|session| (session.process, session.blocked_by.as_slice())));
    let root = |session: &&LookedAt| session.blocked_by.is_empty();
    let mut found: Vec<(&LookedAt, usize)> =
        sessions.iter().filter(root).filter_map(|session| Some((session, *behind.get(&session.process)?))).collect();
    found.sort_by_key(|(session, behind)| (std::cmp::Reverse(*behind), session.process));
    found
}

#[cfg(test)]
mod tests {
    use super::super::NewestValue;
    use super::*;
    use crate::findings::health::Health;

    fn session(process: i32, blocked_by: &[i32]) -> LookedAt {
        LookedAt {
            process,
            started_at: Timestamp(i64::from(process) * 100),
            account: format!("a{process}"),
            blocked_by: blocked_by.to_vec(),
            ..LookedAt::default()
        }
    }

    #[test]
    fn a_holder_answers_for_all_who_wait_behind_it() {
        let sessions = [
            session(1, &[]),
            session(2, &[1]),
            session(3, &[2]),
            session(4, &[2, 1]),
            session(5, &[]),
            session(6, &[5]),
        ];
        let found: Vec<(i32, usize)> =
            holders(&sessions).into_iter().map(|(holder, count)| (holder.process, count)).collect();
        assert_eq!(found, [(1, 3), (5, 1)]);
    }

    #[test]
    fn a_prepared_transaction_holds_up_as_a_session_does_and_has_none_to_end() {
        let mut evidence = Evidence { at: Timestamp(60_000_000), ..Evidence::default() };
        let prepared = LookedAt { program: "prepared transaction transfer".into(), ..session(PREPARED, &[]) };
        evidence.lately.sessions = std::iter::once(prepared).chain((2..9).map(|n| session(n, &[PREPARED]))).collect();
        let finding = check(&evidence);
        assert_eq!(
            finding.summary,
            "The prepared transaction transfer of a0, prepared 60\u{a0}s ago, holds up 7\u{a0}sessions."
        );
        assert_eq!(finding.points[0].step.remedy, Some(Remedy::ListPrepared));
    }

    #[test]
    fn an_old_transaction_is_told_with_whose_it_is_and_what_it_does() {
        let mut evidence = Evidence { at: Timestamp(4_000_000_000), ..Evidence::default() };
        evidence.measures =
            vec![NewestValue { metric: Metric::OldestTransaction, object: "archive".into(), value: 3_600.0 }];
        let told = |evidence: &Evidence| check(evidence).summary;
        assert!(told(&evidence).starts_with("A transaction in archive has been open for 60"), "{}", told(&evidence));
        let of = |process, seconds: i64| LookedAt {
            database: "archive".into(),
            program: "free-text hunt".into(),
            wait_kind: Some(WaitKind::TempSpace),
            transaction_started_at: Some(Timestamp(evidence.at.0 - seconds * 1_000_000)),
            ..session(process, &[])
        };
        evidence.lately.sessions = vec![of(7, 20), of(8, 3_590), session(9, &[])];
        let text = told(&evidence);
        assert!(
            text.starts_with("a8 (free-text hunt, process 8 for 59") && text.contains("waits for temp space"),
            "{text}"
        );
    }

    #[test]
    fn a_transaction_that_has_just_begun_holds_nobody_up_yet() {
        let mut evidence = Evidence { at: Timestamp(60_000_000), ..Evidence::default() };
        let mut held_up_by_one_of = |age: i64| {
            let transaction_started_at = Some(Timestamp(60_000_000 - age * 1_000_000));
            let holder = LookedAt { transaction_started_at, ..session(1, &[]) };
            evidence.lately.sessions = std::iter::once(holder).chain((2..9).map(|n| session(n, &[1]))).collect();
            check(&evidence).verdict()
        };
        assert_eq!([1, 2, 90].map(&mut held_up_by_one_of), [Health::Quiet, Health::Act, Health::Act]);
    }

    #[test]
    fn one_waiter_is_daily_life_five_are_not() {
        let held_up = |count: i32| {
            let mut evidence = Evidence::default();
            evidence.lately.sessions =
                std::iter::once(session(1, &[])).chain((2..2 + count).map(|process| session(process, &[1]))).collect();
            check(&evidence)
        };
        assert_eq!([1, 2, 5].map(|count| held_up(count).verdict()), [Health::Quiet, Health::Look, Health::Act]);
        let finding = held_up(5);
        assert!(finding.summary.starts_with("a1 (no program named, process 1"), "{}", finding.summary);
        let Some(Remedy::Act(Action::EndSession(meant))) = &finding.points[0].step.remedy else {
            panic!("{finding:?}")
        };
        assert_eq!(
            (meant.process, meant.started_at),
            (1, Timestamp(100)),
            "a later one with the same number is another"
        );
    }
}
