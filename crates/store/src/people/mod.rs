//! Accounts, sessions and tokens, credentials, what was put in force and what was changed by whom.
//!
//! Not here: who may do what, which is core's.

pub(crate) mod accounts;
pub(crate) mod actions;
pub(crate) mod audit;
pub(crate) mod credentials;
pub(crate) mod sessions;
pub(crate) mod wrong_passwords;
