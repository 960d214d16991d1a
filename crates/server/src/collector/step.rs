//! What a reading of counters shows about the time since the one before it: the same for a server under care and for
//! a past that is lived through.

use std::collections::HashMap;

use hurnix_core::Named;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_core::readings::difference::{Difference, NoDifference, Snapshot, between, followed};
use hurnix_store::{Kind, PeriodRow};

use super::words::{Keyed, Words};

/// One step of a chain of readings.
pub struct Step<C: Kind> {
    /// The reading, with what is to be remembered of those before it: the next step starts from it.
    pub followed: Snapshot<C::Key, C>,
    /// What happened since the reading before, or why nothing is known of that time; nothing on the very first one.
    pub outcome: Option<Result<Difference<C::Key, C>, NoDifference>>,
}

impl<C: Kind> Step<C> {
    /// The step from one reading to the next, with figures where they are at most `longest_seconds` apart.
    pub fn new(last: Option<&Snapshot<C::Key, C>>, snapshot: &Snapshot<C::Key, C>, longest_seconds: f64) -> Step<C> {
        Step {
            outcome: last.map(|last| between(last, snapshot, longest_seconds)),
            followed: match last {
                Some(last) => followed(last, snapshot.clone()),
                None => snapshot.clone(),
            },
        }
    }

    /// What it shows to have happened to the server.
    pub fn markers(&self) -> Vec<Marker> {
        let Some(Err(none)) = &self.outcome else { return Vec::new() };
        let snapshot = &self.followed;
        let (at, kind, text) = match none {
            NoDifference::Restarted => {
                (snapshot.server_started_at, MarkerKind::Restart, "the server was restarted".to_owned())
            }
            NoDifference::Crashed => {
                let at = snapshot.crashed_at.unwrap_or(snapshot.at);
                (at, MarkerKind::Crash, "a process of the server crashed".into())
            }
            NoDifference::Reset => {
                let text = format!("counters of {} were reset", C::FIGURES.name());
                (snapshot.reset_at.unwrap_or(snapshot.at), MarkerKind::Reset, text)
            }
            _ => return Vec::new(),
        };
        vec![Marker { at, kind, text }]
    }
}

/// What objects did, by what they are kept by; what is not counted, or not known yet, is left out.
pub fn by_object<C: Kind>(words: &Words, difference: &Difference<C::Key, C>) -> Vec<PeriodRow<C::Object, C>>
where
    C::Key: Keyed<Object = C::Object>,
{
    let mut sums: HashMap<C::Object, (C, bool)> = HashMap::with_capacity(difference.rows.len());
    for row in &difference.rows {
        if let Some(object) = row.key.object(words) {
            let (sum, lower_bound) = sums.entry(object).or_default();
            *sum = sum.plus(&row.by);
            *lower_bound |= row.lower_bound;
        }
    }
    sums.into_iter().map(|(object, (by, lower_bound))| PeriodRow { object, by, lower_bound }).collect()
}
