use super::AdviceKind;
use crate::findings::effect::Verdict;
use crate::findings::robust::median;
use crate::named::Named;

/// What came of one piece of advice that was carried out.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Outcome {
    /// Its number in the book.
    pub advice_id: i64,
    /// Its kind.
    pub kind: AdviceKind,
    /// What came of it.
    pub verdict: Verdict,
    /// Predicted time saved, in seconds per day; 0 where none was promised.
    pub predicted_seconds_per_day: f64,
    /// Measured time saved, in seconds per day; nothing where it could not be measured.
    pub measured_seconds_per_day: Option<f64>,
}

/// How often advice of a kind was right.
#[derive(Debug, Clone, PartialEq)]
pub struct TrackRecord {
    /// The kind.
    pub kind: AdviceKind,
    /// Pieces that were confirmed.
    pub right: usize,
    /// Pieces that had no effect or did harm.
    pub wrong: usize,
    /// Pieces of which it is too early to tell, or cannot be told.
    pub undecided: usize,
    /// Median of measured ÷ predicted, of what was promised and measured; nothing without any.
    pub measured_share: Option<f64>,
}

/// The track record of each kind of which anything was carried out.
pub fn track_record(outcomes: &[Outcome]) -> Vec<TrackRecord> {
    let record = |kind: AdviceKind| {
        let of_kind = || outcomes.iter().filter(move |outcome| outcome.kind == kind);
        let count = |verdicts: &[Verdict]| of_kind().filter(|outcome| verdicts.contains(&outcome.verdict)).count();
        let shares = of_kind()
            .filter(|outcome| outcome.predicted_seconds_per_day > 0.0)
            .filter_map(|outcome| Some(outcome.measured_seconds_per_day? / outcome.predicted_seconds_per_day));
        TrackRecord {
            kind,
            right: count(&[Verdict::Confirmed]),
            wrong: count(&[Verdict::NoEffect, Verdict::Harmful]),
            undecided: count(&[Verdict::TooEarly, Verdict::CannotTell]),
            measured_share: median(&shares.collect::<Vec<f64>>()),
        }
    };
    AdviceKind::all().map(record).filter(|record| record.right + record.wrong + record.undecided > 0).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn right_wrong_and_undecided_are_counted_by_kind() {
        let outcome = |kind, verdict, measured_seconds_per_day| Outcome {
            advice_id: 1,
            kind,
            verdict,
            predicted_seconds_per_day: if kind == AdviceKind::MissingIndex { 100.0 } else { 0.0 },
            measured_seconds_per_day,
        };
        let record = track_record(&[
            outcome(AdviceKind::MissingIndex, Verdict::Confirmed, Some(80.0)),
            outcome(AdviceKind::MissingIndex, Verdict::Confirmed, Some(120.0)),
            outcome(AdviceKind::MissingIndex, Verdict::NoEffect, Some(0.0)),
            outcome(AdviceKind::MissingIndex, Verdict::TooEarly, None),
        ]);
        let [missing] = &record[..] else { panic!("{record:?}") };
        assert_eq!((missing.right, missing.wrong, missing.undecided), (2, 1, 1));
        assert_eq!(missing.measured_share, Some(0.8));
        let unused = track_record(&[outcome(AdviceKind::UnusedIndex, Verdict::Harmful, Some(-5.0))]);
        assert_eq!((unused[0].wrong, unused[0].measured_share), (1, None));
    }
}
