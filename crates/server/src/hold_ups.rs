//! Hold-ups of a window: joined from the looks that are kept, and before these those that were joined in their time.

use hurnix_core::findings::hold_up::{Episode, Episodes};
use hurnix_core::{Timestamp, Window};
use hurnix_store::{Result, Store};

/// Of the finest sums of looks.
const BUCKET_SECONDS: f64 = 600.0;

/// Hold-ups of a window.
pub struct HoldUpsOf {
    /// All of them, in no order.
    pub episodes: Vec<Episode>,
    /// Looks in the window that are kept one by one.
    pub looks: usize,
    /// The newest of them.
    pub looked_at: Option<Timestamp>,
    /// Since when looks are kept one by one, where the window begins before that; its end where none are.
    pub looks_since: Option<Timestamp>,
}

/// Who held up whom in a window.
pub async fn hold_ups_of(store: &Store, instance_id: i32, window: Window) -> Result<HoldUpsOf> {
    let seen = store.lock_looks(instance_id, window).await?;
    let (looks, looked_at) = (seen.len(), seen.last().map(|look| look.at));
    let joined = tokio::task::spawn_blocking(move || {
        let mut going = Episodes::default();
        let mut episodes: Vec<Episode> = seen.iter().flat_map(|look| going.go_on(look)).collect();
        episodes.extend(going.into_open());
        episodes
    });
    // A panic in there is one here.
    let mut episodes = joined.await.unwrap_or_else(|ended| std::panic::resume_unwind(ended.into_panic()));
    let first_look = store.first_look_kept(instance_id).await?.unwrap_or(window.to).min(window.to);
    let mut looks_since = None;
    if window.from < first_look {
        // Sums of its time reach back to the begin of the first look's bucket at least.
        let history = store.retained(instance_id).await?.map(|(first, _)| first.plus_seconds(BUCKET_SECONDS));
        looks_since = history.filter(|first| *first < first_look).map(|_| first_look);
    }
    if looks_since.is_some() {
        let kept = store.kept_hold_ups(instance_id, Window { to: first_look, ..window }).await?;
        // What still went on is told by the looks.
        episodes.extend(kept.into_iter().filter(|episode| episode.to < first_look));
    }
    Ok(HoldUpsOf { episodes, looks, looked_at, looks_since })
}
