//! Which level of detail answers a window of time.
//!
//! Figures are kept as they were read for days, summed up to ten minutes for weeks, and to hours and days for
//! more than a year. Days begin at midnight UTC, and only sums over a whole window are answered by them: a strip needs
//! finer cells. A long window is answered from the coarse levels wherever these are complete, and
//! from finer ones at its ends, so that a sum over the window is exact and cheap. Only where nothing
//! finer is kept any more does a window widen to whole buckets.
//!
//! Figures carry the moment at which their period ended. A bucket, like a piece, holds those later than
//! its begin and not later than its end.
//!
//! Laws, tested below: pieces follow one another without gap or overlap and cover the window; a sum over
//! pieces equals the sum over what was kept finely.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::time::{MICROS_PER_SECOND, Timestamp, Window};

/// Windows up to this long are answered as finely as was read: six hours.
pub const LONGEST_FINE_SECONDS: f64 = 6.0 * 3600.0;
/// Windows up to this long are answered in ten minutes: four days.
pub const LONGEST_TEN_MINUTES_SECONDS: f64 = 4.0 * 86_400.0;

/// How finely figures are kept, the finest first.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    IntoStaticStr,
    EnumString,
    VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Detail {
    /// As read.
    Fine,
    /// Summed up to ten minutes.
    TenMinutes,
    /// Summed up to an hour.
    Hour,
    /// Summed up to a day, of UTC.
    Day,
}

impl Detail {
    /// All levels, the finest first.
    pub const ALL: [Detail; 4] = [Detail::Fine, Detail::TenMinutes, Detail::Hour, Detail::Day];
    /// Those that are sums, the finest first: each is summed up from the one before it.
    pub const SUMMED: [Detail; 3] = [Detail::TenMinutes, Detail::Hour, Detail::Day];

    /// Width of a bucket in seconds; nothing for figures as they were read.
    pub fn bucket_seconds(self) -> Option<i64> {
        match self {
            Detail::Fine => None,
            Detail::TenMinutes => Some(600),
            Detail::Hour => Some(3600),
            Detail::Day => Some(86_400),
        }
    }

    /// The next finer level.
    pub fn finer(self) -> Option<Detail> {
        match self {
            Detail::Fine => None,
            Detail::TenMinutes => Some(Detail::Fine),
            Detail::Hour => Some(Detail::TenMinutes),
            Detail::Day => Some(Detail::Hour),
        }
    }

    /// The next coarser level.
    pub fn coarser(self) -> Option<Detail> {
        Detail::SUMMED.into_iter().find(|coarser| coarser.finer() == Some(self))
    }

    /// The coarsest level that strips over a window of this length need.
    pub fn for_window(window: Window) -> Detail {
        if window.seconds() <= LONGEST_FINE_SECONDS {
            Detail::Fine
        } else if window.seconds() <= LONGEST_TEN_MINUTES_SECONDS {
            Detail::TenMinutes
        } else {
            Detail::Hour
        }
    }

    /// The coarsest level that sums over a whole window of this length need.
    pub fn for_sums(window: Window) -> Detail {
        match Detail::for_window(window) {
            Detail::Hour => Detail::Day,
            finer => finer,
        }
    }

    /// End of the bucket that a figure of this moment falls into; the moment itself when fine.
    pub fn bucket_end(self, at: Timestamp) -> Timestamp {
        self.up(at)
    }

    /// Start of the bucket that ends there.
    pub fn bucket_before(self, end: Timestamp) -> Timestamp {
        Timestamp(end.0 - self.bucket_seconds().unwrap_or_default() * MICROS_PER_SECOND)
    }

    fn up(self, at: Timestamp) -> Timestamp {
        self.bucket_seconds().map_or(at, |seconds| {
            let down = at.bucket(seconds);
            if down < at { Timestamp(down.0 + seconds * MICROS_PER_SECOND) } else { at }
        })
    }

    fn down(self, at: Timestamp) -> Timestamp {
        self.bucket_seconds().map_or(at, |seconds| at.bucket(seconds))
    }
}

/// What is kept of an instance.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Kept {
    /// Since when figures are kept as read; on the edge of an hour.
    pub fine_from: Timestamp,
    /// Since when they are kept in ten minutes; on the edge of an hour, and not later than the above.
    pub ten_minutes_from: Timestamp,
    /// Up to when the ten minutes are complete.
    pub ten_minutes_to: Timestamp,
    /// Up to when the hours are complete.
    pub hour_to: Timestamp,
    /// Up to when the days are complete.
    pub day_to: Timestamp,
}

