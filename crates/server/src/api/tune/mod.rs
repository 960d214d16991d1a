//! Advice.
//!
//! Not here: what is put in force, which goes through actions.

pub(crate) mod advice;
