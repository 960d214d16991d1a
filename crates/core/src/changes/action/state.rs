use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

use super::approval::GOOD_FOR_SECONDS;
use crate::time::Timestamp;

/// An action that runs is told to be alive at least this often, in seconds.
pub const SIGN_OF_LIFE_SECONDS: f64 = 5.0;
/// Without a sign of life for so many seconds, nobody runs it any more.
const LOST_AFTER_SECONDS: f64 = 6.0 * SIGN_OF_LIFE_SECONDS;

/// How far an action has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
pub enum ActionState {
    /// It waits for the approval of a second person.
    Proposed,
    /// It was proposed too long ago to be approved.
    Void,
    /// A second person refused it.
    Refused,
    /// Whoever proposed it took it back.
    Withdrawn,
    /// It may be carried out, and was not begun.
    Approved,
    /// It is being carried out.
    Running,
    /// It was carried out.
    Done,
    /// It could not be carried out.
    Failed,
    /// Somebody stopped it before it was done.
    Stopped,
    /// Whoever ran it has gone: nobody knows what came of it.
    Lost,
}

impl ActionState {
    /// What the kept state amounts to by `now`: a proposal gets old, and what runs shows signs of life.
    pub fn by(self, proposed_at: Timestamp, alive_at: Option<Timestamp>, now: Timestamp) -> ActionState {
        let quiet_for = |since: Timestamp| now.seconds_since(since);
        match self {
            ActionState::Proposed if quiet_for(proposed_at) > GOOD_FOR_SECONDS => ActionState::Void,
            ActionState::Running if quiet_for(alive_at.unwrap_or(proposed_at)) > LOST_AFTER_SECONDS => {
                ActionState::Lost
            }
            state => state,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_proposal_gets_old_and_what_shows_no_life_is_lost() {
        let at = |seconds: f64| Timestamp(0).plus_seconds(seconds);
        let by = |state: ActionState, alive: Option<f64>, now| state.by(at(0.0), alive.map(at), at(now));
        assert_eq!(by(ActionState::Proposed, None, GOOD_FOR_SECONDS), ActionState::Proposed);
        assert_eq!(by(ActionState::Proposed, None, GOOD_FOR_SECONDS + 1.0), ActionState::Void);
        assert_eq!(by(ActionState::Running, Some(9_000.0), 9_030.0), ActionState::Running);
        assert_eq!(by(ActionState::Running, Some(9_000.0), 9_031.0), ActionState::Lost);
        assert_eq!(by(ActionState::Done, None, 1e9), ActionState::Done);
    }
}
