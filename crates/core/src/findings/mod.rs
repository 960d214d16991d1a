//! What is concluded from what was read: changes, troubles, effects, forecasts, and the statistics behind them.
//!
//! Not here: what to do about it.

/// Alarms: one trouble of one thing, from when it is seen until it is gone.
pub mod alarm;
/// Rule 4, cause: why a statement became slower or faster.
pub mod cause;
/// Rule 11: the measured effect of a change.
pub mod effect;
/// The figures of a server that are followed over time.
pub mod figure;
/// A figure of one object over time.
pub mod figure_series;
/// What to look at first on an instance that nobody knows.
pub mod first_look;
/// Rule 18: when something that grows reaches its end.
pub mod forecast;
/// Rule 19, first part: how an instance is.
pub mod health;
/// Rule 5: hold-ups, from their first holder to their last waiter.
pub mod hold_up;
/// A table's columns in use, and its indexes as paths over them.
pub mod index_map;
/// Rule 7: what can be said against each index.
pub mod index_review;
/// How large a B-tree is that is built anew.
pub mod index_size;
/// Since when an index has been watched, and since when nobody has read it.
pub mod index_watch;
/// Rule 4: lasting changes.
pub mod lasting_change;
/// Statements that differ in literals only, and fill the server's list.
pub mod literal_flood;
/// Where the planner first expected wrong numbers of rows.
pub mod misestimate;
/// Need C5: what moved in a span of time, furthest outside of its usual range first.
pub mod moved;
/// Rule 3: the usual range of a metric for the hour of the week.
pub mod normal_range;
/// What calls took while each plan was in use.
pub mod plan_cost;
/// Rule 10, second part: two plans as one tree.
pub mod plan_difference;
/// Which share of a plan each node takes.
pub mod plan_share;
/// Figures that are ratios of others.
pub mod ratio;
/// Who follows whom, how far behind, and whether a replica could be promoted.
pub mod replication;
/// What a server works with, and the figures that tell of each.
pub mod resource;
/// Robust statistics used by several rules.
pub mod robust;
/// Which instances stand out from the others of their group.
pub mod stands_out;
/// Rule 19, second part: two periods side by side.
pub mod then_and_now;
/// Thresholds: values that somebody sets for a figure.
pub mod threshold;
/// Need D7: how long work will take yet.
pub mod time_left;
/// How far the times of single executions lie apart.
pub mod time_spread;
/// Rule 7: tables that refer to another by columns without an index.
pub mod unindexed_reference;
/// Need D7: which tables the server's own vacuum takes next.
pub mod upkeep_queue;
/// Parts of a period between restarts and resets.
pub mod usable_parts;
/// Rule 2: how long sessions were seen waiting.
pub mod wait_lengths;
