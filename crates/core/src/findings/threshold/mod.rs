//! Thresholds: values that somebody sets for a figure, and what is beyond them for long enough.
//!
//! They are judged on means of the buckets that lasting changes and usual ranges are judged by, so that what is counted
//! over the past ([`episodes`]) is what would have been an alarm. Which of several is in force on an instance is in
//! [`in_force`], the value that would have raised about one alarm a week in [`one_a_week`], what goes on now in
//! [`watching`].

mod crossing;
mod in_force;
mod one_a_week;
mod watching;

use thiserror::Error;

use crate::findings::figure::ServerFigure;
use crate::findings::health::Health;
use crate::findings::normal_range::Side;

pub use crossing::{Episode, episodes};
pub use in_force::{Scope, SetThreshold, in_force};
pub use one_a_week::{one_a_week, weeks_seen};
pub use watching::Watching;

/// Longest time that a value may have to be beyond, in seconds: a week.
pub const LONGEST_LASTS: f64 = 7.0 * 86_400.0;

/// A value that a figure should not pass.
#[derive(Debug, Clone, PartialEq)]
pub struct Threshold {
    /// Of which figure.
    pub figure: ServerFigure,
    /// Of which of its objects; of each of them where nothing is given.
    pub object: Option<String>,
    /// Which side of the value is trouble.
    pub side: Side,
    /// In the unit of the figure; what equals it is no trouble.
    pub value: f64,
    /// From where on it is over, in the same unit: on the quiet side of `value`, or the same.
    pub clears_at: f64,
    /// For how many seconds the figure has to be beyond it; the first mean beyond is enough where it is 0.
    pub lasts_seconds: f64,
    /// How urgent it is: act or look.
    pub verdict: Health,
    /// What to do about it; empty where nobody said.
    pub step: String,
}

/// Why something is no threshold.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
pub enum NoThreshold {
    /// The value.
    #[error("it is no finite number")]
    Value,
    /// Where it is over.
    #[error("it is over on the quiet side of the value, or at the value itself")]
    ClearsAt,
    /// How long.
    #[error("a figure can have to be beyond it for up to a week")]
    Lasts,
    /// How urgent.
    #[error("it asks to act or to look")]
    Verdict,
}

impl Threshold {
    /// What is wrong with it.
    ///
    /// # Errors
    /// Where its figures contradict each other.
    pub fn check(&self) -> Result<(), NoThreshold> {
        if !self.value.is_finite() {
            return Err(NoThreshold::Value);
        }
        if !self.clears_at.is_finite() || self.is_beyond(self.clears_at) {
            return Err(NoThreshold::ClearsAt);
        }
        if !(0.0..=LONGEST_LASTS).contains(&self.lasts_seconds) {
            return Err(NoThreshold::Lasts);
        }
        matches!(self.verdict, Health::Act | Health::Look).then_some(()).ok_or(NoThreshold::Verdict)
    }

    /// Whether a value is trouble.
    pub fn is_beyond(&self, value: f64) -> bool {
        match self.side {
            Side::High => value > self.value,
            Side::Low => value < self.value,
        }
    }

    /// Whether a value ends the trouble.
    fn is_clear(&self, value: f64) -> bool {
        match self.side {
            Side::High => value <= self.clears_at,
            Side::Low => value >= self.clears_at,
        }
    }

    /// The same with another value, that clears as far away from it in proportion.
    #[must_use]
    pub fn at(&self, value: f64) -> Threshold {
        let ratio = self.clears_at / self.value;
        let clears_at = value * ratio;
        let moved = Threshold { value, clears_at, ..self.clone() };
        if ratio.is_finite() && moved.check().is_ok() { moved } else { Threshold { clears_at: value, ..moved } }
    }

    /// Whether it is of an object.
    pub fn is_of(&self, object: &str) -> bool {
        self.object.as_deref().is_none_or(|only| only == object)
    }
}

#[cfg(test)]
pub(super) mod tests {
    use super::*;

    pub fn load_above(value: f64, clears_at: f64, lasts_seconds: f64) -> Threshold {
        Threshold {
            figure: ServerFigure::Load,
            object: None,
            side: Side::High,
            value,
            clears_at,
            lasts_seconds,
            verdict: Health::Look,
            step: String::new(),
        }
    }

    #[test]
    fn what_contradicts_itself_is_no_threshold() {
        assert_eq!(load_above(10.0, 8.0, 600.0).check(), Ok(()));
        assert_eq!(load_above(10.0, 11.0, 600.0).check(), Err(NoThreshold::ClearsAt));
        let low = Threshold { side: Side::Low, ..load_above(10.0, 11.0, 0.0) };
        assert_eq!(low.check(), Ok(()));
        assert_eq!(load_above(f64::NAN, 8.0, 0.0).check(), Err(NoThreshold::Value));
        assert_eq!(load_above(10.0, 8.0, -1.0).check(), Err(NoThreshold::Lasts));
        assert_eq!(Threshold { verdict: Health::Quiet, ..low }.check(), Err(NoThreshold::Verdict));
    }

    #[test]
    fn what_clears_moves_with_the_value() {
        assert_eq!(load_above(10.0, 8.0, 0.0).at(20.0).clears_at, 16.0);
        assert_eq!(load_above(0.0, 0.0, 0.0).at(20.0).clears_at, 20.0);
    }
}
