use std::collections::HashMap;
use std::hash::Hash;

use super::{Episode, Wait};

/// What was lost to one thing.
#[derive(Debug, Clone, PartialEq)]
pub struct Lost<K> {
    /// What it is.
    pub key: K,
    /// Seconds that sessions lost to it.
    pub seconds: f64,
    /// Waits.
    pub waits: usize,
}

/// What sessions lost in episodes, by something of each wait: its table, its statement, its holder. The most first.
/// Linear in the waits.
pub fn lost_by<K: Eq + Hash>(episodes: &[Episode], key: impl Fn(&Episode, &Wait) -> K) -> Vec<Lost<K>> {
    let mut lost: HashMap<K, (f64, usize)> = HashMap::new();
    for (episode, wait) in episodes.iter().flat_map(|episode| episode.waits.iter().map(move |wait| (episode, wait))) {
        let (seconds, waits) = lost.entry(key(episode, wait)).or_default();
        *seconds += wait.lost_seconds;
        *waits += 1;
    }
    let mut lost: Vec<Lost<K>> = lost.into_iter().map(|(key, (seconds, waits))| Lost { key, seconds, waits }).collect();
    lost.sort_by(|a, b| b.seconds.total_cmp(&a.seconds));
    lost
}
