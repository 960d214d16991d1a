//! Who needs me: how an instance is, in one word, by its alarms, and in which order instances ask for attention (rule 19,
//! first part).

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::alarm::Alarm;
use crate::time::Timestamp;

/// Seconds lost per second to slowdowns from which on somebody should act: a quarter of a busy session.
pub const ACT_FROM: f64 = 0.25;

/// How an instance is, the most urgent first.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Health {
    /// Somebody should act.
    Act,
    /// Something is worth a look.
    Look,
    /// Nothing is known: no figures arrive.
    NoData,
    /// Nothing is out of the ordinary.
    Quiet,
}

/// How much an instance asks for attention. Sorts the most urgent first: by health, then by time lost, then by how many
/// alarms ask.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Urgency {
    /// How it is.
    pub health: Health,
    /// Seconds lost per second to what its alarms are about.
    pub lost_seconds_per_second: f64,
    /// Alarms that ask for attention.
    pub alarms: usize,
}

impl Urgency {
    /// The order of attention.
    pub fn compare(&self, other: &Urgency) -> std::cmp::Ordering {
        let by_loss = other.lost_seconds_per_second.total_cmp(&self.lost_seconds_per_second);
        self.health.cmp(&other.health).then(by_loss).then(other.alarms.cmp(&self.alarms))
    }
}

/// How an instance is at a moment, by its alarms. `is_told_of` says whether it is known how it is: figures arrive, or
/// should; `is_silenced` whether it is being worked on.
pub fn urgency<'a>(
    alarms: impl IntoIterator<Item = &'a Alarm>,
    at: Timestamp,
    is_told_of: bool,
    is_silenced: bool,
) -> Urgency {
    let asking: Vec<(Health, f64)> = alarms
        .into_iter()
        .filter_map(|alarm| Some((alarm.asks(at, is_silenced)?, alarm.sign.lost_seconds_per_second.max(0.0))))
        .collect();
    let worst = asking.iter().map(|(health, _)| *health).min();
    let known = if is_told_of { Health::Quiet } else { Health::NoData };
    Urgency {
        health: worst.map_or(known, |worst| worst.min(known)),
        lost_seconds_per_second: asking.iter().map(|(_, lost)| lost).sum(),
        alarms: asking.len(),
    }
}

/// The order of alarms: those that ask first, by how they ask, then by time lost, then the newest first.
pub fn compare_alarms(a: &Alarm, b: &Alarm, at: Timestamp) -> std::cmp::Ordering {
    let rank = |alarm: &Alarm| alarm.asks(at, false).map_or((1, alarm.verdict()), |asks| (0, asks));
    let by_loss = b.sign.lost_seconds_per_second.total_cmp(&a.sign.lost_seconds_per_second);
    rank(a).cmp(&rank(b)).then(by_loss).then(b.opened_at.cmp(&a.opened_at))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::findings::alarm::{Handled, Sign, Trouble};

    const NOW: Timestamp = Timestamp(1_000_000);

    fn alarm(verdict: Health, lost: f64) -> Alarm {
        let sign = Sign::new(Trouble::SlowStatement, "7", verdict, "A statement is slow.");
        Alarm::opened(Sign { lost_seconds_per_second: lost, ..sign }, Timestamp(0))
    }

    #[test]
    fn health_is_that_of_the_most_urgent_alarm_that_asks() {
        let of = |alarms: &[Alarm], is_told_of| urgency(alarms, NOW, is_told_of, false);
        let two = [alarm(Health::Look, 0.1), alarm(Health::Act, 0.3)];
        assert_eq!(of(&two, true), Urgency { health: Health::Act, lost_seconds_per_second: 0.4, alarms: 2 });
        assert_eq!(of(&[], true).health, Health::Quiet);
        assert_eq!(of(&[], false).health, Health::NoData);
        assert_eq!(of(&[alarm(Health::Look, 0.0)], false).health, Health::Look, "what is known to be wrong still is");
        let silenced = urgency(&two, NOW, true, true);
        assert_eq!((silenced.health, silenced.alarms), (Health::Quiet, 0));
    }

    #[test]
    fn what_somebody_has_taken_notice_of_is_worth_a_look() {
        let mut known = alarm(Health::Act, 0.3);
        known.handle(Handled::Acknowledge(true), "ada", NOW).unwrap();
        assert_eq!(urgency([&known], NOW, true, false).health, Health::Look);
        let fresh = alarm(Health::Look, 0.0);
        assert!(compare_alarms(&alarm(Health::Act, 0.0), &known, NOW).is_lt());
        assert!(compare_alarms(&known, &fresh, NOW).is_lt(), "it costs more");
    }

    #[test]
    fn the_most_urgent_come_first_and_among_equals_those_who_lose_more() {
        let asks = |health, lost_seconds_per_second| Urgency { health, lost_seconds_per_second, alarms: 1 };
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
