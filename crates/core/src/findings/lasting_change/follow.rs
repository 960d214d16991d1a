use super::LastingChange;
use super::measured::Subject;
use super::story::Kept;
use crate::time::{Timestamp, Window};

/// A change that is followed.
#[derive(Debug, Clone, PartialEq)]
pub struct Followed {
    /// Its number; nothing for one that was just found.
    pub change_id: Option<i64>,
    /// What changed.
    pub subject: Subject,
    /// The change, and what became of it.
    pub kept: Kept,
}

/// A look at an instance.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Look {
    /// Onsets that it can tell well. Those before are told by a longer look, those behind by one with shorter buckets.
    pub tells: Window,
    /// When it was made.
    pub at: Timestamp,
    /// Onsets so many seconds apart may be the same.
    pub tolerance_seconds: f64,
    /// How many rounds it counts for where it does not find a change.
    pub rounds: u32,
}

/// Brings the changes of an instance up to date with what a look found; answers with those that are to be written.
///
/// One found again is the same change, the nearest of its subject. One whose onset the look tells and that it did not find
/// is missed. An older one holds until one found now brings the level back; a younger one is another look's.
pub fn follow(mut known: Vec<Followed>, found: &[(Subject, LastingChange)], look: &Look) -> Vec<Followed> {
    let Look { tells, at: now, tolerance_seconds, rounds } = *look;
    let is_told = |onset: Timestamp| onset >= tells.from && onset < tells.to;
    let mut written: Vec<Followed> = Vec::new();
    for (subject, change) in found.iter().filter(|(_, change)| is_told(change.onset)) {
        let distance = |kept: &Kept| kept.change.onset.seconds_since(change.onset).abs();
        let same = known
            .iter()
            .enumerate()
            .filter(|(_, one)| one.subject == *subject && one.kept.is_same(change, tolerance_seconds))
            .min_by(|(_, a), (_, b)| distance(&a.kept).total_cmp(&distance(&b.kept)))
            .map(|(place, _)| place);
        written.push(match same.map(|place| known.remove(place)) {
            Some(mut followed) => {
                followed.kept.found_again(change.clone(), now, tolerance_seconds);
                followed
            }
            None => Followed { change_id: None, subject: subject.clone(), kept: Kept::found(change.clone(), now) },
        });
    }
    let (missed, others): (Vec<Followed>, Vec<Followed>) =
        known.into_iter().partition(|known| is_told(known.kept.change.onset));
    for mut missed in missed.into_iter().filter(|missed| !missed.kept.is_withdrawn()) {
        missed.kept.missed(now, rounds, found.iter().any(|(subject, _)| *subject == missed.subject));
        written.push(missed);
    }
    let is_older = |one: &Followed| one.kept.change.onset < tells.from && one.kept.change.until.is_none();
    for mut holds in others.into_iter().filter(|one| is_older(one) && !one.subject.is_whole_server()) {
        let of_same = found.iter().filter(|(subject, _)| *subject == holds.subject).map(|(_, change)| change);
        let mut lasting = of_same.filter(|change| !change.passed && is_told(change.onset));
        if let Some(back) = lasting.find(|change| holds.kept.change.is_over_at(change.level())) {
            holds.kept.ended(back.onset, now);
            written.push(holds);
        }
    }
    written
}

#[cfg(test)]
mod tests {
    use super::super::{Measured, Turnout, test_change};
    use super::*;

    fn subject(family: Option<i64>) -> Subject {
        Subject::of(family, Measured::TimePerCall)
    }

    fn found(changes: &[(Option<i64>, LastingChange)]) -> Vec<(Subject, LastingChange)> {
        changes.iter().map(|(family, change)| (subject(*family), change.clone())).collect()
    }

    const FAMILY: Option<i64> = Some(7);
    const LOOK: Look = Look {
        tells: Window { from: Timestamp(1_000_000_000), to: Timestamp(8_000_000_000) },
        at: Timestamp(9_000_000_000),
        tolerance_seconds: 30.0,
        rounds: 1,
    };

    fn at(seconds: f64) -> Timestamp {
        Timestamp(0).plus_seconds(seconds)
    }

    fn known(change_id: i64, onset: f64, ratio: f64) -> Followed {
        let kept = Kept::found(test_change(at(onset), ratio), at(onset));
        Followed { change_id: Some(change_id), subject: subject(FAMILY), kept }
    }

    /// What is written, with number, turnouts and whether it was missed.
    fn followed(known: Vec<Followed>, changes: &[(Option<i64>, LastingChange)]) -> Vec<(Option<i64>, Turnout, u32)> {
        let written = follow(known, &found(changes), &LOOK);
        written.iter().map(|one| (one.change_id, one.kept.story.last().unwrap().turnout, one.kept.missed)).collect()
    }

    #[test]
    fn the_nearest_of_the_family_is_the_same_and_the_others_are_missed() {
        let found = [(FAMILY, test_change(at(2020.0), 3.0)), (None, test_change(at(2020.0), 3.0))];
        assert_eq!(
            followed(vec![known(1, 2000.0, 3.0), known(2, 2018.0, 3.0), known(3, 5000.0, 0.5)], &found),
            [
                (Some(2), Turnout::Found, 0),
                (None, Turnout::Found, 0),
                (Some(1), Turnout::Found, 4),
                (Some(3), Turnout::Found, 4)
            ]
        );
    }

    #[test]
    fn one_that_began_before_the_window_holds_until_the_level_is_back() {
        let older = || vec![known(1, 500.0, 10.0)];
        assert_eq!(followed(older(), &[]), []);
        let mut half = test_change(at(4000.0), 0.5);
        half.before.typical = 10.0;
        assert_eq!(followed(older(), &[(FAMILY, half.clone())]), [(None, Turnout::Found, 0)]);
        let back = LastingChange { ratio: test_change(at(0.0), 0.1).ratio, ..half };
        assert_eq!(
            followed(older(), &[(FAMILY, back.clone())]),
            [(None, Turnout::Found, 0), (Some(1), Turnout::Over, 0)]
        );
        let written = follow(older(), &found(&[(FAMILY, back)]), &LOOK);
        assert_eq!(written[1].kept.change.until, Some(at(4000.0)));
    }

    #[test]
    fn each_look_tells_its_own_onsets_only() {
        let change = |onset: f64| (FAMILY, test_change(at(onset), 3.0));
        assert_eq!(followed(vec![], &[change(900.0), change(8_500.0)]), []);
        // One on the edge is the one that another look found.
        assert_eq!(followed(vec![known(1, 990.0, 3.0)], &[change(1_010.0)]), [(Some(1), Turnout::Found, 0)]);
        assert_eq!(followed(vec![known(1, 8_500.0, 3.0), known(2, 900.0, 3.0)], &[]), []);
        let written = follow(vec![known(1, 2_000.0, 3.0)], &[], &Look { rounds: 12, ..LOOK });
        assert_eq!((written.len(), written[0].kept.is_withdrawn()), (1, true));
    }
}