impl Kept {
    fn from(&self, detail: Detail) -> Timestamp {
        match detail {
            Detail::Fine => self.fine_from,
            Detail::TenMinutes => self.ten_minutes_from,
            Detail::Hour | Detail::Day => Timestamp(i64::MIN),
        }
    }

    fn to(&self, detail: Detail) -> Timestamp {
        match detail {
            Detail::Fine => Timestamp(i64::MAX),
            Detail::TenMinutes => self.ten_minutes_to,
            Detail::Hour => self.hour_to,
            Detail::Day => self.day_to,
        }
    }
}

/// A part of a window and the level that answers it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Piece {
    /// The level.
    pub detail: Detail,
    /// The part, from just after its begin up to and with its end.
    pub window: Window,
}

/// The pieces that answer a window from levels up to `coarsest`, in order of time: seven at most for a
/// window of which everything is kept, and never none.
pub fn pieces(window: Window, coarsest: Detail, kept: &Kept) -> Vec<Piece> {
    let mut pieces = Vec::new();
    let mut from = window.from;
    // Each older part of the window must do with what is still kept of it.
    let parts = [
        (kept.ten_minutes_from, coarsest.max(Detail::Hour)),
        (kept.fine_from, coarsest.max(Detail::TenMinutes)),
        (window.to, coarsest),
    ];
    for (until, detail) in parts {
        let to = until.min(window.to);
        if from < to {
            fill(&mut pieces, from, to, detail, kept);
            from = to;
        }
    }
    pieces
}

/// Answers from `from` to `to` by `detail` where it is complete, and by finer levels at the ends.
fn fill(pieces: &mut Vec<Piece>, from: Timestamp, to: Timestamp, detail: Detail, kept: &Kept) {
    let Some(finer) = detail.finer() else { return push(pieces, detail, from, to) };
    let finer_kept = kept.from(finer);
    let begin = if from < finer_kept { detail.down(from) } else { detail.up(from) };
    let end = if to < finer_kept { detail.up(to) } else { detail.down(to.min(kept.to(detail))) };
    if begin >= end {
        return fill(pieces, from, to, finer, kept);
    }
    if from < begin {
        fill(pieces, from, begin, finer, kept);
    }
    push(pieces, detail, begin, end);
    if end < to {
        fill(pieces, end, to, finer, kept);
    }
}

