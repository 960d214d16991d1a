use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use super::LastingChange;
use crate::time::Timestamp;

/// A change that is not found any more for so many rounds was none: noise showed it, and more figures did not.
const WITHDRAWN_AFTER: u32 = 12;

/// Where the same series shows another change instead, a round counts as so many.
const CUT_OTHERWISE: u32 = 4;

/// A change is told as larger or smaller where its size on the log scale is another by this share: whether a call takes
/// three thousand times as long or five thousand changes nothing for anybody.
const WORTH_TELLING: f64 = 0.25;

/// What became of a change once it was found.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Turnout {
    /// It was found.
    Found,
    /// It is larger than was told.
    Grew,
    /// It is smaller than was told.
    Shrank,
    /// It began at another time than was told.
    Moved,
    /// A later change brought the time per call back.
    Over,
    /// The time per call was back within days.
    Passed,
    /// It holds after all.
    HoldsAgain,
    /// More figures showed that there was none.
    Withdrawn,
}

/// One entry of the story of a change.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// When that was seen.
    pub at: Timestamp,
    /// What.
    pub turnout: Turnout,
    /// New time per call ÷ old, as it was told then.
    pub ratio: f64,
    /// When the change began, as it was told then.
    pub onset: Timestamp,
}

/// A change that is kept, with what became of it.
#[derive(Debug, Clone, PartialEq)]
pub struct Kept {
    /// The change as it was last found.
    pub change: LastingChange,
    /// Its story, in order of time.
    pub story: Vec<Entry>,
    /// In how many rounds in a row it was not found.
    pub missed: u32,
}

impl Kept {
    /// One that was just found.
    pub fn found(change: LastingChange, now: Timestamp) -> Kept {
        let mut kept = Kept { change, story: Vec::new(), missed: 0 };
        kept.tell(Turnout::Found, now);
        kept
    }

    /// It is over since then, which a change found now tells.
    pub(super) fn ended(&mut self, until: Timestamp, now: Timestamp) {
        self.change.until = Some(until);
        self.tell(Turnout::Over, now);
    }

    /// Whether it was withdrawn.
    pub fn is_withdrawn(&self) -> bool {
        self.missed >= WITHDRAWN_AFTER
    }

    /// Whether a change that was found is this one: in the same direction, with an onset within so many seconds or
    /// within the interval of either.
    pub fn is_same(&self, found: &LastingChange, tolerance_seconds: f64) -> bool {
        let lies_within = |change: &LastingChange, onset: Timestamp| {
            change.onset_between.is_some_and(|(from, to)| from <= onset && onset <= to)
        };
        (self.change.ratio.value > 1.0) == (found.ratio.value > 1.0)
            && (self.change.onset.seconds_since(found.onset).abs() <= tolerance_seconds
                || lies_within(&self.change, found.onset)
                || lies_within(found, self.change.onset))
    }

    /// Brings it up to date with what was found of it now, and tells what that changes.
    pub fn found_again(&mut self, found: LastingChange, now: Timestamp, tolerance_seconds: f64) {
        let was_withdrawn = self.is_withdrawn();
        let told = std::mem::replace(&mut self.change, found);
        self.missed = 0;
        let is = &self.change;
        let turnout = match (told.until.is_some(), is.until.is_some()) {
            (true, false) => Some(Turnout::HoldsAgain),
            _ if was_withdrawn => Some(Turnout::HoldsAgain),
            (false, true) => Some(if is.passed { Turnout::Passed } else { Turnout::Over }),
            _ => self.moved(tolerance_seconds),
        };
        if let Some(turnout) = turnout {
            self.tell(turnout, now);
        }
    }

    /// How it differs from what was last told of its size and onset.
    fn moved(&self, tolerance_seconds: f64) -> Option<Turnout> {
        let (told, is) = (self.story.last()?, &self.change);
        let (was, now) = (told.ratio.ln().abs(), is.ratio.value.ln().abs());
        let is_other = told.ratio < is.ratio.low || told.ratio > is.ratio.high;
        if is_other && (was - now).abs() >= WORTH_TELLING * was.min(now) {
            return Some(if now > was { Turnout::Grew } else { Turnout::Shrank });
        }
        (told.onset.seconds_since(is.onset).abs() > tolerance_seconds).then_some(Turnout::Moved)
    }

