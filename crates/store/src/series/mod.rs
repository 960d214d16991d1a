//! Figures over time: written, kept, summed up, read in the detail that a window asks for, and dropped with their days.
//!
//! Not here: the newest state of something, which belongs to its instance.

pub(crate) mod activity;
pub(crate) mod backfill;
pub(crate) mod backfill_sums;
pub(crate) mod checkpoints;
pub(crate) mod copy;
pub(crate) mod databases;
pub(crate) mod earlier_form;
pub(crate) mod executions;
pub(crate) mod figures;
pub(crate) mod hold_ups;
pub(crate) mod kept;
pub(crate) mod last_seen;
pub(crate) mod lock_looks;
pub(crate) mod lock_waits;
pub(crate) mod measures;
pub(crate) mod names;
pub(crate) mod newest_look;
pub(crate) mod object_sums;
pub(crate) mod observed;
pub(crate) mod partitions;
pub(crate) mod periods;
pub(crate) mod pieces;
pub(crate) mod roll_up;
pub(crate) mod sent_lists;
pub(crate) mod server_log;
pub(crate) mod statement_list;
pub(crate) mod statement_sums;
pub(crate) mod statements;
pub(crate) mod tallies;
pub(crate) mod wait_lengths;
