//! What somebody with an account may do.

use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// Roles, each of which may do what those before it may.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    Serialize,
    Deserialize,
    IntoStaticStr,
    EnumString,
    VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum Role {
    /// Sees.
    Reader,
    /// Also tries out and drafts.
    Tuner,
    /// Also puts in force, and manages instances, secrets and accounts.
    Administrator,
}

/// Whether somebody who is limited to these groups may see an instance of that group; who is limited to none sees
/// all.
pub fn sees(limited_to: &[String], group: Option<&str>) -> bool {
    limited_to.is_empty() || group.is_some_and(|group| limited_to.iter().any(|seen| seen == group))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::named::Named;

    #[test]
    fn roles_are_found_by_their_names_and_grow() {
        for role in Role::all() {
            assert_eq!(Role::named(role.name()), Some(role));
        }
        assert_eq!(Role::named("captain"), None);
        let sea = ["sea".to_owned()];
        assert!(sees(&[], None) && sees(&sea, Some("sea")) && !sees(&sea, Some("shore")) && !sees(&sea, None));
        assert!(Role::Administrator > Role::Tuner && Role::Tuner > Role::Reader);
    }
}
