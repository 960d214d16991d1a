//! Clocks of places.

use chrono::{DateTime, Days, Duration, LocalResult, NaiveDateTime, NaiveTime, TimeZone, Utc};
use chrono_tz::Tz;
use hurnix_core::Timestamp;
use hurnix_core::instance::instance_settings::ZoneName;

/// A moment as what is written for others has it.
pub fn moment(at: Timestamp) -> DateTime<Utc> {
    DateTime::from_timestamp_micros(at.0).unwrap_or_default()
}

/// Whether there is a time zone of that name.
pub fn is_time_zone(name: &str) -> bool {
    name.parse::<Tz>().is_ok()
}

/// The zone of that name; UTC where there is none.
pub fn zone(name: &ZoneName) -> Tz {
    name.name().parse().unwrap_or(Tz::UTC)
}

/// The moment at which a clock shows a time: the earlier one where it does so twice, the first one after where it
/// never does.
pub fn moment_there(zone: Tz, local: NaiveDateTime) -> Option<DateTime<Utc>> {
    match zone.from_local_datetime(&local) {
        LocalResult::Single(moment) | LocalResult::Ambiguous(moment, _) => Some(moment.with_timezone(&Utc)),
        LocalResult::None => moment_there(zone, local + Duration::minutes(30)),
    }
}

/// What a clock shows at a moment, counted as if it were UTC's.
pub fn clock_of(zone: Tz, at: Timestamp) -> Timestamp {
    let there = DateTime::from_timestamp_micros(at.0).map(|moment| moment.with_timezone(&zone).naive_local());
    there.map_or(at, |there| Timestamp(there.and_utc().timestamp_micros()))
}

/// When the day of a moment began by a clock, and how many hours it has.
pub fn day_of(zone: Tz, at: Timestamp) -> Option<(Timestamp, i64)> {
    let date = DateTime::from_timestamp_micros(at.0)?.with_timezone(&zone).date_naive();
    let start = moment_there(zone, date.and_time(NaiveTime::MIN))?;
    let end = moment_there(zone, (date + Days::new(1)).and_time(NaiveTime::MIN))?;
    Some((Timestamp(start.timestamp_micros()), (end - start).num_hours()))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(text: &str) -> Timestamp {
        Timestamp(text.parse::<DateTime<Utc>>().unwrap().timestamp_micros())
    }

    #[test]
    fn a_clock_is_ahead_of_the_moment_as_its_zone_is() {
        let kolkata: Tz = "Asia/Kolkata".parse().unwrap();
        assert_eq!(clock_of(kolkata, at("2026-07-01T18:29:00Z")), at("2026-07-01T23:59:00Z"));
    }

    #[test]
    fn a_day_begins_at_midnight_there_and_has_as_many_hours_as_its_clock_shows() {
        let lisbon: Tz = "Europe/Lisbon".parse().unwrap();
        assert_eq!(day_of(lisbon, at("2026-03-28T23:59:59Z")), Some((at("2026-03-28T00:00:00Z"), 24)));
        assert_eq!(day_of(lisbon, at("2026-03-29T12:00:00Z")), Some((at("2026-03-29T00:00:00Z"), 23)));
        assert_eq!(day_of(lisbon, at("2026-07-01T23:30:00Z")), Some((at("2026-07-01T23:00:00Z"), 24)));
        let kolkata: Tz = "Asia/Kolkata".parse().unwrap();
        assert_eq!(day_of(kolkata, at("2026-07-01T18:29:00Z")), Some((at("2026-06-30T18:30:00Z"), 24)));
        // A clock that is set forward at midnight has no midnight that day.
        let santiago: Tz = "America/Santiago".parse().unwrap();
        assert_eq!(day_of(santiago, at("2026-09-06T12:00:00Z")), Some((at("2026-09-06T04:00:00Z"), 23)));
    }
}
