//! Which servers are being worked on: by the clock of the place that a maintenance window names.

use chrono::{DateTime, Datelike, Duration, Timelike, Utc};
use chrono_tz::Tz;
use hurnix_core::changes::maintenance_window::DAY_MINUTES;
use hurnix_store::{Instance, MaintenanceWindow, Result, WindowFor};

use crate::state::App;
use crate::zone::moment_there;

/// Whether a window is open at a moment, and until when, or when it opens next. The clock of the place counts, also
/// where it is set forward or back meanwhile: what would begin in an hour that is skipped begins right after it.
pub fn state(window: &MaintenanceWindow, now: DateTime<Utc>) -> (bool, Option<DateTime<Utc>>) {
    let zone: Tz = window.time_zone.parse().unwrap_or(Tz::UTC);
    let local = now.with_timezone(&zone).naive_local();
    let minute = local.weekday().num_days_from_monday() * DAY_MINUTES + local.hour() * 60 + local.minute();
    let full_minute =
        local - Duration::seconds(i64::from(local.second())) - Duration::nanoseconds(i64::from(local.nanosecond()));
    let later = |minutes: u32| moment_there(zone, full_minute + Duration::minutes(i64::from(minutes)));
    match window.weekly.open_for(minute) {
        Some(left) => (true, later(left)),
        None => (false, window.weekly.opens_in(minute).and_then(later)),
    }
}

/// Windows that are open at a moment.
pub struct OpenWindows(Vec<MaintenanceWindow>);

impl OpenWindows {
    /// Those open now.
    pub async fn now(app: &App) -> Result<OpenWindows> {
        let mut windows = app.store.maintenance_windows().await?;
        windows.retain(|window| state(window, Utc::now()).0);
        Ok(OpenWindows(windows))
    }

    /// The name of one that is open for an instance; nothing where it is not being worked on.
    pub fn of(&self, instance: &Instance) -> Option<&str> {
        let is_for = |window: &&MaintenanceWindow| match &window.of {
            WindowFor::Instance(id, _) => *id == instance.instance_id,
            WindowFor::Group(group) => instance.group.as_ref() == Some(group),
        };
        self.0.iter().find(is_for).map(|window| window.name.as_str())
    }
}

#[cfg(test)]
mod tests {
    use hurnix_core::changes::maintenance_window::WeeklyWindow;

    use super::*;

    fn at(text: &str) -> DateTime<Utc> {
        DateTime::parse_from_rfc3339(text).unwrap().with_timezone(&Utc)
    }

    /// Sundays from one to three, by the clock of Lisbon, which is set forward at one on 2027-03-28.
    fn window() -> MaintenanceWindow {
        let mut days = [false; 7];
        days[6] = true;
        MaintenanceWindow {
            window_id: 1,
            of: WindowFor::Group("sea".into()),
            name: "night".into(),
            weekly: WeeklyWindow { days, start_minute: 60, minutes: 120 },
            time_zone: "Europe/Lisbon".into(),
        }
    }

    #[test]
    fn the_clock_of_the_place_counts() {
        // In July, one o'clock in Lisbon is midnight in UTC.
        assert_eq!(state(&window(), at("2026-07-05T00:30:40Z")), (true, Some(at("2026-07-05T02:00:00Z"))));
        assert_eq!(state(&window(), at("2026-07-05T02:00:00Z")), (false, Some(at("2026-07-12T00:00:00Z"))));
        // In January it is one in UTC, too.
        assert_eq!(state(&window(), at("2026-01-03T12:00:00Z")), (false, Some(at("2026-01-04T01:00:00Z"))));
    }

    #[test]
    fn what_would_begin_in_a_skipped_hour_begins_after_it() {
        assert_eq!(state(&window(), at("2027-03-27T12:00:00Z")), (false, Some(at("2027-03-28T01:00:00Z"))));
    }
}
