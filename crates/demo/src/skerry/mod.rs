//! Skerry Line's simulated instances and what happened on them.

mod archive;
mod crew;
mod everyday;
mod freight;
mod gates;
mod lab;
mod parts;
mod passage_b;
mod settle;
mod tides;
mod truth;

use anyhow::Result;
use hurnix_core::Timestamp;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_source::simulated::Model;

pub use truth::{KnownStory, Told, Truth, midnight};

/// Days of history before the day on which it ends.
pub const HISTORY_DAYS: f64 = 21.0;

/// What models are made from: the truth, and when the history ends.
struct Plot<'a> {
    truth: &'a Truth,
    end: Timestamp,
}

impl Plot<'_> {
    fn began_at(&self) -> Timestamp {
        midnight(self.end).plus_seconds(-HISTORY_DAYS * SECONDS_PER_DAY)
    }

    fn story(&self, name: &str) -> Result<&KnownStory> {
        self.truth.story(name)
    }
}

/// All simulated instances by label, with three weeks of history up to the day of `end`, and on from there.
pub fn fleet(end: Timestamp) -> Result<Vec<(&'static str, Model)>> {
    let truth = Truth::read()?;
    let plot = Plot { truth: &truth, end };
    let mut fleet = vec![
        ("passage-b", passage_b::model(&plot)?),
        ("gate-north", gates::north(&plot)?),
        ("gate-south", gates::south(&plot)?),
        ("freight", freight::model(&plot)?),
        ("crew", crew::model(&plot)?),
        ("tides", tides::model(&plot)?),
        ("settle", settle::model(&plot)?),
        ("archive", archive::model(&plot)?),
        ("lab", lab::model(&plot)),
    ];
    for (_, model) in &mut fleet {
        model.events.sort_by_key(|event| event.at);
    }
    Ok(fleet)
}
