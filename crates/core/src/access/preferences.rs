//! What somebody has chosen for the pages: it follows the account from browser to browser.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// Most instances that are pinned.
pub const MOST_PINNED: usize = 200;
/// Most groups that are folded.
pub const MOST_FOLDED: usize = 500;

/// In which order the roster lists instances.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub enum RosterOrder {
    /// The most urgent first.
    #[default]
    Urgency,
    /// By label.
    Label,
}

/// What somebody has chosen. What is left out is as usual.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
#[cfg_attr(feature = "schema", derive(utoipa::ToSchema))]
pub struct Preferences {
    /// Instances that stand first on the roster, in this order; 200 at most.
    #[cfg_attr(feature = "schema", schema(max_items = 200, required = true))]
    pub pinned: Vec<i32>,
    /// Groups of the roster whose instances are folded away; 500 at most.
    #[cfg_attr(feature = "schema", schema(max_items = 500, required = true))]
    pub folded_groups: Vec<String>,
    /// Order of the roster.
    #[cfg_attr(feature = "schema", schema(required = true))]
    pub order: RosterOrder,
}
