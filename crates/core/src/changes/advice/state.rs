use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// How far a piece of advice has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum AdviceState {
    /// Nobody has answered it.
    Open,
    /// Its change was made.
    Applied,
    /// Somebody does not want it; it is not given again.
    SetAside,
    /// What it rests on does not hold any more.
    Lapsed,
}
