use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::findings::alarm::Trouble;
use crate::findings::health::{ACT_FROM, Health};
use crate::findings::lasting_change::Measured;
use crate::wording::{number, percent, seconds, statement};

/// Families told.
const MOST_TOLD: usize = 5;
/// A family is worth a look when it takes this share of all time, and keeps this many sessions busy.
const SHARE_TO_LOOK: f64 = 0.5;
const BUSY_TO_LOOK: f64 = 0.5;
/// A single call that takes so many seconds on average is worth a look where it keeps a tenth of a session busy.
const LONG_SECONDS: f64 = 10.0;
const BUSY_WITH_LONG: f64 = 0.1;

/// Which statements take the time, and which became slower.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    let lately = &evidence.lately;
    for slowdown in evidence.grown_of(Measured::TimePerCall) {
        let (change, lost) = (&slowdown.change, slowdown.change.from_time_per_call.max(0.0));
        let verdict = if lost >= ACT_FROM { Health::Act } else { Health::Look };
        let (times, lost_told) = (number(change.ratio.value), seconds(lost));
        let (text, step) = match slowdown.subject.family {
            Some(family) => (
                format!(
                    "A statement takes {times} times as long ({} → {} a call): {}",
                    seconds(change.before.typical / 1e3),
                    seconds(change.after.typical / 1e3),
                    statement(&slowdown.text)
                ),
                Step::new("See when it began, what changed then, and what would help.").see(Page::Family(family)),
            ),
            None => (
                format!(
                    "Nearly all statements take {times} times as long as before, which loses {lost_told} in each second: \
                     the whole server is slower, and no statement of its own."
                ),
                Step::new(
                    "See what sessions wait for, and ask what changed on the host: its load, its storage, a setting.",
                )
                .see(Page::Load),
            ),
        };
        let point = notes.point(verdict, text, step);
        match slowdown.subject.family {
            Some(family) => point.of_family(Trouble::SlowStatement, family),
            None => point.of(Trouble::SlowServer, ""),
        };
        (point.since, point.lost_seconds_per_second) = (Some(change.onset), lost);
    }
    for called in evidence.grown_of(Measured::Calls) {
        let (change, more) = (&called.change, called.change.from_calls);
        let Some(family) =
            called.subject.family.filter(|_| more >= ACT_FROM && evidence.knows_the_week_before(change.onset))
        else {
            continue;
        };
        let text = format!(
            "A statement is called {} times as often and takes {} more in each second: {}",
            number(change.ratio.value),
            seconds(more),
            statement(&called.text)
        );
        let step = Step::new("See who calls it, and whether that is meant.").see(Page::Family(family));
        let point = notes.look(text, step).of_family(Trouble::MoreCalls, family);
        (point.since, point.lost_seconds_per_second) = (Some(change.onset), more);
    }
    if lately.statement_seconds <= 0.0 {
        notes.unknown(
            "Statements were not counted yet.",
            Step::new("See whether the server tells them.").see(Page::Collection),
        );
        return notes.done(Check::Statements, "");
    }
    let all = lately.all_statements.exec_us as f64 / 1e6;
    notes.fact(format!("All statements, in {}", seconds(lately.statement_seconds)), seconds(all));
    for family in lately.statements.iter().take(MOST_TOLD) {
        let took = family.counters.exec_us as f64 / 1e6;
        let (share, busy) = (took / all.max(f64::MIN_POSITIVE), took / lately.statement_seconds);
        let mean = took / family.counters.calls.max(1) as f64;
        notes.fact(
            statement(&family.text),
            format!(
                "{} of the time, {} a call, {} calls",
                percent(share),
                seconds(mean),
                number(family.counters.calls as f64)
            ),
        );
        let step = Step::new("See its plan, and what it waits for.").see(Page::Family(family.family_id));
        let known =
            evidence.grown_of(Measured::TimePerCall).any(|slowdown| slowdown.subject.family == Some(family.family_id));
        if !known && share >= SHARE_TO_LOOK && busy >= BUSY_TO_LOOK {
            let text = format!(
                "A statement takes {} of all time, {} sessions: {}",
                percent(share),
                number(busy),
                statement(&family.text)
            );
            notes.look(text, step).of(Trouble::CostlyStatement, family.family_id.to_string());
        } else if !known && mean >= LONG_SECONDS && busy >= BUSY_WITH_LONG {
            let text = format!("A call takes {}: {}", seconds(mean), statement(&family.text));
            notes.look(text, step).of(Trouble::CostlyStatement, family.family_id.to_string());
        }
    }
    let summary = match lately.statements.first() {
        None => "No statement ran.".to_owned(),
        Some(_) => format!(
            "All statements together keep {} sessions busy; none stands out.",
            number(all / lately.statement_seconds)
        ),
    };
    notes.done(Check::Statements, summary)
}

#[cfg(test)]
mod tests {
    use super::super::evidence::{CostlyFamily, Lately};
    use super::*;
    use crate::readings::counters::StatementCounters;

    fn verdict(calls: i64, exec_seconds: i64, all_seconds: i64) -> Health {
        let counters = |seconds: i64| StatementCounters { calls, exec_us: seconds * 1_000_000, ..Default::default() };
        check(&Evidence {
            lately: Lately {
                statements: vec![CostlyFamily {
                    family_id: 1,
                    text: "SELECT 1".into(),
                    counters: counters(exec_seconds),
                }],
                all_statements: counters(all_seconds),
                statement_seconds: 100.0,
                ..Lately::default()
            },
            ..Evidence::default()
        })
        .verdict()
    }

    #[test]
    fn a_family_stands_out_by_its_share_or_by_its_length() {
        assert_eq!(verdict(1000, 40, 50), Health::Quiet, "the server has nothing else to do");
        assert_eq!(verdict(1000, 60, 200), Health::Quiet, "one of several");
        assert_eq!(verdict(1000, 60, 100), Health::Look);
        assert_eq!(verdict(1, 12, 500), Health::Look, "a long one");
        assert_eq!(verdict(1, 8, 500), Health::Quiet);
    }

    #[test]
    fn nothing_is_said_before_anything_was_counted() {
        assert_eq!(check(&Evidence::default()).verdict(), Health::NoData);
    }
}
