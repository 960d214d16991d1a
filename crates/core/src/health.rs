//! Who needs me: how an instance is, in one word, and in which order instances ask for attention
//! (rule 19, first part: by collection, slowdowns and advice; alarms come later).

use serde::{Deserialize, Serialize};

use crate::lasting_change::LastingChange;

/// Seconds lost per second to slowdowns from which on somebody should act: a quarter of a busy session.
pub const ACT_FROM: f64 = 0.25;

/// How an instance is, the most urgent first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Health {
    /// It loses so much time to something new that somebody should act.
    Act,
    /// Something is worth a look.
    Look,
    /// Nothing is known: no figures arrive.
    NoData,
    /// Nothing is out of the ordinary.
    Quiet,
}

/// How an instance is: `collecting` says whether figures arrive, `changes` are those that still hold,
/// `open_advice` is how much advice waits for a decision. Also answers the seconds lost per second.
pub fn health(collecting: bool, changes: &[LastingChange], open_advice: i64) -> (Health, f64) {
    let lost: f64 = changes
        .iter()
        .filter(|change| change.until.is_none() && change.ratio.value > 1.0)
        .map(|change| change.from_time_per_call.max(0.0))
        .sum();
    let health = if lost >= ACT_FROM && collecting {
        Health::Act
    } else if !collecting {
        Health::NoData
    } else if lost > 0.0 || open_advice > 0 {
        Health::Look
    } else {
        Health::Quiet
    };
    (health, lost)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::lasting_change::{Interval, Side};
    use crate::time::At;

    fn change(ratio: f64, lost: f64, until: Option<At>) -> LastingChange {
        let side = Side {
            typical_ms: 1.0,
            quarter_ms: 1.0,
            three_quarters_ms: 1.0,
            calls_per_second: 1.0,
            rows_per_call: 1.0,
            pages_per_call: 1.0,
            seconds: 1.0,
        };
        LastingChange {
            onset: At(0),
            until,
            ratio: Interval { value: ratio, low: ratio, high: ratio },
            before: side,
            after: side,
            from_time_per_call: lost,
            from_calls: 0.0,
        }
    }

    #[test]
    fn what_is_lost_decides_between_acting_and_looking() {
        assert_eq!(health(true, &[change(80.0, 0.4, None)], 0), (Health::Act, 0.4));
        assert_eq!(health(true, &[change(2.0, 0.1, None), change(2.0, 0.2, None)], 0).0, Health::Act);
        assert_eq!(health(true, &[change(1.5, 0.1, None)], 0).0, Health::Look);
        assert_eq!(health(true, &[], 1).0, Health::Look);
    }

    #[test]
    fn what_is_over_or_better_is_quiet_and_without_figures_nothing_is_known() {
        assert_eq!(health(true, &[change(80.0, 0.4, Some(At(9))), change(0.1, -0.4, None)], 0).0, Health::Quiet);
        assert_eq!(health(false, &[change(80.0, 0.4, None)], 3).0, Health::NoData);
    }
}
