//! What came of something that the audit trail tells.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// What came of it.
#[derive(
    Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum AuditOutcome {
    /// It was begun, and what came of it is not known.
    #[default]
    Begun,
    /// It was done.
    Done,
    /// It was refused: whoever asked may not, or asked for what cannot be.
    Refused,
    /// Hurnix could not do it.
    Failed,
}
