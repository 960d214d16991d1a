//! What was measured last of an instance.

use std::time::Duration;

use hurnix_core::readings::figures::Figures;
use hurnix_store::{Instance, NewestMeasure, Result};

use crate::options::Intervals;
use crate::state::{Collected, now};

/// What was measured last is still told after this many intervals.
const STALE_INTERVALS: u32 = 5;

/// The newest value of every metric of every object; those that were not read lately are left out.
pub async fn newest(app: &Collected, instance: &Instance) -> Result<Vec<NewestMeasure>> {
    let since = now().plus_seconds(-(longest_interval(&app.intervals_of(instance)) * STALE_INTERVALS).as_secs_f64());
    app.store.newest_measures(instance.instance_id, since).await
}

/// The longest interval between two readings of single figures.
fn longest_interval(intervals: &Intervals) -> Duration {
    let kinds = [Figures::Standing, Figures::Replication, Figures::Space, Figures::Host, Figures::Processes];
    kinds.into_iter().map(|figures| intervals.of(figures)).max().unwrap_or_default()
}
