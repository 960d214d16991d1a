//! Who must agree to what is put in force.
//!
//! While the rule of the second person is on, whatever is put in force is proposed by one administrator and
//! approved by another, and lifting the rule is itself such an action. A program with a token is no person.

use crate::access::role::Role;
use crate::time::Timestamp;

/// A proposal that nobody has decided on is void after so many seconds: what it is about may have changed.
pub const GOOD_FOR_SECONDS: f64 = 3600.0;

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
}
