//! Times of the day and days of the week as people write them.

/// Days, Monday first, as they are written.
pub const DAYS: [&str; 7] = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];

/// The minute of the day that a time such as `01:30` is.
pub fn minute_of_day(text: &str) -> Option<u32> {
    let (hour, minute) = text.trim().split_once(':')?;
    let (hour, minute): (u32, u32) = (hour.parse().ok()?, minute.parse().ok()?);
    (hour < 24 && minute < 60).then_some(hour * 60 + minute)
}

/// A minute of the day as a time.
pub fn time_of_day(minute: u32) -> String {
    format!("{:02}:{:02}", minute / 60, minute % 60)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_as_they_are_written() {
        assert_eq!([Some(0), Some(90), Some(1439)], ["00:00", "01:30", "23:59"].map(minute_of_day));
        assert_eq!([0, 90, 1439].map(time_of_day), ["00:00", "01:30", "23:59"]);
        assert_eq!(["24:00", "1", "12:60", "noon"].map(minute_of_day), [None; 4]);
    }
}
