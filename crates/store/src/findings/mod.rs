//! What was concluded from figures: lasting changes, and the advice book.
//!
//! Not here: the rules, which are core's.

pub(crate) mod advice;
pub(crate) mod changes;
