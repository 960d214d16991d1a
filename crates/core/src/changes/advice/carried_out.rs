use super::Tells;
use crate::time::{Timestamp, Window};

/// Advice that was carried out.
#[derive(Clone, Copy)]
pub struct CarriedOut<'a> {
    /// Its number in the book.
    pub advice_id: i64,
    /// What it was.
    pub told: &'a dyn Tells,
    /// Between when and when it was carried out.
    pub made: Window,
}

/// What other advice did to a family that a piece of advice is measured on.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct OtherAdvice {
    /// What was carried out at the same time: the effects cannot be told apart.
    pub together: Vec<i64>,
    /// When the last one before it was complete.
    pub earlier: Option<Timestamp>,
    /// When the first one after it began.
    pub later: Option<Timestamp>,
}

impl CarriedOut<'_> {
    /// What other advice did to a family. Only what was meant for the family counts; two pieces with less than
    /// `apart_seconds` between them were carried out at the same time.
    pub fn others(&self, family: i64, all: &[CarriedOut], apart_seconds: f64) -> OtherAdvice {
        let mut others = OtherAdvice::default();
        let is_other = |other: &&CarriedOut| {
            other.advice_id != self.advice_id
                && other.told.database() == self.told.database()
                && other.told.families().contains(&family)
        };
        for other in all.iter().filter(is_other) {
            if other.made.from.seconds_since(self.made.to) >= apart_seconds {
                others.later = Some(others.later.map_or(other.made.from, |first| first.min(other.made.from)));
            } else if self.made.from.seconds_since(other.made.to) >= apart_seconds {
                others.earlier = Some(others.earlier.map_or(other.made.to, |last| last.max(other.made.to)));
            } else {
                others.together.push(other.advice_id);
            }
        }
        others
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::changes::advice::missing_index::test_index;

    #[test]
    fn only_what_was_meant_for_the_family_counts_and_what_is_close_is_together() {
        let of = |family: i64| (family, 100.0, 10.0);
        let indexes = [vec![of(1), of(2)], vec![of(1)], vec![of(3)]].map(|families| test_index("leg", &families));
        let at = |seconds: f64| Timestamp(0).plus_seconds(seconds);
        let carried_out = |(advice_id, index, from): (i64, usize, f64)| CarriedOut {
            advice_id,
            told: &indexes[index],
            made: Window { from: at(from), to: at(from + 10.0) },
        };
        let me = carried_out((1, 0, 100.0));
        let all: Vec<CarriedOut> =
            [(1, 0, 100.0), (2, 1, 120.0), (3, 1, 20.0), (4, 1, 500.0), (5, 1, 300.0), (6, 2, 105.0)]
                .map(carried_out)
                .into();
        let others = me.others(1, &all, 50.0);
        assert_eq!(others, OtherAdvice { together: vec![2], earlier: Some(at(30.0)), later: Some(at(300.0)) });
        assert_eq!(me.others(2, &all, 50.0), OtherAdvice::default());
    }
}
