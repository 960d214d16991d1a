use serde::{Deserialize, Serialize};

/// A moment: microseconds since the Unix epoch, UTC.
///
/// A plain number on purpose: the core never asks what time it is, it is told.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Timestamp(pub i64);

/// Microseconds in a second.
pub const MICROS_PER_SECOND: i64 = 1_000_000;
/// Seconds in a day.
pub const SECONDS_PER_DAY: f64 = 86_400.0;

/// End of what can be kept: the begin of the year 2100.
const END_OF_KEEPING: Timestamp = Timestamp(4_102_444_800 * MICROS_PER_SECOND);

impl Timestamp {
    /// Whether figures of this moment can be kept: from 1970 up to the year 2100. What is told from outside is held
    /// against it before anything is computed or stored.
    pub fn can_be_kept(self) -> bool {
        (Timestamp(0)..END_OF_KEEPING).contains(&self)
    }

    /// Seconds from `earlier` to this moment; negative when `earlier` is later.
    pub fn seconds_since(self, earlier: Timestamp) -> f64 {
        (self.0 - earlier.0) as f64 / MICROS_PER_SECOND as f64
    }

    /// This moment moved by `seconds`, which may be negative.
    pub fn plus_seconds(self, seconds: f64) -> Timestamp {
        Timestamp(self.0.saturating_add((seconds * MICROS_PER_SECOND as f64).round() as i64))
    }

    /// Beginning of the bucket of so many seconds in which it lies; buckets are counted from the Unix epoch.
    pub fn bucket(self, seconds: i64) -> Timestamp {
        let width = seconds * MICROS_PER_SECOND;
        Timestamp(self.0.div_euclid(width) * width)
    }
}

/// A half-open span of time: `from` belongs to it, `to` does not.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Window {
    /// First moment inside.
    pub from: Timestamp,
    /// First moment after it; always later than `from`.
    pub to: Timestamp,
}

/// Why two moments make no window.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
#[error("the window ends before or when it begins")]
pub struct BackwardsWindow;

/// The widths that cells of a strip may have, in seconds. Each divides a day, so that cells stay where
/// they are while a window slides.
const CELL_SECONDS: [i64; 18] =
    [1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600, 7200, 14_400, 21_600, 43_200, 86_400];

impl Window {
    /// The window from `from` up to `to`.
    pub fn new(from: Timestamp, to: Timestamp) -> Result<Window, BackwardsWindow> {
        if from < to { Ok(Window { from, to }) } else { Err(BackwardsWindow) }
    }

    /// Length in seconds.
    pub fn seconds(&self) -> f64 {
        self.to.seconds_since(self.from)
    }

    /// The narrowest cell width, in seconds, with which the window has at most `most` cells and each
    /// cell holds whole buckets of `bucket_seconds`; whole days where none of the usual widths is wide enough.
    pub fn cell_seconds(&self, most: u32, bucket_seconds: i64) -> i64 {
        let wanted = self.seconds() / f64::from(most.max(1));
        let fits = |width: &i64| *width as f64 >= wanted && width % bucket_seconds.max(1) == 0;
        CELL_SECONDS
            .iter()
            .copied()
            .find(fits)
            .unwrap_or_else(|| (wanted / SECONDS_PER_DAY).ceil().max(1.0) as i64 * 86_400)
    }

    /// Starts of the cells of `cell_seconds` that touch the window, aligned to the epoch.
    pub fn cells(&self, cell_seconds: i64) -> Vec<Timestamp> {
        let width = cell_seconds.max(1) * MICROS_PER_SECOND;
        let first = self.from.bucket(cell_seconds.max(1)).0;
        (0..).map(|step| first + step * width).take_while(|start| *start < self.to.0).map(Timestamp).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_window_must_run_forwards() {
        assert_eq!(Window::new(Timestamp(5), Timestamp(5)), Err(BackwardsWindow));
        assert_eq!(Window::new(Timestamp(6), Timestamp(5)), Err(BackwardsWindow));
        assert!(Window::new(Timestamp(4), Timestamp(5)).is_ok());
    }

    proptest! {
        #[test]
        fn cells_cover_the_window_and_are_few(from in 0i64..2_000_000_000, seconds in 1i64..10_000_000_000, most in 1u32..400) {
            let window = Window::new(Timestamp(from * MICROS_PER_SECOND), Timestamp((from + seconds) * MICROS_PER_SECOND)).unwrap();
            let width = window.cell_seconds(most, 1);
            let cells = window.cells(width);
            prop_assert!(cells[0] <= window.from);
            prop_assert!(cells[cells.len() - 1].plus_seconds(width as f64) >= window.to);
            // One more than asked where the first cell starts before the window does.
            prop_assert!(cells.len() <= most as usize + 1);
        }
    }
}
