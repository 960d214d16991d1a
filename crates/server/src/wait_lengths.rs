//! How long sessions were seen waiting, followed from look to look.

use hurnix_core::Window;
use hurnix_core::findings::hold_up::{Lengths, stands_for};
use hurnix_core::findings::robust::quantile;
use hurnix_core::findings::wait_lengths::wait_lengths;
use hurnix_store::{OnlyPart, Result, Store};

/// Longest window whose looks are followed session by session.
const LONGEST_SECONDS: f64 = 6.0 * 3600.0;
/// Waiting sessions, each at each look, that are followed at most.
const MOST_SEEN: usize = 400_000;

/// Waits of a window by their length.
pub struct WaitsSeen {
    /// Looks in the window that are kept one by one.
    pub looks: usize,
    /// Seconds between two of them, the median.
    pub look_seconds: f64,
    /// Waits by their length, the shortest first.
    pub lengths: Vec<Lengths>,
}

/// Why waits are not followed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum NotFollowed {
    /// The window has too many looks.
    TooLong,
    /// Too many sessions waited in it.
    TooMany,
}

/// How long sessions were seen waiting without a break, in a window of up to six hours: the same event in the same
/// statement, at looks in a row; of these parts only.
pub async fn waits_seen(
    store: &Store,
    instance_id: i32,
    window: Window,
    only: &[OnlyPart],
) -> Result<std::result::Result<WaitsSeen, NotFollowed>> {
    if window.seconds() > LONGEST_SECONDS {
        return Ok(Err(NotFollowed::TooLong));
    }
    let (looks, seen) = store.seen_waiting(instance_id, window, only, MOST_SEEN + 1).await?;
    if seen.len() > MOST_SEEN {
        return Ok(Err(NotFollowed::TooMany));
    }
    let count = looks.len();
    let told = tokio::task::spawn_blocking(move || {
        (quantile(&stands_for(&looks), 0.5).unwrap_or_default(), wait_lengths(&looks, &seen))
    });
    // It breaks off only when the program stops.
    let (look_seconds, lengths) = told.await.unwrap_or_default();
    Ok(Ok(WaitsSeen { looks: count, look_seconds, lengths }))
}
