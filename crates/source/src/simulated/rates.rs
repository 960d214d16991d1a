use hurnix_core::WaitKind;

use super::model::{Change, Cost, Happening, Model, Touch};
use super::noise::drift;
use super::shape::minute_of;

/// How a family's rate, and the time of its calls, drift: widths in minutes with the deviation at each.
const RATE_DRIFT: [(i64, f64); 4] = [(360, 0.02), (60, 0.04), (10, 0.05), (1, 0.04)];
const TIME_DRIFT: [(i64, f64); 4] = [(360, 0.015), (60, 0.03), (10, 0.04), (1, 0.05)];
/// What all families of a server have in common, besides: travellers come together, and so do slow minutes.
const COMMON_RATE_DRIFT: [(i64, f64); 3] = [(360, 0.02), (60, 0.03), (10, 0.03)];
const COMMON_TIME_DRIFT: [(i64, f64); 3] = [(360, 0.01), (60, 0.02), (10, 0.02)];

/// What a family does in one minute.
#[derive(Debug, Clone)]
pub struct Rate<'a> {
    /// Calls a second.
    pub per_second: f64,
    /// Cost of a call.
    pub cost: Cost,
    /// What it waits for.
    pub waits: &'a [(WaitKind, String, f64)],
    /// What it does to tables.
    pub touches: &'a [Touch],
    /// Its plan.
    pub plan: &'a str,
}

/// The changes of each family, with the minutes from and until which they hold.
#[derive(Debug)]
pub struct Changes(Vec<Vec<(i64, i64, Change)>>);

impl Changes {
    /// Those of a model.
    pub fn of(model: &Model) -> Changes {
        let mut changes = vec![Vec::new(); model.families.len()];
        for event in &model.events {
            if let Happening::Change(change) = &event.what
                && let Some(of_family) = changes.get_mut(change.family)
            {
                of_family.push((minute_of(event.at), event.until.map_or(i64::MAX, minute_of), change.clone()));
            }
        }
        Changes(changes)
    }

    /// What families do in a minute.
    pub fn in_minute<'a>(&'a self, model: &'a Model, minute: i64) -> MinuteRates<'a> {
        MinuteRates {
            changes: self,
            model,
            minute,
            calls: drift(model.seed, [25, 0], minute, &COMMON_RATE_DRIFT),
            time: drift(model.seed, [27, 0], minute, &COMMON_TIME_DRIFT),
        }
    }
}

/// One minute of all families.
#[derive(Debug)]
pub struct MinuteRates<'a> {
    changes: &'a Changes,
    model: &'a Model,
    minute: i64,
    /// Factors that all families share.
    calls: f64,
    time: f64,
}

impl<'a> MinuteRates<'a> {
    /// What the family at a position does in that minute.
    pub fn of(&self, position: usize) -> Rate<'a> {
        let (family, minute) = (&self.model.families[position], self.minute);
        let mut rate = Rate {
            per_second: family.per_second * family.shape.level(minute).max(0.0),
            cost: family.cost,
            waits: &family.waits,
            touches: &family.touches,
            plan: &family.plan,
        };
        for (from, until, change) in &self.changes.0[position] {
            if (*from..*until).contains(&minute) {
                rate.per_second *= change.calls;
                rate.cost = change.cost.unwrap_or(rate.cost);
                rate.waits = change.waits.as_deref().unwrap_or(rate.waits);
                rate.touches = change.touches.as_deref().unwrap_or(rate.touches);
                rate.plan = change.plan.as_deref().unwrap_or(rate.plan);
            }
        }
        if rate.per_second > 0.0 {
            let (seed, position) = (self.model.seed, position as u64);
            rate.per_second *= self.calls * drift(seed, [1, position], minute, &RATE_DRIFT);
            rate.cost.ms *= self.time * drift(seed, [3, position], minute, &TIME_DRIFT);
        }
        rate
    }
}
