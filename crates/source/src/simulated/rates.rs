use std::collections::VecDeque;
use std::sync::{Arc, Mutex, PoisonError};

use hurnix_core::WaitKind;

use super::model::{Change, Cost, FamilyModel, Happening, Model, Touch};
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

/// Calls a second, and time of a call in milliseconds, by family.
type Drawn = Arc<[(f64, f64)]>;

/// The changes of each family, with the minutes from and until which they hold.
#[derive(Debug)]
pub struct Changes {
    of_families: Vec<Vec<(i64, i64, Change)>>,
    /// Of the minutes asked for last: sessions and counters of a minute ask for the same.
    drawn: Mutex<VecDeque<(i64, Drawn)>>,
}

/// Minutes that are remembered: counters of the past are read every ten.
const REMEMBERED: usize = 12;

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
        Changes { of_families: changes, drawn: Mutex::default() }
    }

    /// What families do in a minute.
    pub fn in_minute<'a>(&'a self, model: &'a Model, minute: i64) -> MinuteRates<'a> {
        let mut drawn = self.drawn.lock().unwrap_or_else(PoisonError::into_inner);
        let known = drawn.iter().find(|(of, _)| *of == minute).map(|(_, known)| known.clone());
        let drawn = known.unwrap_or_else(|| {
            let made = self.draw(model, minute);
            drawn.truncate(REMEMBERED - 1);
            drawn.push_front((minute, made.clone()));
            made
        });
        MinuteRates { changes: self, model, minute, drawn }
    }

    /// Changes of a family that hold in a minute, in order.
    fn holding(&self, position: usize, minute: i64) -> impl Iterator<Item = &Change> {
        let holds = move |(from, until, _): &&(i64, i64, Change)| (*from..*until).contains(&minute);
        self.of_families[position].iter().filter(holds).map(|(_, _, change)| change)
    }

    fn draw(&self, model: &Model, minute: i64) -> Drawn {
        let seed = model.seed;
        let calls = drift(seed, [25, 0], minute, &COMMON_RATE_DRIFT);
        let time = drift(seed, [27, 0], minute, &COMMON_TIME_DRIFT);
        let of_family = |(position, family): (usize, &FamilyModel)| {
            let mut per_second = family.per_second * family.shape.level(minute).max(0.0);
            let mut ms = family.cost.ms;
            for change in self.holding(position, minute) {
                per_second *= change.calls;
                ms = change.cost.map_or(ms, |cost| cost.ms);
            }
            if per_second > 0.0 {
                per_second *= calls * drift(seed, [1, position as u64], minute, &RATE_DRIFT);
                ms *= time * drift(seed, [3, position as u64], minute, &TIME_DRIFT);
            }
            (per_second, ms)
        };
        model.families.iter().enumerate().map(of_family).collect()
    }
}

/// One minute of all families.
#[derive(Debug)]
pub struct MinuteRates<'a> {
    changes: &'a Changes,
    model: &'a Model,
    minute: i64,
    drawn: Drawn,
}

impl<'a> MinuteRates<'a> {
    /// Calls a second of the family at a position, and the time of a call in milliseconds.
    pub fn pace(&self, position: usize) -> (f64, f64) {
        self.drawn[position]
    }

    /// What the family at a position does in that minute.
    pub fn of(&self, position: usize) -> Rate<'a> {
        let (family, (per_second, ms)) = (&self.model.families[position], self.drawn[position]);
        let mut rate =
            Rate { per_second, cost: family.cost, waits: &family.waits, touches: &family.touches, plan: &family.plan };
        for change in self.changes.holding(position, self.minute) {
            rate.cost = change.cost.unwrap_or(rate.cost);
            rate.waits = change.waits.as_deref().unwrap_or(rate.waits);
            rate.touches = change.touches.as_deref().unwrap_or(rate.touches);
            rate.plan = change.plan.as_deref().unwrap_or(rate.plan);
        }
        rate.cost.ms = ms;
        rate
    }
}
