//! Instances: how they are reached and treated, what they tell, how they are collected, what happens on them just now.
//!
//! Not here: figures over time.

pub(crate) mod account_script;
pub(crate) mod alarm_course;
pub(crate) mod alarms;
pub(crate) mod availability;
pub(crate) mod collection;
pub(crate) mod connection;
pub(crate) mod discovery;
pub(crate) mod held_back;
pub(crate) mod instance_import;
pub(crate) mod instance_settings;
pub(crate) mod instances;
pub(crate) mod live;
pub(crate) mod maintenance_windows;
pub(crate) mod markers;
pub(crate) mod named_snapshots;
pub(crate) mod operations;
pub(crate) mod processes;
pub(crate) mod roster;
pub(crate) mod scrape;
pub(crate) mod search;
pub(crate) mod sessions;
pub(crate) mod threshold_trial;
pub(crate) mod thresholds;
