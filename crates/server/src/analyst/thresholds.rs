use hurnix_core::findings::alarm::Sign;
use hurnix_core::findings::threshold::{Watching, in_force};
use hurnix_core::{Timestamp, Window};
use hurnix_store::{Instance, Result};

use super::look::coarsest;
use crate::state::{App, now};

/// Seconds of the past that are gone through when thresholds are set, on top of what they have to last: what is beyond
/// by then may have gone beyond before.
const PAST_SECONDS: f64 = 86_400.0;

/// What of an instance is beyond the thresholds in force there, up to `to`.
pub async fn beyond_thresholds(
    app: &App,
    instance: &Instance,
    watching: &mut Watching,
    bucket_seconds: i64,
    to: Timestamp,
) -> Result<Vec<Sign>> {
    let in_force = in_force(&app.store.thresholds().await?, instance.instance_id, instance.group.as_deref());
    let longest = in_force.iter().map(|set| set.threshold.lasts_seconds).fold(0.0, f64::max);
    let judged_to = watching.judged_to(in_force);
    let from = judged_to.unwrap_or(to.plus_seconds(-PAST_SECONDS - longest));
    let mut figures: Vec<_> = watching.in_force().iter().map(|set| set.threshold.figure).collect();
    figures.sort_unstable_by_key(|figure| figure.name());
    figures.dedup();
    let cells = (bucket_seconds, coarsest(bucket_seconds));
    let id = instance.instance_id;
    let seen = app.store.figure_series(id, &figures, Window { from, to }, cells, now()).await?;
    Ok(watching.judge(&seen, to))
}
