use super::{Check, Evidence, Finding, Point, first_look};
use crate::changes::remedy::Remedy;
use crate::findings::alarm::{Fact, Sign, Trouble};
use crate::findings::health::Health;
use crate::named::Named;
use crate::readings::metric::Metric;

/// Troubles that are looked for more often than the others, by what the sessions were last seen to do.
pub const QUICK: &[Trouble] = &[Trouble::Unreachable, Trouble::HoldUp, Trouble::OldTransaction];
/// What these say is worth a look is how a server usually is: what is otherwise than usual, its ranges and lasting
/// changes tell. Only what is to act on is an alarm.
const ONLY_TO_ACT_ON: &[Trouble] =
    &[Trouble::Waits, Trouble::Memory, Trouble::CostlyStatement, Trouble::SettingChanged];
/// Pieces of evidence that are told of a sign.
const MOST_FACTS: usize = 12;

/// Troubles that the evidence tells of: those of which nothing is known are not gone because they are not found.
///
/// Without figures that arrive nothing is known but that.
pub fn looked_for(evidence: &Evidence) -> Vec<Trouble> {
    if evidence.history.problem.is_some() {
        return vec![Trouble::Unreachable];
    }
    if evidence.history.is_silent {
        return Vec::new();
    }
    let is_known = |trouble: &Trouble| {
        let needs = match trouble {
            Trouble::Volume => Metric::VolumeFree,
            Trouble::TransactionIds => Metric::TransactionAge,
            Trouble::DeadRows => Metric::DatabaseSize,
            Trouble::Connections => Metric::ConnectionsAllowed,
            _ => return true,
        };
        evidence.measured_of(needs).next().is_some()
    };
    let mut all: Vec<Trouble> = Check::all().flat_map(Check::troubles).copied().filter(is_known).collect();
    all.sort_unstable();
    all.dedup();
    all
}

/// Likewise of [`QUICK`] ones.
pub fn quickly_looked_for(evidence: &Evidence) -> Vec<Trouble> {
    looked_for(evidence).into_iter().filter(|trouble| QUICK.contains(trouble)).collect()
}

/// What the evidence shows, of troubles that it tells of. `statement` writes a remedy as its server is told.
pub fn signs(evidence: &Evidence, statement: impl Fn(&Remedy) -> Option<String>) -> Vec<Sign> {
    of_troubles(first_look(evidence), &looked_for(evidence), statement)
}

/// Likewise of [`QUICK`] ones, for which the newest look at the sessions and the newest figures are enough.
pub fn quick_signs(evidence: &Evidence, statement: impl Fn(&Remedy) -> Option<String>) -> Vec<Sign> {
    let findings = [Check::Collection, Check::Locks].map(|check| check.finding(evidence));
    of_troubles(findings.into(), &quickly_looked_for(evidence), statement)
}

fn of_troubles(
    findings: Vec<Finding>,
    troubles: &[Trouble],
    statement: impl Fn(&Remedy) -> Option<String>,
) -> Vec<Sign> {
    let signs = findings.into_iter().flat_map(|finding| {
        let facts: Vec<Fact> = finding
            .facts
            .iter()
            .filter(|fact| !fact.value.is_empty())
            .take(MOST_FACTS)
            .map(|fact| Fact { what: fact.what.clone(), value: fact.value.clone() })
            .collect();
        let of = finding.check.trouble();
        finding.points.into_iter().map(move |point| (of, point, facts.clone()))
    });
    signs
        .filter(|(of, point, _)| {
            let trouble = point.trouble.unwrap_or(*of);
            let is_trouble = match point.verdict {
                Health::Act => true,
                Health::Look => !ONLY_TO_ACT_ON.contains(&trouble),
                Health::NoData | Health::Quiet => false,
            };
            is_trouble && troubles.contains(&trouble)
        })
        .map(|(of, point, facts)| sign(of, point, facts, &statement))
        .collect()
}

fn sign(of: Trouble, point: Point, facts: Vec<Fact>, statement: impl Fn(&Remedy) -> Option<String>) -> Sign {
    let remedy = point.step.remedy;
    Sign {
        trouble: point.trouble.unwrap_or(of),
        object: point.object,
        families: point.families,
        verdict: point.verdict,
        text: point.text,
        since: point.since,
        lost_seconds_per_second: point.lost_seconds_per_second,
        facts,
        step: point.step.text,
        page: point.step.page,
        statement: remedy.as_ref().and_then(statement),
        action: remedy.and_then(|remedy| match remedy {
            Remedy::Act(action) => Some(action),
            _ => None,
        }),
        figure: None,
    }
}

#[cfg(test)]
mod tests {
    use super::super::{History, NewestValue};
    use super::*;

    #[test]
    fn what_is_found_is_a_sign_and_what_is_not_known_is_not_looked_for() {
        let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
        let evidence = Evidence {
            measures: vec![
                measured(Metric::DatabaseSize, "crew", 1e9),
                measured(Metric::OldestPrepared, "", 90_000.0),
                measured(Metric::SequenceUsed, "public.duty_id", 0.99),
            ],
            ..Evidence::default()
        };
        let signs = signs(&evidence, |remedy| Some(format!("{remedy:?}")));
        let found: Vec<(Trouble, &str)> = signs.iter().map(|sign| (sign.trouble, sign.object.as_str())).collect();
        assert_eq!(found, [(Trouble::PreparedTransaction, ""), (Trouble::Sequence, "public.duty_id")]);
        assert!(signs[1].statement.is_some() && signs[1].text.contains("public.duty_id"), "{signs:?}");
        let troubles = looked_for(&evidence);
        assert!(troubles.contains(&Trouble::Sequence) && !troubles.contains(&Trouble::Volume), "{troubles:?}");
    }

    #[test]
    fn of_a_server_that_does_not_answer_nothing_else_is_known() {
        let history = History { problem: Some("The server refuses.".into()), ..History::default() };
        let evidence = Evidence { history, ..Evidence::default() };
        assert_eq!(looked_for(&evidence), [Trouble::Unreachable]);
        let quick = quick_signs(&evidence, |_| None);
        assert_eq!(quick.iter().map(|sign| sign.trouble).collect::<Vec<_>>(), [Trouble::Unreachable]);
    }

    #[test]
    fn where_nothing_arrived_lately_nothing_was_looked_for() {
        let evidence =
            |is_silent| Evidence { history: History { is_silent, ..History::default() }, ..Evidence::default() };
        assert!(quickly_looked_for(&evidence(false)).contains(&Trouble::HoldUp));
        assert_eq!(looked_for(&evidence(true)), [], "a hold-up that nobody can see is not gone");
    }
}
