//! Alarms: one trouble of one thing, from when it is seen until it is gone.
//!
//! Signs come from what is looked at over and over ([`sign`]): checks of the first look, usual ranges, lasting changes,
//! collection. What has one cause is one alarm ([`trouble`] says what explains what, [`follow`] puts signs and alarms
//! together). An alarm closes when it was looked for and not found twice, some time apart; what nobody looked at changes
//! nothing. The same trouble soon after is the same alarm. What people do about it is in [`handling`].

mod follow;
mod handling;
mod sign;
mod trouble;

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::health::Health;
use crate::time::Timestamp;

pub use follow::{Followed, Looked, follow};
pub use handling::{Handled, Handling, NotHandled};
pub use sign::{Fact, FigureOf, Sign, one_of_each};
pub use trouble::Trouble;

/// When alarms close, and for how long they can be opened again.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Patience {
    /// Seconds between the first look that does not find the trouble any more, and the one that closes its alarm.
    pub closes_after_seconds: f64,
    /// Seconds after closing within which the same trouble is the same alarm.
    pub reopens_within_seconds: f64,
}

impl Default for Patience {
    /// Five minutes, and a day.
    fn default() -> Self {
        Patience { closes_after_seconds: 300.0, reopens_within_seconds: 86_400.0 }
    }
}

/// What happened to an alarm.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Happening {
    /// It was seen for the first time.
    Opened,
    /// Somebody should act now.
    Worse,
    /// It is worth a look only, now.
    Better,
    /// It became known what it is.
    Recognised,
    /// A consequence of it was seen.
    Widened,
    /// It is gone.
    Closed,
    /// It is back.
    Reopened,
    /// Somebody has taken notice.
    Acknowledged,
    /// Nobody has, any more.
    Unacknowledged,
    /// Somebody is to see to it, or nobody any more.
    Assigned,
    /// Somebody wrote something.
    Commented,
    /// It is to be quiet for a while, or no longer.
    Snoozed,
}

/// One entry of the story of an alarm.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Entry {
    /// When.
    pub at: Timestamp,
    /// What.
    pub what: Happening,
    /// Who did it; nothing where Hurnix saw it.
    pub by: Option<String>,
    /// More about it.
    pub text: String,
}

/// A consequence of the trouble of an alarm.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Consequence {
    /// What it is.
    pub trouble: Trouble,
    /// Of what.
    pub object: String,
    /// How urgent it is.
    pub verdict: Health,
    /// In one sentence.
    pub text: String,
}

/// An alarm.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Alarm {
    /// The trouble as it was last seen.
    pub sign: Sign,
    /// What was seen together with it and comes from it.
    pub consequences: Vec<Consequence>,
    /// When it was opened, or opened again.
    pub opened_at: Timestamp,
    /// When the trouble was last seen.
    pub seen_at: Timestamp,
    /// Since when looks do not find it any more; nothing while they do.
    pub missed_since: Option<Timestamp>,
    /// When it was closed; nothing while it is open.
    pub closed_at: Option<Timestamp>,
    /// What people do about it.
    pub handling: Handling,
    /// What happened to it, in order of time.
    pub story: Vec<Entry>,
}

impl Alarm {
    /// One that is just opened.
    pub fn opened(sign: Sign, at: Timestamp) -> Alarm {
        let mut alarm = Alarm {
            sign,
            consequences: Vec::new(),
            opened_at: at,
            seen_at: at,
            missed_since: None,
            closed_at: None,
            handling: Handling::default(),
            story: Vec::new(),
        };
        alarm.tell(Happening::Opened, at, None, alarm.sign.text.clone());
        alarm
    }

    /// Whether the trouble stands, for all that is known.
    pub fn is_open(&self) -> bool {
        self.closed_at.is_none()
    }

    /// How urgent it is, consequences included.
    pub fn verdict(&self) -> Health {
        self.consequences.iter().map(|consequence| consequence.verdict).fold(self.sign.verdict, Ord::min)
    }

    /// When the trouble began: as far as is known, or else when it was first seen.
    pub fn began_at(&self) -> Timestamp {
        self.sign.since.map_or(self.opened_at, |since| since.min(self.opened_at))
    }

    /// How it asks for attention at a moment; nothing where it does not: it is closed, snoozed, or silenced because its
    /// server is being worked on. One of which somebody has taken notice is worth a look.
    pub fn asks(&self, at: Timestamp, is_silenced: bool) -> Option<Health> {
        if !self.is_open() || is_silenced || self.handling.is_snoozed(at) {
            return None;
        }
        Some(if self.handling.acknowledged_by.is_some() { Health::Look } else { self.verdict() })
    }

    /// The trouble was seen again.
    pub fn seen(&mut self, sign: Sign, at: Timestamp) {
        let was = self.verdict();
        if self.closed_at.take().is_some() {
            self.opened_at = at;
            self.handling.acknowledged_by = None;
            self.handling.snoozed_until = None;
            self.tell(Happening::Reopened, at, None, sign.text.clone());
        }
        let since = self.sign.since.filter(|_| sign.since.is_none());
        self.sign = Sign { since: sign.since.or(since), ..sign };
        (self.seen_at, self.missed_since) = (at, None);
        self.note_verdict(was, at);
    }

    /// The trouble was looked for and not found.
    pub fn missed(&mut self, at: Timestamp, patience: &Patience) {
        match self.missed_since {
            _ if !self.is_open() => {}
            None => self.missed_since = Some(at),
            Some(since) if at.seconds_since(since) >= patience.closes_after_seconds => {
                self.closed_at = Some(at);
                self.consequences.clear();
                self.tell(Happening::Closed, at, None, String::new());
            }
            Some(_) => {}
        }
    }

    /// What comes from it, of the troubles that were looked for; others stay.
    pub(super) fn with_consequences(&mut self, seen: Vec<Consequence>, looked_for: &[Trouble], at: Timestamp) {
        let was = self.verdict();
        let is_known = |new: &Consequence| {
            self.consequences.iter().any(|known| (known.trouble, &known.object) == (new.trouble, &new.object))
        };
        let new: Vec<String> = seen.iter().filter(|new| !is_known(new)).map(|new| new.text.clone()).collect();
        self.consequences.retain(|known| !looked_for.contains(&known.trouble));
        self.consequences.extend(seen);
        for text in new {
            self.tell(Happening::Widened, at, None, text);
        }
        self.note_verdict(was, at);
    }

    /// It became known that the trouble is a consequence of this one.
    pub(super) fn recognised(&mut self, sign: Sign, at: Timestamp) {
        let was = self.verdict();
        self.tell(Happening::Recognised, at, None, sign.text.clone());
        self.sign = sign;
        (self.seen_at, self.missed_since) = (at, None);
        self.note_verdict(was, at);
    }

    fn note_verdict(&mut self, was: Health, at: Timestamp) {
        let is = self.verdict();
        if is < was {
            // What somebody knew was less.
            self.handling.acknowledged_by = None;
            self.handling.snoozed_until = None;
            self.tell(Happening::Worse, at, None, self.sign.text.clone());
        } else if is > was {
            self.tell(Happening::Better, at, None, self.sign.text.clone());
        }
    }

    fn tell(&mut self, what: Happening, at: Timestamp, by: Option<String>, text: String) {
        self.story.push(Entry { at, what, by, text });
    }
}
