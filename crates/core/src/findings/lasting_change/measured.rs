use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use crate::findings::ratio::Ratio;
use crate::named::Named;
use crate::readings::metric::{Metric, Unit};

/// What of a statement, or of a server, may change and stay so.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Hash,
    PartialOrd,
    Ord,
    Serialize,
    Deserialize,
    IntoStaticStr,
    EnumString,
    VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Measured {
    /// Time per call, in milliseconds: of a statement, or of nearly all of a server at once.
    TimePerCall,
    /// Calls a second: of a statement, or of nearly all of a server at once.
    Calls,
    /// Rows returned or changed per call of a statement.
    RowsPerCall,
    /// Pages touched per call of a statement, in cache or out of it.
    PagesPerCall,
    /// Waits of one kind: milliseconds per call of a statement, busy sessions of a server.
    Waits,
    /// Busy sessions of a server.
    Load,
    /// A metric of a server, in its unit.
    Metric,
}

/// What changed.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub struct Subject {
    /// The family that changed; nothing where the server did.
    pub family: Option<i64>,
    /// What of it.
    pub measured: Measured,
    /// Of which kind of wait, or which metric of what; otherwise empty.
    pub object: String,
}

impl Subject {
    /// What has no object.
    pub fn of(family: Option<i64>, measured: Measured) -> Subject {
        Subject { family, measured, object: String::new() }
    }

    /// Whether it is the time that calls take: what is called slower or faster.
    pub fn is_time_per_call(&self) -> bool {
        self.measured == Measured::TimePerCall
    }

    /// Whether it is what nearly all statements have in common.
    pub fn is_whole_server(&self) -> bool {
        self.family.is_none() && matches!(self.measured, Measured::TimePerCall | Measured::Calls)
    }

    /// Whether it goes with the working week: how much is done, and not what each costs.
    pub fn follows_the_week(&self) -> bool {
        matches!(self.measured, Measured::Calls | Measured::Load | Measured::Metric)
            || (self.family.is_none() && self.measured == Measured::Waits)
    }

    /// What a level of a metric is measured in, which its object begins with. What databases count is told by the second:
    /// bytes, seconds, or one by one.
    pub fn unit(&self) -> Option<Unit> {
        let name = self.object.split(' ').next().unwrap_or_default();
        let known = Metric::named(name).map(Metric::unit).or_else(|| Ratio::named(name).map(|ratio| ratio.unit));
        let counted = match &self.object {
            bytes if bytes.ends_with("_bytes") => Unit::BytesPerSecond,
            time if time.ends_with("_time") => Unit::Count,
            _ => Unit::PerSecond,
        };
        (self.measured == Measured::Metric).then_some(known.unwrap_or(counted))
    }
}
