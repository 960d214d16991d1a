//! Readings as earlier versions of Hurnix kept them.

use hurnix_core::Timestamp;
use hurnix_core::readings::difference::{Evictions, Snapshot};
use serde::Deserialize;

/// The form of kept readings up to version 0.1 of the repository, with the figures of today.
#[derive(Deserialize)]
pub(crate) struct FormOne<K, C> {
    at: Timestamp,
    server_started_at: Timestamp,
    reset_at: Option<Timestamp>,
    evictions: Option<i64>,
    rows: Vec<(K, C)>,
}

impl<K, C> From<FormOne<K, C>> for Snapshot<K, C> {
    fn from(earlier: FormOne<K, C>) -> Self {
        let FormOne { at, server_started_at, reset_at, evictions, rows } = earlier;
        let evictions = evictions.map_or(Evictions::Never, Evictions::Times);
        Snapshot { reset_at, evictions, ..Snapshot::new(at, server_started_at, rows) }
    }
}
