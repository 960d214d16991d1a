//! Accounts, sessions, credentials, what was put in force and the audit trail.
//!
//! Not here: who may do what, which is core's.

pub(crate) mod account;
pub(crate) mod accounts;
pub(crate) mod actions;
pub(crate) mod audit;
pub(crate) mod credentials;
pub(crate) mod session;
