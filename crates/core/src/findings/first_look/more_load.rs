//! Sessions that run or wait more than before for good, where no statement that changed tells why.

use super::evidence::{Evidence, Grown};
use super::finding::{Notes, Page, Step};
use super::waits::advice;
use crate::findings::alarm::Trouble;
use crate::findings::figure::ServerFigure;
use crate::findings::lasting_change::Measured;
use crate::readings::wait_kind::WaitKind;
use crate::wording::number;

/// Sessions more that nothing explains, from which on somebody should look.
const LEFT_TO_LOOK: f64 = 1.0;

/// Tells of load and of each kind of wait that costs what it became more, once the week is known.
pub(super) fn told(evidence: &Evidence, notes: &mut Notes) {
    let of_server = |measured| evidence.grown_of(measured).filter(|grown| grown.subject.family.is_none());
    for grown in of_server(Measured::Load).chain(of_server(Measured::Waits)) {
        let Some((figure, _)) = ServerFigure::of(grown.subject.measured, &grown.subject.object) else { continue };
        let step = match figure {
            ServerFigure::Waits(kind) => advice(kind),
            _ => Some("See which statements, accounts and clients it comes from, and what began then."),
        };
        let left = grown.change.cost(grown.subject.measured).unwrap_or_default() - explained(evidence, grown);
        let Some(step) = step.filter(|_| left >= LEFT_TO_LOOK && evidence.knows_the_week_before(grown.change.onset))
        else {
            continue;
        };
        let text = format!(
            "{}: {} in place of {}, and the statements that changed then do not tell why.",
            figure.title(),
            number(grown.change.after.typical),
            number(grown.change.before.typical)
        );
        let trouble = match figure {
            ServerFigure::Waits(WaitKind::Lock) => Trouble::LockWaits,
            _ => Trouble::MoreLoad,
        };
        let point = notes.look(text, Step::new(step).see(Page::Load)).of(trouble, "");
        (point.since, point.lost_seconds_per_second) = (Some(grown.change.onset), left);
    }
}

/// Sessions that are busy because of what statements, or all of them together, take more since about then; also where
/// somebody said that this is no trouble.
fn explained(evidence: &Evidence, load: &Grown) -> f64 {
    let of_statements = evidence.grown.iter().filter(|grown| {
        matches!(grown.subject.measured, Measured::TimePerCall | Measured::Calls)
            && grown.change.began_near(load.change.onset)
    });
    of_statements.filter_map(|grown| grown.change.cost(grown.subject.measured)).sum()
}

#[cfg(test)]
mod tests {
    use super::super::finding::Point;
    use super::super::{Check, Grown, History};
    use super::*;
    use crate::findings::lasting_change::{LastingChange, Side, Subject, test_change};
    use crate::time::Timestamp;

    const ONSET: Timestamp = Timestamp(20 * 86_400_000_000);

    fn grown(family: Option<i64>, measured: Measured, object: &str, (before, after): (f64, f64)) -> Grown {
        let change = test_change(ONSET, 2.0);
        let side = |typical| Side { typical, ..change.before };
        Grown {
            subject: Subject { object: object.into(), ..Subject::of(family, measured) },
            text: String::new(),
            is_settled: false,
            change: LastingChange {
                before: side(before),
                after: side(after),
                from_time_per_call: after - before,
                from_calls: after - before,
                ..change
            },
        }
    }

    fn points(grown: Vec<Grown>) -> Vec<Point> {
        let mut notes = Notes::default();
        let history = History { first: Some(Timestamp(0)), ..History::default() };
        told(&Evidence { grown, history, ..Evidence::default() }, &mut notes);
        notes.done(Check::Waits, "").points
    }

    #[test]
    fn what_nothing_explains_is_told_with_since_when_and_what_it_costs() {
        let points = points(vec![grown(None, Measured::Load, "", (2.0, 5.0))]);
        assert_eq!(points.len(), 1);
        assert_eq!((points[0].trouble, points[0].since), (Some(Trouble::MoreLoad), Some(ONSET)));
        assert_eq!(points[0].lost_seconds_per_second, 3.0);
        assert!(points[0].text.starts_with("Busy sessions: 5 in place of 2"), "{}", points[0].text);
    }

    #[test]
    fn a_monday_is_not_told_to_somebody_who_has_seen_one_sunday() {
        let first = Some(ONSET.plus_seconds(-2.0 * 86_400.0));
        let grown = vec![grown(None, Measured::Load, "", (2.0, 5.0))];
        let mut notes = Notes::default();
        told(&Evidence { grown, history: History { first, ..History::default() }, ..Evidence::default() }, &mut notes);
        assert!(notes.done(Check::Waits, "").points.is_empty());
    }

    #[test]
    fn locks_are_lock_waits_and_what_is_no_trouble_by_itself_is_not_told() {
        let waits = |kind: WaitKind| grown(None, Measured::Waits, kind.into(), (0.5, 2.5));
        assert_eq!(points(vec![waits(WaitKind::Lock)])[0].trouble, Some(Trouble::LockWaits));
        assert_eq!(points(vec![waits(WaitKind::StorageRead)])[0].trouble, Some(Trouble::MoreLoad));
        assert!(points(vec![waits(WaitKind::Network)]).is_empty());
    }

    #[test]
    fn statements_that_changed_then_explain_it_also_where_somebody_settled_them() {
        let load = || grown(None, Measured::Load, "", (2.0, 5.0));
        let slower = |settled, seconds: f64| Grown {
            is_settled: settled,
            ..grown(Some(7), Measured::TimePerCall, "", (0.0, seconds))
        };
        assert!(points(vec![load(), slower(false, 2.5)]).is_empty());
        assert!(points(vec![load(), slower(true, 2.5)]).is_empty());
        assert_eq!(points(vec![load(), slower(true, 1.5)])[0].lost_seconds_per_second, 1.5);
        let mut days_before = slower(true, 2.5);
        days_before.change.onset = ONSET.plus_seconds(-200_000.0);
        days_before.change.onset_between = None;
        assert_eq!(points(vec![load(), days_before]).len(), 1);
        assert!(points(vec![Grown { is_settled: true, ..load() }]).is_empty());
    }
}
