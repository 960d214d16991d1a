//! How each kind of figures of an instance stands: read, limited, absent or overdue, and what it costs.

use std::collections::HashMap;

use hurnix_core::readings::figures::{Availability, Figures, Tally};
use hurnix_core::{Named, Timestamp, Window};
use hurnix_source::Limit;
use hurnix_store::{Instance, Result};

use crate::state::Collected;

/// What reading costs and how it went is told of this many hours.
const HOURS: f64 = 24.0;

/// How a kind of figures stands.
pub struct AvailabilityOf {
    /// The kind.
    pub figures: Figures,
    /// How it stands.
    pub availability: Availability,
    /// What keeps it, or a part of it, from being read.
    pub obstacles: Vec<Limit>,
    /// When it was last read, to within a few seconds.
    pub last_read_at: Option<Timestamp>,
    /// Seconds from one reading to the next, before stretching.
    pub interval_seconds: f64,
    /// How reading it went in the last 24 hours.
    pub tally: Tally,
}

/// Judges all kinds of figures of an instance.
pub async fn availabilities(app: &Collected, instance: &Instance, now: Timestamp) -> Result<Vec<AvailabilityOf>> {
    let window = Window { from: now.plus_seconds(-HOURS * 3600.0), to: now };
    let mut tallies: HashMap<Figures, Tally> = HashMap::new();
    for row in app.store.tallies(instance.instance_id, window).await? {
        let sum = tallies.entry(row.figures).or_default();
        *sum = sum.plus(&row.tally);
    }
    let last_reads = app.store.last_reads(instance.instance_id).await?;
    let limits: Vec<Limit> = serde_json::from_value(instance.limits.clone()).unwrap_or_default();
    let intervals = app.intervals_of(instance);
    let judge = |figures: Figures| {
        let last_read_at = last_reads.get(figures.name()).copied();
        let interval_seconds = intervals.of(figures).as_secs_f64();
        let obstacles: Vec<Limit> = limits.iter().filter(|limit| limit.concerns.contains(&figures)).cloned().collect();
        let limited = obstacles.iter().map(|limit| limit.in_whole).reduce(|a, b| a || b);
        let stretched = interval_seconds * instance.stretch.map_or(1.0, f64::from);
        AvailabilityOf {
            figures,
            availability: Availability::judge(limited, last_read_at.map(|last| now.seconds_since(last)), stretched),
            obstacles,
            last_read_at,
            interval_seconds,
            tally: tallies.get(&figures).copied().unwrap_or_default(),
        }
    };
    Ok(Figures::ALL.into_iter().map(judge).collect())
}
