//! How often something is read, how long it is kept, and in which detail it answers.
//!
//! Not here: tables and statements, which are the store's.

/// Which level of detail answers a window of time.
pub mod detail;
/// How often to read a watched server.
pub mod pace;
/// How long figures are kept.
pub mod retention;
