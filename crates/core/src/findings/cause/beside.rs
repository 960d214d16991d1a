use super::{Cause, CauseKind, Evidence};
use crate::findings::lasting_change::{LastingChange, Measured, Subject};
use crate::wording::{number, statement};

/// Another statement must take so many busy sessions more to be told.
const LEAST_TAKEN: f64 = 0.2;
/// What another statement takes says little by itself.
const MOST_LIKELY: f64 = 0.6;
/// A statement that does this share of its change by itself does not suffer from another.
const OWN_WORK: f64 = 0.3;

/// Another change of the instance.
#[derive(Debug, Clone, Copy)]
pub struct Beside<'a> {
    /// The statement that changed; nothing where nearly all of them did.
    pub statement: Option<&'a str>,
    /// The change.
    pub change: &'a LastingChange,
    /// What it changes of the server's time, in seconds per second.
    pub cost: f64,
}

impl<'a> Beside<'a> {
    /// A change as evidence beside a family; nothing for what says nothing of how long its calls take: its own changes, and
    /// that nearly all are called more often.
    pub fn of(family: i64, subject: &Subject, text: &'a str, change: &'a LastingChange) -> Option<Beside<'a>> {
        let is_another = subject.family != Some(family);
        let says_something =
            subject.is_time_per_call() || (subject.measured == Measured::Calls && subject.family.is_some());
        let cost = change.cost(subject.measured).filter(|_| is_another && says_something)?;
        Some(Beside { statement: subject.family.map(|_| text), change, cost })
    }
}

/// Causes that lie beside the statement: the whole server became slower, or another statement took its resources.
pub fn causes(evidence: &Evidence) -> Vec<Cause> {
    let near = evidence.beside.iter().filter(|other| began_then(evidence, other));
    let (others, whole): (Vec<&Beside>, Vec<&Beside>) = near.partition(|other| other.statement.is_some());
    let whole = whole.into_iter().filter_map(|whole| of_whole(evidence, whole.change));
    whole.chain(of_other(evidence, &others)).collect()
}

/// Whether another change began when this one did, or holds it within its interval.
pub fn began_then(evidence: &Evidence, other: &Beside) -> bool {
    let (earliest, latest) = evidence.onset_between();
    let near = evidence.near();
    earliest.seconds_since(other.change.onset) <= near && other.change.onset.seconds_since(latest) <= near
}

fn of_whole(evidence: &Evidence, whole: &LastingChange) -> Option<Cause> {
    let step = whole.ratio.value.ln();
    ((step > 0.0) == evidence.is_slower()).then(|| Cause {
        kind: CauseKind::WholeServer,
        likely: 0.9 * (step.abs() / evidence.size()).min(1.0),
        evidence: format!(
            "Nearly all statements take {} times as long since then: the host, its storage, or a setting that reaches everything",
            number(whole.ratio.value)
        ),
        against: None,
    })
}

/// The one that takes most more than before, where this statement does no more itself.
fn of_other(evidence: &Evidence, others: &[&Beside]) -> Option<Cause> {
    let own = evidence
        .explained_by(|counters| counters.hit_pages + counters.read_pages)
        .map_or(0.0, |(_, share)| share)
        .max(evidence.explained_by(|counters| counters.rows).map_or(0.0, |(_, share)| share));
    let greatest = others.iter().max_by(|a, b| a.cost.total_cmp(&b.cost)).filter(|other| other.cost >= LEAST_TAKEN)?;
    let text = greatest.statement?;
    let lost = evidence.change.from_time_per_call;
    (evidence.is_slower() && own < OWN_WORK && greatest.cost > lost).then(|| Cause {
        kind: CauseKind::OtherStatement,
        likely: MOST_LIKELY * greatest.cost / (greatest.cost + lost.max(0.0)),
        evidence: format!(
            "Another statement takes {} busy sessions more since then: {}",
            number(greatest.cost),
            statement(text)
        ),
        against: None,
    })
}

#[cfg(test)]
mod tests {
    use super::super::tests::Case;
    use super::*;
    use crate::findings::lasting_change::test_change;
    use crate::time::Timestamp;

    fn beside(seconds: i64, ratio: f64, cost: f64) -> (LastingChange, f64) {
        (test_change(Timestamp(seconds * 1_000_000), ratio), cost)
    }

    #[test]
    fn a_slower_server_explains_what_it_explains() {
        let mut case = Case::slower(2.0);
        case.beside = vec![(None, beside(1010, 1.8, 0.5))];
        assert_eq!(case.kinds(), [CauseKind::WholeServer]);
        case.beside = vec![(None, beside(1010, 0.6, -0.5)), (None, beside(5000, 1.8, 0.5))];
        assert_eq!(case.kinds(), [], "it became faster, or later");
    }

    #[test]
    fn only_what_may_have_slowed_it_down_is_evidence() {
        let change = test_change(Timestamp(0), 3.0);
        let told = |family, measured| {
            let subject = Subject::of(family, measured);
            Beside::of(7, &subject, "select 8", &change).map(|beside| beside.statement)
        };
        assert_eq!(told(Some(8), Measured::TimePerCall), Some(Some("select 8")));
        assert_eq!(told(Some(8), Measured::Calls), Some(Some("select 8")));
        assert_eq!(told(None, Measured::TimePerCall), Some(None));
        let nothing = [(Some(7), Measured::TimePerCall), (None, Measured::Calls), (Some(8), Measured::PagesPerCall)];
        assert_eq!(nothing.map(|(family, measured)| told(family, measured)), [None; 3]);
    }

    #[test]
    fn one_that_took_the_machine_is_named_where_this_one_does_no_more() {
        let mut case = Case::slower(1.5);
        case.change.from_time_per_call = 0.1;
        case.beside = vec![(Some("select count(*) from gate_scan"), beside(1000, 40.0, 3.0))];
        let causes = case.causes();
        assert_eq!(causes[0].kind, CauseKind::OtherStatement);
        assert!(causes[0].evidence.contains("gate_scan"), "{causes:?}");
        case.after.counters.hit_pages *= 3;
        assert!(!case.kinds().contains(&CauseKind::OtherStatement));
    }
}
