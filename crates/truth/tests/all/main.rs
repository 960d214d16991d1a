//! The rules of core, judged on series that they were not tuned to.

mod lasting_changes;
