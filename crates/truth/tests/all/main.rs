//! The rules of core, judged on series that they were not tuned to.

mod effects;
mod lasting_changes;
mod normal_ranges;