fn push(pieces: &mut Vec<Piece>, detail: Detail, from: Timestamp, to: Timestamp) {
    match pieces.last_mut() {
        Some(last) if last.detail == detail && last.window.to == from => last.window.to = to,
        _ => pieces.push(Piece { detail, window: Window { from, to } }),
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;
    use crate::named::Named;

    const MINUTE: i64 = 60 * MICROS_PER_SECOND;
    const HOUR: i64 = 60 * MINUTE;
    const DAY: i64 = 24 * HOUR;

    /// Everything since the epoch, rolled up to the minute given.
    fn all_kept(rolled_to: i64) -> Kept {
        Kept {
            fine_from: Timestamp(0),
            ten_minutes_from: Timestamp(0),
            ten_minutes_to: Timestamp(rolled_to),
            hour_to: Timestamp(rolled_to),
            day_to: Timestamp(rolled_to),
        }
    }

    fn shown(window: (i64, i64), kept: &Kept) -> Vec<(&'static str, i64, i64)> {
        let window = Window { from: Timestamp(window.0 * MINUTE), to: Timestamp(window.1 * MINUTE) };
        let minutes = |at: Timestamp| at.0 / MINUTE;
        pieces(window, Detail::for_window(window), kept)
            .iter()
            .map(|piece| (piece.detail.name(), minutes(piece.window.from), minutes(piece.window.to)))
            .collect()
    }

    #[test]
    fn a_short_window_is_answered_as_read() {
        assert_eq!(shown((7, 67), &all_kept(10 * DAY)), [("fine", 7, 67)]);
    }

    #[test]
    fn a_day_is_answered_in_ten_minutes_and_finely_at_its_ends() {
        assert_eq!(
            shown((7, 1447), &all_kept(1440 * MINUTE)),
            [("fine", 7, 10), ("ten_minutes", 10, 1440), ("fine", 1440, 1447)]
        );
        // Buckets that are not complete yet are read finely.
        assert_eq!(shown((0, 1447), &all_kept(1383 * MINUTE)), [("ten_minutes", 0, 1380), ("fine", 1380, 1447)]);
    }

    #[test]
    fn a_week_is_answered_in_hours_ten_minutes_and_finely() {
        assert_eq!(
            shown((7, 7 * 1440 + 7), &all_kept(20 * DAY)),
            [("fine", 7, 10), ("ten_minutes", 10, 60), ("hour", 60, 7 * 1440), ("fine", 7 * 1440, 7 * 1440 + 7)]
        );
    }

    #[test]
    fn sums_over_weeks_are_answered_in_days_and_hours_at_their_ends() {
        let days = |from: i64, to: i64| {
            let window = Window { from: Timestamp(from * MINUTE), to: Timestamp(to * MINUTE) };
            let pieces = pieces(window, Detail::for_sums(window), &all_kept(40 * DAY));
            pieces.iter().map(|piece| (piece.detail.name(), piece.window.seconds() / 60.0)).collect::<Vec<_>>()
        };
        assert_eq!(
            days(90, 21 * 1440 + 67),
            [("ten_minutes", 30.0), ("hour", 1320.0), ("day", 28_800.0), ("hour", 60.0), ("fine", 7.0)]
        );
        assert_eq!(days(0, 1440), [("ten_minutes", 1440.0)], "a day is short");
        assert_eq!(Detail::Day.coarser(), None);
        assert_eq!(Detail::SUMMED.map(|detail| detail.finer().and_then(Detail::coarser)), Detail::SUMMED.map(Some));
    }

    #[test]
    fn what_is_no_longer_kept_finely_widens_to_whole_buckets() {
        let kept = Kept {
            fine_from: Timestamp(8 * DAY),
            ten_minutes_from: Timestamp(4 * DAY),
            ten_minutes_to: Timestamp(10 * DAY),
            hour_to: Timestamp(10 * DAY),
            day_to: Timestamp(10 * DAY),
        };
        let (five, two) = (5 * 1440, 2 * 1440);
        assert_eq!(shown((five + 7, five + 27), &kept), [("ten_minutes", five, five + 30)]);
        assert_eq!(shown((two + 7, two + 27), &kept), [("hour", two, two + 60)]);
        assert_eq!(
            shown((8 * 1440 - 30, 8 * 1440 + 25), &kept),
            [("ten_minutes", 8 * 1440 - 30, 8 * 1440), ("fine", 8 * 1440, 8 * 1440 + 25)]
        );
    }

    proptest! {
        /// One figure a minute, kept as the levels say: its sum over pieces is its sum over the window.
        #[test]
        fn pieces_cover_the_window_and_sums_over_them_are_exact(
            from in 0i64..20_000, length in 1i64..20_000, fine_days in 0i64..12, ten_days in 0i64..12, open in 0i64..300,
            days_open in 0i64..3000, is_strip: bool,
        ) {
            let now = from + length;
            let fine_from = (now / 1440 - fine_days).max(0) * 1440;
            let kept = Kept {
                fine_from: Timestamp(fine_from * MINUTE),
                ten_minutes_from: Timestamp((fine_from - ten_days * 1440).max(0) * MINUTE),
                // What is no longer kept finely has been rolled up.
                ten_minutes_to: Timestamp((now - open).max(fine_from) * MINUTE),
                hour_to: Timestamp((now - open).max(fine_from) * MINUTE),
                day_to: Timestamp((now - open - days_open).max(fine_from) * MINUTE),
            };
            let window = Window { from: Timestamp(from * MINUTE), to: Timestamp(now * MINUTE) };
            let coarsest = if is_strip { Detail::for_window(window) } else { Detail::for_sums(window) };
            let pieces = pieces(window, coarsest, &kept);
            prop_assert!(pieces.iter().all(|piece| piece.detail <= coarsest.max(Detail::Hour)));
            prop_assert!(pieces[0].window.from <= window.from);
            prop_assert!(pieces[pieces.len() - 1].window.to >= window.to);
            prop_assert!(pieces.windows(2).all(|pair| pair[0].window.to == pair[1].window.from));
            let covered = (pieces[0].window.from.0 / MINUTE + 1..=pieces[pieces.len() - 1].window.to.0 / MINUTE).sum::<i64>();
            let mut summed = 0;
            for piece in &pieces {
                prop_assert!(piece.window.from >= kept.from(piece.detail), "{piece:?} is no longer kept");
                prop_assert!(piece.detail == Detail::Fine || piece.window.to <= Detail::Hour.up(kept.to(piece.detail)));
                // Buckets of the level whose end lies in the piece, each the sum of its minutes.
                let width = piece.detail.bucket_seconds().unwrap_or(60) / 60;
                let (begin, end) = (piece.window.from.0 / MINUTE, piece.window.to.0 / MINUTE);
                for bucket in begin.div_euclid(width)..end.div_euclid(width) {
                    summed += (bucket * width + 1..=(bucket + 1) * width).sum::<i64>();
                }
            }
            prop_assert_eq!(summed, covered);
            // Only an end of which nothing finer is kept may stick out.
            prop_assert!(pieces[0].window.from == window.from || window.from < kept.fine_from);
        }
    }
}
