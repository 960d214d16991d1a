//! Figures over time, and what was found in them.
//!
//! Not here: what to do about it.

pub(crate) mod change_answers;
pub(crate) mod courses;
pub(crate) mod databases;
pub(crate) mod deadlocks;
pub(crate) mod executions;
pub(crate) mod family;
pub(crate) mod first_look;
pub(crate) mod held_locks;
pub(crate) mod hold_ups;
pub(crate) mod kept_reports;
pub(crate) mod literal_floods;
pub(crate) mod load;
pub(crate) mod log;
pub(crate) mod metrics;
pub(crate) mod moved;
pub(crate) mod nested_statements;
pub(crate) mod plans;
pub(crate) mod replication;
pub(crate) mod report_schedules;
pub(crate) mod reports;
pub(crate) mod statements;
pub(crate) mod then_and_now;
pub(crate) mod usual_ranges;
pub(crate) mod wait_lengths;
