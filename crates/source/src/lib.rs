//! Reads a watched server into the types of `hurnix-core`, and does nothing else.
//!
//! One folder for each engine. What to do with the figures, and when to read them, others decide.

/// PostgreSQL 13 and later, through its statistics views.
pub mod postgres;
