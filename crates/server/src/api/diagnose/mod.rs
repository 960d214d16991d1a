//! Figures over time, and what was found in them.
//!
//! Not here: what to do about it.

pub(crate) mod change_answers;
pub(crate) mod databases;
pub(crate) mod first_look;
pub(crate) mod hold_ups;
pub(crate) mod load;
pub(crate) mod log;
pub(crate) mod metrics;
pub(crate) mod statements;
pub(crate) mod usual_ranges;
