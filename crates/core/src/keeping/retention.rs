//! How long figures are kept, by what they tell of and how finely.

use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::keeping::detail::Detail;
use crate::time::{SECONDS_PER_DAY, Timestamp};

/// Figures that are kept together, for the same time.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, IntoStaticStr, EnumString, VariantArray)]
#[strum(serialize_all = "snake_case")]
pub enum RetentionGroup {
    /// What sessions did, look by look.
    Activity,
    /// Counters by statement.
    Statements,
    /// Counters of the server as a whole: by database, of checkpoints, of input and output.
    Databases,
    /// Counters by table and by index.
    Tables,
    /// Single figures.
    Measures,
    /// What servers wrote to their logs: entries, which have no sums.
    Log,
}

impl RetentionGroup {
    /// The level of detail whose time entries without sums are kept for.
    pub const ENTRIES: Detail = Detail::TenMinutes;
}

/// Days that figures are kept, by level.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Days {
    /// As read.
    pub fine: u32,
    /// In ten minutes.
    pub ten_minutes: u32,
    /// In hours, and in days.
    pub hour: u32,
}

impl Default for Days {
    /// A week, five weeks, and a year with the month before it.
    fn default() -> Self {
        Days { fine: 7, ten_minutes: 35, hour: 400 }
    }
}

impl Days {
    /// Those of a level.
    pub fn of(&self, detail: Detail) -> u32 {
        match detail {
            Detail::Fine => self.fine,
            Detail::TenMinutes => self.ten_minutes,
            Detail::Hour | Detail::Day => self.hour,
        }
    }

    /// Coarser levels kept at least as long as finer ones: they are what is left of those.
    pub fn in_order(self) -> Days {
        let ten_minutes = self.ten_minutes.max(self.fine);
        Days { fine: self.fine, ten_minutes, hour: self.hour.max(ten_minutes) }
    }
}

/// How long everything is kept.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Retention {
    days: [Days; RetentionGroup::VARIANTS.len()],
}

impl Retention {
    /// Everything for as long.
    pub fn of_all(days: Days) -> Retention {
        Retention { days: [days.in_order(); RetentionGroup::VARIANTS.len()] }
    }

    /// With a time of its own for one group.
    #[must_use]
    pub fn with(mut self, group: RetentionGroup, days: Days) -> Retention {
        self.days[group as usize] = days.in_order();
        self
    }

    /// Days that a group is kept.
    pub fn days(&self, group: RetentionGroup) -> Days {
        self.days[group as usize]
    }

    /// Since when a group is kept at a level, as things stand at `now`: the edge of a day.
    pub fn since(&self, group: RetentionGroup, detail: Detail, now: Timestamp) -> Timestamp {
        start_of_day(now.plus_seconds(-f64::from(self.days(group).of(detail)) * SECONDS_PER_DAY))
    }

    /// Since when anything is kept at all.
    pub fn since_ever(&self, now: Timestamp) -> Timestamp {
        let longest = self.days.iter().map(|days| days.hour).max().unwrap_or_default();
        start_of_day(now.plus_seconds(-f64::from(longest) * SECONDS_PER_DAY))
    }
}

fn start_of_day(at: Timestamp) -> Timestamp {
    at.bucket(SECONDS_PER_DAY as i64)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::named::Named;

    const DAY: i64 = 86_400_000_000;

    #[test]
    fn a_level_is_kept_from_the_start_of_a_day() {
        let now = Timestamp(20_000 * DAY + 17 * 3_600_000_000);
        assert_eq!(Retention::default().since(RetentionGroup::Tables, Detail::Fine, now), Timestamp(19_993 * DAY));
    }

    #[test]
    fn one_stock_is_kept_for_a_time_of_its_own() {
        let retention =
            Retention::default().with(RetentionGroup::Activity, Days { fine: 3, ten_minutes: 14, hour: 800 });
        let since = |group, detail| retention.since(group, detail, Timestamp(20_000 * DAY)).0 / DAY;
        assert_eq!(since(RetentionGroup::Activity, Detail::Fine), 19_997);
        assert_eq!(since(RetentionGroup::Statements, Detail::Fine), 19_993);
        assert_eq!(retention.since_ever(Timestamp(20_000 * DAY)), Timestamp(19_200 * DAY));
    }

    #[test]
    fn positions_and_names_are_those_of_the_list() {
        for (position, group) in RetentionGroup::all().enumerate() {
            assert_eq!(group as usize, position);
            assert_eq!(RetentionGroup::named(group.name()), Some(group));
        }
    }

    proptest! {
        /// What is left of figures is never gone before them.
        #[test]
        fn sums_outlast_what_they_sum_up(fine in 0u32..900, ten_minutes in 0u32..900, hour in 0u32..900) {
            let retention = Retention::of_all(Days { fine, ten_minutes, hour });
            let since = |detail| retention.since(RetentionGroup::Statements, detail, Timestamp(20_000 * DAY));
            prop_assert!(since(Detail::TenMinutes) <= since(Detail::Fine));
            prop_assert!(since(Detail::Hour) <= since(Detail::TenMinutes));
            prop_assert!(retention.since_ever(Timestamp(20_000 * DAY)) <= since(Detail::Hour));
        }
    }
}
