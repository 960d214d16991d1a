//! Whether two periods can be held against each other: like hours with like hours, and how unlike their lengths are.

use crate::time::{Timestamp, Window};
use crate::wording::number;

const DAY: f64 = 86_400.0;
const WEEK: f64 = 7.0 * DAY;
/// Lengths that differ by less are alike.
const LENGTH_SLACK: f64 = 0.01;
/// So far may the hours be apart, as a share of the shorter period.
const HOUR_SLACK: f64 = 0.02;

/// How alike two periods are.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Likeness {
    /// Whether they begin at the same time of day, as the instance's clock tells it, or cover whole days.
    pub has_like_hours: bool,
    /// Whether they begin at the same day of the week besides, or cover whole weeks.
    pub has_like_days: bool,
    /// Length of now over length of then.
    pub length_ratio: f64,
    /// Whether they overlap.
    pub overlaps: bool,
}

impl Likeness {
    /// How alike two periods are. `clock` tells the time by which the hour of the day counts.
    pub fn of(then: Window, now: Window, clock: impl Fn(Timestamp) -> Timestamp) -> Likeness {
        let apart = clock(now.from).seconds_since(clock(then.from));
        let slack = HOUR_SLACK * then.seconds().min(now.seconds());
        let is_whole = |period: f64| {
            [then, now].iter().all(|window| {
                let count = window.seconds() / period;
                count >= 1.0 - LENGTH_SLACK && (count - count.round()).abs() * period <= LENGTH_SLACK * window.seconds()
            })
        };
        let is_alike = |period: f64| {
            let rest = apart.rem_euclid(period);
            rest.min(period - rest) <= slack || is_whole(period)
        };
        Likeness {
            has_like_hours: is_alike(DAY),
            has_like_days: is_alike(WEEK),
            length_ratio: now.seconds() / then.seconds(),
            overlaps: then.from < now.to && now.from < then.to,
        }
    }

    /// Whether their lengths differ by so much that it must be said.
    pub fn has_other_length(&self) -> bool {
        (self.length_ratio - 1.0).abs() > LENGTH_SLACK
    }

    /// What must be known before the two are held against each other; a sentence each.
    pub fn cautions(&self) -> Vec<String> {
        let mut told = Vec::new();
        if self.overlaps {
            told.push("The periods overlap: what both cover differs in nothing.".to_owned());
        }
        if !self.has_like_hours {
            told.push(
                "The hours of the day differ: load that comes and goes with the day differs by itself.".to_owned(),
            );
        } else if !self.has_like_days {
            told.push("The days of the week differ: a weekend against a working day differs by itself.".to_owned());
        }
        if self.has_other_length() {
            told.push(format!(
                "Now is {} times as long as then: everything is told for each second that was observed.",
                number(self.length_ratio)
            ));
        }
        told
    }
}

/// The period as long as `now` and so many days earlier that it ends before `now` begins: the same hours of an earlier
/// day; of an earlier week where that is no further than twice the way.
pub fn matched_before(now: Window) -> Window {
    let days = (now.seconds() / DAY).ceil().max(1.0);
    let weeks = (days / 7.0).ceil() * 7.0;
    let earlier = if days > 3.0 { weeks } else { days };
    Window { from: now.from.plus_seconds(-earlier * DAY), to: now.to.plus_seconds(-earlier * DAY) }
}

/// The periods of `seconds` after a moment and of the same hours before it, as far as `until` goes: what is looked at after
/// something happened. The later one is cut where it would end later than `until`.
pub fn matched_periods(moment: Timestamp, seconds: f64, until: Timestamp) -> (Window, Window) {
    let now = Window { from: moment, to: moment.plus_seconds(seconds).min(until).max(moment.plus_seconds(1.0)) };
    (matched_before(now), now)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn what_makes_two_periods_unlike_is_said_and_nothing_else() {
        let alike = Likeness { has_like_hours: true, has_like_days: true, length_ratio: 1.0, overlaps: false };
        assert_eq!(alike.cautions(), [] as [String; 0]);
        let told = |likeness: Likeness| likeness.cautions().join(" ");
        assert!(told(Likeness { has_like_days: false, ..alike }).starts_with("The days of the week differ"));
        let other_hours = Likeness { has_like_hours: false, has_like_days: false, ..alike };
        assert_eq!(other_hours.cautions().len(), 1, "the hours say it all");
        let other = told(Likeness { length_ratio: 0.5, overlaps: true, ..alike });
        assert!(other.contains("overlap") && other.contains("0.500 times as long"), "{other}");
    }

    fn hours(from: f64, length: f64) -> Window {
        let from = Timestamp(1_772_000_000_000_000).plus_seconds(from * 3_600.0);
        Window { from, to: from.plus_seconds(length * 3_600.0) }
    }

    fn of(then: Window, now: Window) -> Likeness {
        Likeness::of(then, now, |at| at)
    }

    #[test]
    fn the_same_hour_of_yesterday_and_of_last_week() {
        let yesterday = of(hours(0.0, 1.0), hours(24.0, 1.0));
        assert!(yesterday.has_like_hours && !yesterday.has_like_days && !yesterday.overlaps);
        let last_week = of(hours(0.0, 1.0), hours(168.0, 1.0));
        assert!(last_week.has_like_hours && last_week.has_like_days && !last_week.has_other_length());
    }

    #[test]
    fn the_hour_before_is_another_hour() {
        let before = of(hours(0.0, 1.0), hours(1.0, 1.0));
        assert!(!before.has_like_hours && !before.has_like_days);
    }

    #[test]
    fn whole_days_are_alike_whenever_they_begin() {
        let days = of(hours(0.0, 48.0), hours(53.0, 24.0));
        assert!(days.has_like_hours && !days.has_like_days && days.has_other_length());
        assert!((days.length_ratio - 0.5).abs() < 1e-9);
        assert!(of(hours(0.0, 168.0), hours(100.0, 168.0)).overlaps);
    }

    #[test]
    fn a_change_of_the_clock_does_not_make_hours_unlike() {
        // An hour is put forward between them: 06:00 of the clock is 05:00 of the day before.
        let (then, now) = (hours(0.0, 1.0), hours(23.0, 1.0));
        let clock = |at: Timestamp| if at >= now.from { at.plus_seconds(3_600.0) } else { at };
        assert!(Likeness::of(then, now, clock).has_like_hours);
    }

    #[test]
    fn after_a_release_and_before_it() {
        let moment = hours(0.0, 1.0).from;
        let (then, now) = matched_periods(moment, 2.0 * 3_600.0, moment.plus_seconds(1e9));
        assert_eq!((now, then), (hours(0.0, 2.0), hours(-24.0, 2.0)));
        let (_, cut) = matched_periods(moment, 2.0 * 3_600.0, moment.plus_seconds(1_800.0));
        assert_eq!(cut, hours(0.0, 0.5));
        assert_eq!(matched_before(hours(0.0, 30.0)), hours(-48.0, 30.0));
        assert_eq!(matched_before(hours(0.0, 100.0)), hours(-168.0, 100.0));
    }

    proptest! {
        #[test]
        fn what_is_matched_is_alike_and_before(from in 0.0..10_000.0f64, length in 0.1..2_000.0f64) {
            let now = hours(from, length);
            let then = matched_before(now);
            let likeness = of(then, now);
            prop_assert!(likeness.has_like_hours && !likeness.overlaps && !likeness.has_other_length());
        }
    }
}
