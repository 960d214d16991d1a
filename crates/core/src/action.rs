//! What is put in force on a watched server, and who must agree to it.
//!
//! While the rule of the second person is on, whatever is put in force is proposed by one administrator and
//! approved by another, and lifting the rule is itself such an action. A program with a token is no person.

use serde::{Deserialize, Serialize};

use crate::role::Role;
use crate::time::Timestamp;

/// A proposal that nobody has decided on is void after so many seconds: what it is about may have changed.
pub const GOOD_FOR_SECONDS: f64 = 3600.0;

/// What can be put in force.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "kind", rename_all = "snake_case")]
pub enum Action {
    /// Cancel the statement that a session runs; the session goes on.
    CancelStatement(SessionMeant),
    /// End a session; its open transaction is rolled back.
    EndSession(SessionMeant),
    /// Lift the rule that a second person must approve.
    LiftSecondPerson,
}

/// A session of a watched server, told from a later one with the same number.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct SessionMeant {
    /// Its process number.
    pub process: i32,
    /// When the process began.
    pub started_at: Timestamp,
    /// Account that signed in.
    pub account: String,
    /// What its program calls itself.
    pub program: String,
}

impl Action {
    /// The kind's name.
    pub fn kind(&self) -> &'static str {
        match self {
            Action::CancelStatement(_) => "cancel_statement",
            Action::EndSession(_) => "end_session",
            Action::LiftSecondPerson => "lift_second_person",
        }
    }

    /// What happens and what is lost by it, in one sentence. None of it can be undone, and it says so.
    pub fn told(&self) -> String {
        let who = |of: &SessionMeant| format!("{} ({}, process {})", of.account, of.program, of.process);
        match self {
            Action::CancelStatement(of) => {
                format!(
                    "The statement that {} runs just now fails, and its transaction with it; this cannot be undone.",
                    who(of)
                )
            }
            Action::EndSession(of) => {
                format!(
                    "The session of {} ends: its open transaction is rolled back, and its program is cut off; this cannot be undone.",
                    who(of)
                )
            }
            Action::LiftSecondPerson => "From then on one administrator alone puts things in force.".into(),
        }
    }
}

/// Somebody who wants to put something in force or decide on it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Person<'a> {
    /// Name of the account.
    pub account: &'a str,
    /// Its role.
    pub role: Role,
    /// Whether it is there itself, and not a program with a token of it.
    pub in_person: bool,
}

/// Why somebody may not approve.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum MayNotApprove {
    /// Only administrators put things in force.
    #[error("only administrators may approve")]
    Role,
    /// Whoever proposed it.
    #[error("a second person must approve, not the one who proposed it")]
    Proposer,
    /// A token stands for a program.
    #[error("a person must approve: sign in instead of showing a token")]
    Token,
    /// It was proposed too long ago.
    #[error("the proposal is void by now: propose it again")]
    Void,
}

/// Whether somebody may approve at `now` what `proposer` proposed at `proposed_at`.
pub fn may_approve(
    proposer: &str,
    proposed_at: Timestamp,
    person: Person<'_>,
    now: Timestamp,
) -> Result<(), MayNotApprove> {
    if person.role < Role::Administrator {
        return Err(MayNotApprove::Role);
    }
    if !person.in_person {
        return Err(MayNotApprove::Token);
    }
    if person.account == proposer {
        return Err(MayNotApprove::Proposer);
    }
    if now.seconds_since(proposed_at) > GOOD_FOR_SECONDS {
        return Err(MayNotApprove::Void);
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_second_administrator_in_person_approves_while_it_is_fresh() {
        let person = |account, role, in_person| Person { account, role, in_person };
        let at = |seconds: i64| Timestamp(seconds * 1_000_000);
        let decide = |person, now| may_approve("mate", at(0), person, now);
        assert_eq!(decide(person("pilot", Role::Administrator, true), at(3600)), Ok(()));
        assert_eq!(decide(person("pilot", Role::Administrator, true), at(3601)), Err(MayNotApprove::Void));
        assert_eq!(decide(person("mate", Role::Administrator, true), at(1)), Err(MayNotApprove::Proposer));
        assert_eq!(decide(person("pilot", Role::Administrator, false), at(1)), Err(MayNotApprove::Token));
        assert_eq!(decide(person("pilot", Role::Tuner, true), at(1)), Err(MayNotApprove::Role));
    }

    #[test]
    fn an_action_says_what_is_lost() {
        let session = SessionMeant {
            process: 7,
            started_at: Timestamp(0),
            account: "skerry_supervisor".into(),
            program: "gate desk".into(),
        };
        let told = Action::EndSession(session).told();
        assert!(
            told.contains("skerry_supervisor (gate desk, process 7)") && told.contains("cannot be undone"),
            "{told}"
        );
        assert_eq!(Action::LiftSecondPerson.kind(), "lift_second_person");
    }
}
