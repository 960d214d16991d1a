use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// What somebody makes of a change.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Answer {
    /// The new level is the normal one.
    Accepted,
    /// It is no trouble, for a reason.
    Dismissed,
    /// It is followed until it is over.
    Followed,
}

impl Answer {
    /// Whether the change asks for attention no more.
    pub fn settles(self) -> bool {
        matches!(self, Answer::Accepted | Answer::Dismissed)
    }
}
