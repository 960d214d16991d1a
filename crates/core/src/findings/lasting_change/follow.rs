use super::LastingChange;
use super::story::Kept;
use crate::time::Timestamp;

/// A change that is followed.
#[derive(Debug, Clone, PartialEq)]
pub struct Followed {
    /// Its number; nothing for one that was just found.
    pub change_id: Option<i64>,
    /// The family that changed; nothing where the whole server did.
    pub family: Option<i64>,
    /// The change, and what became of it.
    pub kept: Kept,
}

/// Brings the changes of an instance up to date with what was found in a window that begins at `from`; answers with
/// those that are to be written.
///
/// One found again is the same change, the nearest of its family. One that began in the window and is not found again is
/// missed. One that began before it is not looked for any more: it holds until one found now brings the level back.
pub fn follow(
    known: Vec<Followed>,
    found: &[(Option<i64>, LastingChange)],
    from: Timestamp,
    now: Timestamp,
    tolerance_seconds: f64,
) -> Vec<Followed> {
    let (mut known, older): (Vec<Followed>, Vec<Followed>) =
        known.into_iter().partition(|followed| followed.kept.change.onset >= from);
    let mut written: Vec<Followed> = Vec::new();
    for (family, change) in found {
        let distance = |kept: &Kept| kept.change.onset.seconds_since(change.onset).abs();
        let same = known
            .iter()
            .enumerate()
            .filter(|(_, one)| one.family == *family && one.kept.is_same(change, tolerance_seconds))
            .min_by(|(_, a), (_, b)| distance(&a.kept).total_cmp(&distance(&b.kept)))
            .map(|(place, _)| place);
        written.push(match same.map(|place| known.remove(place)) {
            Some(mut followed) => {
                followed.kept.found_again(change.clone(), now, tolerance_seconds);
                followed
            }
            None => Followed { change_id: None, family: *family, kept: Kept::found(change.clone(), now) },
        });
    }
    for mut missed in known.into_iter().filter(|missed| !missed.kept.is_withdrawn()) {
        missed.kept.missed(now, found.iter().any(|(family, _)| *family == missed.family));
        written.push(missed);
    }
    for mut holds in older.into_iter().filter(|older| older.kept.change.until.is_none() && older.family.is_some()) {
        let of_family = found.iter().filter(|(family, change)| *family == holds.family && !change.passed);
        let back = of_family.map(|(_, change)| change).find(|change| holds.kept.change.is_over_at(change.level_ms()));
        if let Some(back) = back {
            holds.kept.ended(back.onset, now);
            written.push(holds);
        }
    }
    written
}

#[cfg(test)]
mod tests {
    use super::super::{Turnout, test_change};
    use super::*;

    const FAMILY: Option<i64> = Some(7);

    fn at(seconds: f64) -> Timestamp {
        Timestamp(0).plus_seconds(seconds)
    }

    fn known(change_id: i64, onset: f64, ratio: f64) -> Followed {
        let kept = Kept::found(test_change(at(onset), ratio), at(onset));
        Followed { change_id: Some(change_id), family: FAMILY, kept }
    }

    /// What is written, with number, turnouts and whether it was missed.
    fn followed(known: Vec<Followed>, found: &[(Option<i64>, LastingChange)]) -> Vec<(Option<i64>, Turnout, u32)> {
        let written = follow(known, found, at(1000.0), at(9000.0), 30.0);
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
        half.before.typical_ms = 10.0;
        assert_eq!(followed(older(), &[(FAMILY, half.clone())]), [(None, Turnout::Found, 0)]);
        let back = LastingChange { ratio: test_change(at(0.0), 0.1).ratio, ..half };
        assert_eq!(
            followed(older(), &[(FAMILY, back.clone())]),
            [(None, Turnout::Found, 0), (Some(1), Turnout::Over, 0)]
        );
        let written = follow(older(), &[(FAMILY, back)], at(1000.0), at(9000.0), 30.0);
        assert_eq!(written[1].kept.change.until, Some(at(4000.0)));
    }
}
