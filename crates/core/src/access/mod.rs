//! Who may do what, and how secrets are guarded.
//!
//! Not here: passwords and ciphers themselves.

/// What came of something that the audit trail tells.
pub mod audit_outcome;
/// How long somebody must wait who gave wrong passwords.
pub mod guessing;
/// What somebody has chosen for the pages.
pub mod preferences;
/// What somebody with an account may do.
pub mod role;
/// When a stored password may be sent without being given anew.
pub mod stored_secret;
/// How a connection to a watched server is encrypted.
pub mod tls_mode;
