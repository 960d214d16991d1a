//! The rules of core, judged on series that they were not tuned to.

mod effects;
mod index_trials;
mod lasting_changes;
mod normal_ranges;
