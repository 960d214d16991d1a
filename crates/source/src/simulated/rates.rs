use hurnix_core::WaitKind;

use super::model::{Change, Cost, FamilyModel, Happening, Model, Touch};
use super::noise::Noise;
use super::shape::minute_of;

/// How steady a family's rate is from hour to hour, and from minute to minute; likewise its cost.
const RATE_DEVIATION: (f64, f64) = (0.05, 0.04);
const COST_DEVIATION: (f64, f64) = (0.03, 0.05);

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

    /// What a family does in a minute.
    pub fn rate<'a>(&'a self, seed: u64, position: usize, family: &'a FamilyModel, minute: i64) -> Rate<'a> {
        let drawn = |purpose: u64, deviation: (f64, f64)| {
            let of_hour = Noise::of(seed, &[purpose, position as u64, (minute / 60) as u64]).factor(deviation.0);
            let of_minute = Noise::of(seed, &[purpose + 1, position as u64, minute as u64]).factor(deviation.1);
            of_hour * of_minute
        };
        let mut rate = Rate {
            per_second: family.per_second * family.shape.level(minute).max(0.0),
            cost: family.cost,
            waits: &family.waits,
            touches: &family.touches,
            plan: &family.plan,
        };
        for (from, until, change) in &self.0[position] {
            if (*from..*until).contains(&minute) {
                rate.per_second *= change.calls;
                rate.cost = change.cost.unwrap_or(rate.cost);
                rate.waits = change.waits.as_deref().unwrap_or(rate.waits);
                rate.touches = change.touches.as_deref().unwrap_or(rate.touches);
                rate.plan = change.plan.as_deref().unwrap_or(rate.plan);
            }
        }
        rate.per_second *= drawn(1, RATE_DEVIATION);
        rate.cost.ms *= drawn(3, COST_DEVIATION);
        rate
    }
}
