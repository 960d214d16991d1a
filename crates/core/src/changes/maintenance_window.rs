//! When a server may be worked on: the same hours each week, by the clock of a place.
//!
//! Laws, tested below: a window that is open closes within its length; the next opening is within a week, and is
//! one.

use serde::{Deserialize, Serialize};

/// Minutes of a day.
pub const DAY_MINUTES: u32 = 24 * 60;
/// Minutes of a week.
pub const WEEK_MINUTES: u32 = 7 * DAY_MINUTES;

/// A window that opens at the same time on some days of each week.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct WeeklyWindow {
    /// Days on which it opens, Monday first.
    pub days: [bool; 7],
    /// Minute of the day at which it opens.
    pub start_minute: u32,
    /// How long it stays open, in minutes: a day at most.
    pub minutes: u32,
}

/// Why there is no such window.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum NoWindow {
    /// It opens on no day.
    #[error("choose a day at least")]
    Days,
    /// It opens at no minute of a day.
    #[error("give a time from 00:00 to 23:59")]
    Start,
    /// It is never open, or longer than a day.
    #[error("give a length from 1 minute to 24 hours")]
    Length,
}

impl WeeklyWindow {
    /// Whether it is one.
    pub fn check(&self) -> Result<(), NoWindow> {
        if !self.days.contains(&true) {
            return Err(NoWindow::Days);
        }
        if self.start_minute >= DAY_MINUTES {
            return Err(NoWindow::Start);
        }
        if self.minutes == 0 || self.minutes > DAY_MINUTES {
            return Err(NoWindow::Length);
        }
        Ok(())
    }

    /// Minutes of the week at which it opens; the week begins on Monday at midnight.
    fn openings(&self) -> impl Iterator<Item = u32> {
        (0..7u32).filter(|day| self.days[*day as usize]).map(|day| day * DAY_MINUTES + self.start_minute)
    }

    /// How many minutes it is still open at a minute of the week; nothing while it is closed. Where two openings
    /// overlap, the one that closes later counts.
    pub fn open_for(&self, minute_of_week: u32) -> Option<u32> {
        let since = |opening: u32| (minute_of_week + WEEK_MINUTES - opening) % WEEK_MINUTES;
        self.openings().filter_map(|opening| self.minutes.checked_sub(since(opening))).filter(|left| *left > 0).max()
    }

    /// How many minutes it is from a minute of the week to the next opening, at least one and a week at most.
    pub fn opens_in(&self, minute_of_week: u32) -> Option<u32> {
        let until = |opening: u32| match (opening + WEEK_MINUTES - minute_of_week) % WEEK_MINUTES {
            0 => WEEK_MINUTES,
            later => later,
        };
        self.openings().map(until).min()
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    const SUNDAY_NIGHT: WeeklyWindow =
        WeeklyWindow { days: [false, false, false, false, false, false, true], start_minute: 23 * 60, minutes: 180 };

    #[test]
    fn a_window_goes_on_over_the_end_of_the_week() {
        let sunday = 6 * DAY_MINUTES;
        assert_eq!(SUNDAY_NIGHT.open_for(sunday + 22 * 60), None);
        assert_eq!(SUNDAY_NIGHT.open_for(sunday + 23 * 60), Some(180));
        assert_eq!(SUNDAY_NIGHT.open_for(60), Some(60), "Monday at one");
        assert_eq!(SUNDAY_NIGHT.open_for(120), None);
        assert_eq!(SUNDAY_NIGHT.opens_in(sunday), Some(23 * 60));
        assert_eq!(SUNDAY_NIGHT.opens_in(sunday + 23 * 60), Some(WEEK_MINUTES), "the next one");
    }

    #[test]
    fn what_is_no_window_says_why() {
        let with = |days, start_minute, minutes| WeeklyWindow { days, start_minute, minutes }.check();
        assert_eq!(with([false; 7], 0, 60), Err(NoWindow::Days));
        assert_eq!(with([true; 7], 1440, 60), Err(NoWindow::Start));
        assert_eq!(with([true; 7], 0, 0), Err(NoWindow::Length));
        assert_eq!(with([true; 7], 0, 1441), Err(NoWindow::Length));
        assert_eq!(with([true; 7], 0, 1440), Ok(()));
    }

    proptest! {
        #[test]
        fn the_next_opening_is_one_and_an_open_one_closes(
            days in prop::array::uniform7(any::<bool>()), start_minute in 0..DAY_MINUTES, minutes in 1..=DAY_MINUTES, at in 0..WEEK_MINUTES,
        ) {
            let window = WeeklyWindow { days, start_minute, minutes };
            prop_assume!(window.check().is_ok());
            let next = window.opens_in(at).unwrap();
            prop_assert!((1..=WEEK_MINUTES).contains(&next));
            prop_assert_eq!(window.open_for((at + next) % WEEK_MINUTES), Some(minutes));
            if let Some(left) = window.open_for(at) {
                prop_assert!((1..=minutes).contains(&left));
            }
        }
    }
}