    /// It was not found by a look that counts for so many rounds. One miss says nothing: what is near the edge of what is
    /// sure comes and goes. It says more where another change of the same was found in its place.
    pub fn missed(&mut self, now: Timestamp, rounds: u32, is_another_found: bool) {
        let was_withdrawn = self.is_withdrawn();
        let rounds = if is_another_found { rounds.max(CUT_OTHERWISE) } else { rounds };
        self.missed = (self.missed + rounds).min(WITHDRAWN_AFTER);
        if self.is_withdrawn() && !was_withdrawn {
            self.tell(Turnout::Withdrawn, now);
        }
    }

    fn tell(&mut self, turnout: Turnout, at: Timestamp) {
        self.story.push(Entry { at, turnout, ratio: self.change.ratio.value, onset: self.change.onset });
    }
}

#[cfg(test)]
mod tests {
    use super::super::test_change;
    use super::*;

    fn at(seconds: f64) -> Timestamp {
        Timestamp(0).plus_seconds(seconds)
    }

    fn change(onset: f64, ratio: f64) -> LastingChange {
        let onset_between = Some((at(onset - 50.0), at(onset + 50.0)));
        LastingChange { onset_between, ..test_change(at(onset), ratio) }
    }

    fn turnouts(kept: &Kept) -> Vec<Turnout> {
        kept.story.iter().map(|entry| entry.turnout).collect()
    }

    #[test]
    fn what_is_found_again_is_told_only_where_it_differs() {
        let mut kept = Kept::found(change(1000.0, 2.0), at(2000.0));
        kept.found_again(change(1005.0, 2.1), at(2600.0), 30.0);
        assert_eq!(turnouts(&kept), [Turnout::Found]);
        kept.found_again(change(1005.0, 3.0), at(3200.0), 30.0);
        kept.found_again(change(1100.0, 3.0), at(3800.0), 30.0);
        kept.found_again(LastingChange { until: Some(at(3000.0)), ..change(1100.0, 3.0) }, at(4400.0), 30.0);
        kept.found_again(change(1100.0, 3.0), at(5000.0), 30.0);
        assert_eq!(
            turnouts(&kept),
            [Turnout::Found, Turnout::Grew, Turnout::Moved, Turnout::Over, Turnout::HoldsAgain]
        );
        assert_eq!((kept.story[1].ratio, kept.story[2].onset), (3.0, at(1100.0)));
    }

    #[test]
    fn a_huge_change_that_is_a_little_larger_is_the_same_to_anybody() {
        let mut kept = Kept::found(change(1000.0, 3000.0), at(2000.0));
        kept.found_again(change(1000.0, 5000.0), at(2600.0), 30.0);
        assert_eq!(turnouts(&kept), [Turnout::Found]);
    }

    #[test]
    fn one_miss_says_nothing_and_many_withdraw_it() {
        let mut kept = Kept::found(change(1000.0, 2.0), at(2000.0));
        for round in 0..WITHDRAWN_AFTER - 1 {
            kept.missed(at(2000.0 + f64::from(round)), 1, false);
        }
        assert!(!kept.is_withdrawn());
        kept.found_again(change(1000.0, 2.0), at(3000.0), 30.0);
        assert_eq!((kept.missed, kept.story.len()), (0, 1));
        for _ in 0..2 * WITHDRAWN_AFTER {
            kept.missed(at(4000.0), 1, false);
        }
        assert!(kept.is_withdrawn());
        kept.found_again(change(1000.0, 2.0), at(5000.0), 30.0);
        assert_eq!(turnouts(&kept), [Turnout::Found, Turnout::Withdrawn, Turnout::HoldsAgain]);
        for round in 0..3 {
            assert!(!kept.is_withdrawn(), "after {round} rounds with another change in its place");
            kept.missed(at(6000.0), 1, true);
        }
        assert!(kept.is_withdrawn());
    }

    #[test]
    fn it_is_the_same_within_the_interval_of_either_and_in_one_direction() {
        let kept = Kept::found(change(1000.0, 2.0), at(2000.0));
        assert!(kept.is_same(&change(1045.0, 5.0), 10.0) && kept.is_same(&change(1120.0, 2.0), 200.0));
        assert!(!kept.is_same(&change(1120.0, 2.0), 10.0) && !kept.is_same(&change(1000.0, 0.5), 10.0));
    }
}
