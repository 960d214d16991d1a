use super::Check;
use super::evidence::Evidence;
use super::finding::{Finding, Notes, Page, Step};
use crate::changes::remedy::{Qualified, Remedy};
use crate::findings::alarm::Trouble;
use crate::readings::metric::Metric;
use crate::wording::{number, percent};

/// Share of the numbers given out that is worth a look, and to act on.
const USED_TO_LOOK: f64 = 0.75;
const USED_TO_ACT: f64 = 0.9;
/// Sequences told.
const MOST_TOLD: usize = 5;

/// Which sequences are near their end.
pub fn check(evidence: &Evidence) -> Finding {
    let mut notes = Notes::default();
    if evidence.measured_of(Metric::DatabaseSize).next().is_none() {
        notes.unknown(
            "Sequences were not read yet.",
            Step::new("Wait for the next reading, or ask for one now.").see(Page::Collection),
        );
        return notes.done(Check::Sequences, "");
    }
    let sequences = evidence.largest_of(Metric::SequenceUsed);
    for (sequence, used) in sequences.iter().take(MOST_TOLD) {
        notes.fact((*sequence).to_owned(), format!("{} used", percent(*used)));
    }
    for (sequence, used) in sequences.iter().filter(|(_, used)| *used >= USED_TO_LOOK) {
        let text = format!(
            "The sequence {sequence} has given out {} of the numbers that it, or the narrowest column that it feeds, can hold.",
            percent(*used)
        );
        let step = Step::new("Widen every column that takes its numbers first, then the sequence:")
            .run(Remedy::WidenSequence(Qualified::of(sequence)));
        let point = if *used >= USED_TO_ACT { notes.act(text, step) } else { notes.look(text, step) };
        point.of(Trouble::Sequence, *sequence);
    }
    let quiet = match sequences.first() {
        None => "No sequence has given out a number that the account may see.".to_owned(),
        Some((_, most)) => {
            format!("{} sequences; the fullest has given out {}.", number(sequences.len() as f64), percent(*most))
        }
    };
    notes.done(Check::Sequences, quiet)
}

#[cfg(test)]
mod tests {
    use super::super::evidence::NewestValue;
    use super::*;
    use crate::findings::health::Health;

    #[test]
    fn a_sequence_is_told_of_before_it_ends() {
        let verdict = |used: f64| {
            let measured = |metric, object: &str, value| NewestValue { metric, object: object.into(), value };
            let measures = vec![
                measured(Metric::DatabaseSize, "crew", 1.0),
                measured(Metric::SequenceUsed, "public.shift_shift_id_seq", used),
            ];
            check(&Evidence { measures, ..Evidence::default() }).verdict()
        };
        assert_eq!([0.1, 0.8, 0.95].map(verdict), [Health::Quiet, Health::Look, Health::Act]);
    }
}
