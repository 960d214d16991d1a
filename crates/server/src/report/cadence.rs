//! When reports are made by themselves: each day, week or month, by the clock of a place. A report is of the time from one
//! such moment to the next.

use chrono::{DateTime, Datelike, Days, Months, NaiveDate, NaiveTime, Utc};
use chrono_tz::Tz;
use hurnix_core::{Timestamp, Window};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::zone::moment_there;

/// How often a report is made.
#[derive(Debug, Clone, Copy, PartialEq, Eq, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum Every {
    /// Each day.
    Day,
    /// Each week.
    Week,
    /// On the first of each month.
    Month,
}

/// When periods end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cadence {
    /// How often.
    pub every: Every,
    /// Day of the week on which those of a week end, from Monday.
    pub weekday: u32,
    /// Minute of the day at which they end.
    pub minute_of_day: u32,
    /// Place whose clock counts.
    pub zone: Tz,
}

impl Cadence {
    /// The period that ended last at a moment.
    pub fn last(&self, at: DateTime<Utc>) -> Option<Window> {
        let [from, to, _] = self.around(at)?;
        Window::new(micros(from), micros(to)).ok()
    }

    /// When the next period after a moment ends.
    pub fn next_end(&self, at: DateTime<Utc>) -> Option<DateTime<Utc>> {
        let [.., next] = self.around(at)?;
        Some(next)
    }

    /// Begin and end of the period that ended last, and the end of the next.
    fn around(&self, at: DateTime<Utc>) -> Option<[DateTime<Utc>; 3]> {
        let today = at.with_timezone(&self.zone).date_naive();
        let mut date = match self.every {
            Every::Day => today,
            Every::Week => {
                today - Days::new(u64::from((today.weekday().num_days_from_monday() + 7 - self.weekday) % 7))
            }
            Every::Month => today.with_day(1)?,
        };
        if self.on(date)? > at {
            date = self.before(date)?;
        }
        Some([self.on(self.before(date)?)?, self.on(date)?, self.on(self.after(date)?)?])
    }

    /// The moment at which the clock shows its time on a day.
    fn on(&self, date: NaiveDate) -> Option<DateTime<Utc>> {
        let time = NaiveTime::from_num_seconds_from_midnight_opt(self.minute_of_day * 60, 0)?;
        moment_there(self.zone, date.and_time(time))
    }

    fn before(&self, date: NaiveDate) -> Option<NaiveDate> {
        match self.every {
            Every::Day => date.checked_sub_days(Days::new(1)),
            Every::Week => date.checked_sub_days(Days::new(7)),
            Every::Month => date.checked_sub_months(Months::new(1)),
        }
    }

    fn after(&self, date: NaiveDate) -> Option<NaiveDate> {
        match self.every {
            Every::Day => date.checked_add_days(Days::new(1)),
            Every::Week => date.checked_add_days(Days::new(7)),
            Every::Month => date.checked_add_months(Months::new(1)),
        }
    }
}

fn micros(at: DateTime<Utc>) -> Timestamp {
    Timestamp(at.timestamp_micros())
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    fn at(text: &str) -> DateTime<Utc> {
        text.parse().unwrap()
    }

    fn lisbon(every: Every, weekday: u32, minute_of_day: u32) -> Cadence {
        Cadence { every, weekday, minute_of_day, zone: "Europe/Lisbon".parse().unwrap() }
    }

    fn span(from: &str, to: &str) -> Option<Window> {
        Window::new(micros(at(from)), micros(at(to))).ok()
    }

    #[test]
    fn a_report_is_of_the_time_from_one_such_moment_to_the_next() {
        // At seven by the clock of Lisbon, which is an hour ahead in July.
        let daily = lisbon(Every::Day, 0, 7 * 60);
        assert_eq!(daily.last(at("2026-07-05T06:00:00Z")), span("2026-07-04T06:00:00Z", "2026-07-05T06:00:00Z"));
        assert_eq!(daily.last(at("2026-07-05T05:59:59Z")), span("2026-07-03T06:00:00Z", "2026-07-04T06:00:00Z"));
        assert_eq!(daily.next_end(at("2026-07-05T06:00:00Z")), Some(at("2026-07-06T06:00:00Z")));
        // The 5th of July 2026 is a Sunday: a week that ends on Mondays ended six days before.
        let weekly = lisbon(Every::Week, 0, 0);
        assert_eq!(weekly.last(at("2026-07-05T12:00:00Z")), span("2026-06-21T23:00:00Z", "2026-06-28T23:00:00Z"));
        let monthly = lisbon(Every::Month, 3, 0);
        assert_eq!(monthly.last(at("2026-03-31T12:00:00Z")), span("2026-02-01T00:00:00Z", "2026-03-01T00:00:00Z"));
        assert_eq!(monthly.next_end(at("2026-03-31T12:00:00Z")), Some(at("2026-03-31T23:00:00Z")));
    }

    #[test]
    fn a_day_on_which_the_clock_is_set_forward_is_an_hour_shorter() {
        let day = lisbon(Every::Day, 0, 0).last(at("2026-03-30T00:30:00Z")).unwrap();
        assert_eq!(day.seconds(), 23.0 * 3600.0);
    }

    proptest! {
        #[test]
        fn periods_follow_each_other_without_gap(
            seconds in 1_700_000_000i64..1_900_000_000, every in 0..Every::VARIANTS.len(), weekday in 0u32..7, minute in 0u32..1440
        ) {
            let cadence = lisbon(Every::VARIANTS[every], weekday, minute);
            let now = DateTime::from_timestamp(seconds, 0).unwrap();
            let (last, next) = (cadence.last(now).unwrap(), cadence.next_end(now).unwrap());
            prop_assert!(last.to <= micros(now) && micros(now) < micros(next));
            let following = cadence.last(next).unwrap();
            prop_assert_eq!((following.from, following.to), (last.to, micros(next)));
        }
    }
}
