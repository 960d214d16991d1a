use serde::{Deserialize, Serialize};

use super::{Alarm, Happening};
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// An alarm is quiet for so many days at most.
const MOST_SNOOZED_DAYS: f64 = 366.0;

/// What people do about an alarm.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Handling {
    /// Who has taken notice.
    pub acknowledged_by: Option<String>,
    /// Who is to see to it.
    pub assigned_to: Option<String>,
    /// Until when it is to be quiet.
    pub snoozed_until: Option<Timestamp>,
}

impl Handling {
    /// Whether it is to be quiet at a moment.
    pub fn is_snoozed(&self, at: Timestamp) -> bool {
        self.snoozed_until.is_some_and(|until| at < until)
    }
}

/// What somebody does about an alarm.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Handled {
    /// Takes notice, or no longer.
    Acknowledge(bool),
    /// Says who is to see to it; nobody where nothing is given.
    Assign(Option<String>),
    /// Writes something.
    Comment(String),
    /// Wants it to be quiet until a moment; no longer where nothing is given.
    Snooze(Option<Timestamp>),
}

/// Why an alarm cannot be handled like that.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NotHandled {
    /// It is closed.
    #[error("the alarm is closed; it can only be commented")]
    Closed,
    /// It would be quiet for no time.
    #[error("give a moment that is still to come")]
    Past,
    /// It would be quiet for too long.
    #[error("give a moment within a year")]
    TooLong,
}

impl Alarm {
    /// Somebody does something about it.
    ///
    /// # Errors
    /// Where it is closed, or would be quiet until a moment that is none.
    pub fn handle(&mut self, handled: Handled, by: &str, at: Timestamp) -> Result<(), NotHandled> {
        if !self.is_open() && !matches!(handled, Handled::Comment(_)) {
            return Err(NotHandled::Closed);
        }
        let told = |alarm: &mut Alarm, what, text| alarm.tell(what, at, Some(by.to_owned()), text);
        match handled {
            Handled::Acknowledge(true) => {
                self.handling.acknowledged_by = Some(by.to_owned());
                told(self, Happening::Acknowledged, String::new());
            }
            Handled::Acknowledge(false) => {
                self.handling.acknowledged_by = None;
                told(self, Happening::Unacknowledged, String::new());
            }
            Handled::Assign(to) => {
                told(self, Happening::Assigned, to.clone().unwrap_or_default());
                self.handling.assigned_to = to;
            }
            Handled::Comment(text) => told(self, Happening::Commented, text),
            Handled::Snooze(until) => {
                match until.map(|until| until.seconds_since(at)) {
                    Some(seconds) if seconds <= 0.0 => return Err(NotHandled::Past),
                    Some(seconds) if seconds > MOST_SNOOZED_DAYS * SECONDS_PER_DAY => return Err(NotHandled::TooLong),
                    _ => {}
                }
                self.handling.snoozed_until = until;
                told(self, Happening::Snoozed, String::new());
            }
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Sign, Trouble};
    use super::*;
    use crate::findings::health::Health;

    fn at(seconds: i64) -> Timestamp {
        Timestamp(seconds * 1_000_000)
    }

    fn sign(verdict: Health) -> Sign {
        Sign::new(Trouble::HoldUp, "desk", verdict, "desk holds up 5 sessions.")
    }

    #[test]
    fn what_somebody_knows_asks_less_and_what_is_snoozed_not_at_all_until_it_is_worse() {
        let mut alarm = Alarm::opened(sign(Health::Look), at(0));
        assert_eq!(alarm.asks(at(1), false), Some(Health::Look));
        assert_eq!(alarm.asks(at(1), true), None, "its server is being worked on");
        alarm.handle(Handled::Snooze(Some(at(100))), "ada", at(2)).unwrap();
        assert_eq!((alarm.asks(at(99), false), alarm.asks(at(100), false)), (None, Some(Health::Look)));
        alarm.seen(sign(Health::Act), at(50));
        assert_eq!(alarm.asks(at(51), false), Some(Health::Act));
        alarm.handle(Handled::Acknowledge(true), "ada", at(52)).unwrap();
        assert_eq!(alarm.asks(at(53), false), Some(Health::Look));
        let told: Vec<Happening> = alarm.story.iter().map(|entry| entry.what).collect();
        assert_eq!(told, [Happening::Opened, Happening::Snoozed, Happening::Worse, Happening::Acknowledged]);
        assert_eq!(alarm.story[1].by.as_deref(), Some("ada"));
    }

    #[test]
    fn a_closed_alarm_can_only_be_commented_and_nothing_is_quiet_until_yesterday() {
        let mut alarm = Alarm::opened(sign(Health::Act), at(0));
        assert_eq!(alarm.handle(Handled::Snooze(Some(at(5))), "ada", at(5)), Err(NotHandled::Past));
        assert_eq!(alarm.handle(Handled::Snooze(Some(at(40_000_000))), "ada", at(5)), Err(NotHandled::TooLong));
        alarm.closed_at = Some(at(10));
        assert_eq!(alarm.handle(Handled::Acknowledge(true), "ada", at(11)), Err(NotHandled::Closed));
        assert_eq!(alarm.handle(Handled::Comment("it was the gate".into()), "ada", at(12)), Ok(()));
    }
}
