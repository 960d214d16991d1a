use super::Threshold;

/// Whose figures a threshold is for.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Scope {
    /// Those of all instances.
    All,
    /// Those of the instances of a group.
    Group(String),
    /// Those of one instance, by its number.
    Instance(i32),
}

impl Scope {
    /// Whether an instance is meant.
    pub fn holds(&self, instance_id: i32, group: Option<&str>) -> bool {
        match self {
            Scope::All => true,
            Scope::Group(name) => group == Some(name),
            Scope::Instance(id) => *id == instance_id,
        }
    }
}

/// A threshold as it is set.
#[derive(Debug, Clone, PartialEq)]
pub struct SetThreshold {
    /// Number.
    pub threshold_id: i32,
    /// For whom.
    pub scope: Scope,
    /// Whether it raises alarms; one that does not takes that of a wider scope out of force.
    pub is_on: bool,
    /// The threshold.
    pub threshold: Threshold,
}

impl SetThreshold {
    /// Whether one of both takes the place of the other: they are of the same figure and object, side and urgency.
    pub fn is_like(&self, other: &SetThreshold) -> bool {
        let key = |set: &SetThreshold| {
            let Threshold { figure, object, side, verdict, .. } = set.threshold.clone();
            (figure, object, side, verdict)
        };
        key(self) == key(other)
    }
}

/// The thresholds in force on an instance, in their order: of those that are alike the one for the instance itself,
/// else that of its group, else that of all.
pub fn in_force(all: &[SetThreshold], instance_id: i32, group: Option<&str>) -> Vec<SetThreshold> {
    let meant: Vec<&SetThreshold> = all.iter().filter(|set| set.scope.holds(instance_id, group)).collect();
    let is_closest = |set: &&&SetThreshold| !meant.iter().any(|other| other.scope > set.scope && other.is_like(set));
    meant.iter().filter(is_closest).filter(|set| set.is_on).map(|set| (*set).clone()).collect()
}

#[cfg(test)]
mod tests {
    use super::super::tests::load_above;
    use super::*;
    use crate::findings::health::Health;

    #[test]
    fn the_closest_is_in_force_and_one_that_is_off_exempts() {
        let set = |threshold_id, scope, is_on, value| SetThreshold {
            threshold_id,
            scope,
            is_on,
            threshold: load_above(value, value, 0.0),
        };
        let urgent = SetThreshold {
            threshold: Threshold { verdict: Health::Act, ..load_above(90.0, 90.0, 0.0) },
            ..set(5, Scope::All, true, 0.0)
        };
        let all = [
            set(1, Scope::All, true, 10.0),
            set(2, Scope::Group("gates".into()), true, 20.0),
            set(3, Scope::Instance(7), true, 30.0),
            set(4, Scope::Instance(8), false, 30.0),
            urgent,
        ];
        let of = |id, group| in_force(&all, id, group).iter().map(|set| set.threshold_id).collect::<Vec<_>>();
        assert_eq!(of(1, None), [1, 5]);
        assert_eq!(of(2, Some("gates")), [2, 5]);
        assert_eq!(of(7, Some("gates")), [3, 5]);
        assert_eq!(of(8, Some("gates")), [5]);
    }
}
