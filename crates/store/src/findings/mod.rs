//! What was concluded from figures: alarms, lasting changes, usual ranges, and the advice book.
//!
//! Not here: the rules, which are core's.

pub(crate) mod advice;
pub(crate) mod alarms;
pub(crate) mod changes;
pub(crate) mod literal_floods;
pub(crate) mod usual_ranges;
