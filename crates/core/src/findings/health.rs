//! Who needs me: how an instance is, in one word, and in which order instances ask for attention
//! (rule 19, first part: by collection, slowdowns and advice; alarms come later).

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::lasting_change::LastingChange;

/// Seconds lost per second to slowdowns from which on somebody should act: a quarter of a busy session.
pub const ACT_FROM: f64 = 0.25;

/// How an instance is, the most urgent first.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
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

/// How much an instance asks for attention. Sorts the most urgent first: by health, then by time lost.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Urgency {
    /// How it is.
    pub health: Health,
    /// Seconds lost per second to slowdowns that hold.
    pub lost_seconds_per_second: f64,
}

impl Urgency {
    /// The order of attention.
    pub fn compare(&self, other: &Urgency) -> std::cmp::Ordering {
        let by_loss = other.lost_seconds_per_second.total_cmp(&self.lost_seconds_per_second);
        self.health.cmp(&other.health).then(by_loss)
    }
}

/// How an instance is: `collecting` says whether figures arrive, `changes` are those that still hold,
/// `open_advice` is how much advice waits for a decision.
pub fn urgency(collecting: bool, changes: &[LastingChange], open_advice: i64) -> Urgency {
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
    Urgency { health, lost_seconds_per_second: lost }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::lasting_change::test_change;
    use crate::time::Timestamp;

    fn change(ratio: f64, lost: f64, until: Option<Timestamp>) -> LastingChange {
        LastingChange { until, from_time_per_call: lost, ..test_change(Timestamp(0), ratio) }
    }

    #[test]
    fn what_is_lost_decides_between_acting_and_looking() {
        let slow = urgency(true, &[change(80.0, 0.4, None)], 0);
        assert_eq!(slow, Urgency { health: Health::Act, lost_seconds_per_second: 0.4 });
        let twice = [change(2.0, 0.1, None), change(2.0, 0.2, None)];
        assert_eq!(urgency(true, &twice, 0).health, Health::Act);
        assert_eq!(urgency(true, &[change(1.5, 0.1, None)], 0).health, Health::Look);
        assert_eq!(urgency(true, &[], 1).health, Health::Look);
    }

    #[test]
    fn what_is_over_or_better_is_quiet_and_without_figures_nothing_is_known() {
        let over = [change(80.0, 0.4, Some(Timestamp(9))), change(0.1, -0.4, None)];
        assert_eq!(urgency(true, &over, 0).health, Health::Quiet);
        assert_eq!(urgency(false, &[change(80.0, 0.4, None)], 3).health, Health::NoData);
    }

    #[test]
    fn the_most_urgent_come_first_and_among_equals_those_who_lose_more() {
        let asks = |health, lost_seconds_per_second| Urgency { health, lost_seconds_per_second };
        let mut all = [
            asks(Health::Quiet, 0.0),
            asks(Health::Look, 0.1),
            asks(Health::NoData, 0.0),
            asks(Health::Look, 0.2),
            asks(Health::Act, 0.3),
        ];
        all.sort_by(Urgency::compare);
        let order = all.map(|urgency| (urgency.health, urgency.lost_seconds_per_second));
        assert_eq!(
            order,
            [(Health::Act, 0.3), (Health::Look, 0.2), (Health::Look, 0.1), (Health::NoData, 0.0), (Health::Quiet, 0.0)]
        );
    }
}
