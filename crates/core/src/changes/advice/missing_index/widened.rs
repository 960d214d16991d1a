use serde::{Deserialize, Serialize};

use super::MissingIndex;

/// What a figure may be, from its lower end to its upper.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Between {
    /// The lower end.
    pub low: f64,
    /// The upper end.
    pub high: f64,
}

impl MissingIndex {
    /// Its predictions as wide as costs of this server's statements are apart from the planner's: a time per call may be
    /// smaller or larger by the factor, and is never more than it is without the index.
    pub(super) fn widened(mut self, cost_factor: f64) -> MissingIndex {
        let (mut low, mut high) = (self.saved_seconds_per_day, self.saved_seconds_per_day);
        for helped in &mut self.families {
            let between = Between {
                low: helped.predicted_ms / cost_factor,
                high: (helped.predicted_ms * cost_factor).min(helped.now_ms),
            };
            low -= helped.calls_per_day * (between.high - helped.predicted_ms) / 1e3;
            high += helped.calls_per_day * (helped.predicted_ms - between.low) / 1e3;
            helped.predicted_between_ms = Some(between);
        }
        self.saved_between = Some(Between { low: low.max(0.0), high });
        self.cost_factor = Some(cost_factor);
        self
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::tests::test_index;

    #[test]
    fn a_prediction_is_as_wide_as_costs_are_apart() {
        let index = test_index("passage_leg", &[(1, 100.0, 10.0), (2, 50.0, 30.0)]).widened(2.0);
        let of = |place: usize| index.families[place].predicted_between_ms.map(|of| (of.low, of.high));
        assert_eq!((of(0), of(1)), (Some((5.0, 20.0)), Some((15.0, 50.0))), "never more than now");
        assert_eq!(index.cost_factor, Some(2.0));
    }

    proptest! {
        #[test]
        fn what_is_predicted_lies_within(now in 1.0f64..1e3, share in 0.01f64..1.0, factor in 1.0f64..10.0) {
            let index = test_index("passage_leg", &[(1, now, now * share)]).widened(factor);
            let between = index.saved_between.expect("it is widened");
            prop_assert!(between.low <= index.saved_seconds_per_day + 1e-9);
            prop_assert!(index.saved_seconds_per_day <= between.high + 1e-9);
            prop_assert!(between.low >= 0.0);
        }
    }
}
