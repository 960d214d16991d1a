//! Instances under care, who collects them, and the newest that is known of each: catalog, plans, markers, windows, thresholds, reports that are kept.
//!
//! Not here: figures over time.

pub(crate) mod catalog;
pub(crate) mod glance;
pub(crate) mod index_watch;
pub(crate) mod instances;
pub(crate) mod kept_reports;
pub(crate) mod leases;
pub(crate) mod logged_plans;
pub(crate) mod maintenance_windows;
pub(crate) mod markers;
pub(crate) mod named_snapshots;
pub(crate) mod own_state;
pub(crate) mod plans;
pub(crate) mod report_schedules;
pub(crate) mod search;
pub(crate) mod thresholds;
