//! The rules of the job, and the words the whole program speaks in.
//!
//! Values in, values out: nothing here runs in the background, reads a server or a disk, tells the
//! time or draws lots. Where a rule resamples, its seed is an argument. Who does those things:
//!
//! * `hurnix-source` turns a watched server's views into the types of this crate,
//! * `hurnix-store` keeps them,
//! * `hurnix-server` calls the rules and shows what they answer.
//!
//! One rule, one file; the numbers are those of the project's list of computations.

/// Rule 5, first part: who waits behind whom.
pub mod blocking;
/// Rule 1: differences of cumulative counters.
pub mod difference;
/// Rule 11: the measured effect of a change.
pub mod effect;
/// Rule 6: statement families.
pub mod family;
/// Rule 19, first part: how an instance is.
pub mod health;
/// Rule 4: lasting changes.
pub mod lasting_change;
/// Rule 2: load by wait kind.
pub mod load;

/// What is put in force, and who must agree to it.
pub mod action;
/// What a sampled session is doing, and the sample.
pub mod activity;
/// What somebody should change, what that is predicted to bring, and what came of it.
pub mod advice;
/// Tables, columns and indexes as the server's catalog describes them.
pub mod catalog;
/// How collection of an instance stands.
pub mod collection_state;
/// The cumulative figures a server keeps, by kind of object.
pub mod counters;
/// Readings of counters, kind by kind.
pub mod counters_read;
/// Which level of detail answers a window of time.
pub mod detail;
/// What the figures of an instance come from.
pub mod engine;
/// Kinds of figures that are read from a server.
pub mod figures;
/// What to look at first on an instance that nobody knows.
pub mod first_look;
/// Rule 18: when something that grows reaches its end.
pub mod forecast;
/// How long somebody must wait who gave wrong passwords.
pub mod guessing;
/// Since when an index has been watched, and since when nobody has read it.
pub mod index_watch;
/// How an instance is to be treated.
pub mod instance_settings;
/// What a server holds besides tables and indexes.
pub mod inventory;
/// When a server may be worked on.
pub mod maintenance_window;
/// Things that happened at a time.
pub mod marker;
/// How fast single figures are counted up.
pub mod measure_rates;
/// Single figures that are followed over time.
pub mod metric;
/// Closed sets whose members have names.
pub mod named;
/// How often to read a watched server.
pub mod pace;
/// Rule 10, first part: the identity of plans.
pub mod plan;
/// What to run against something that was found.
pub mod remedy;
/// How long figures are kept.
pub mod retention;
/// Robust statistics used by several rules.
pub mod robust;
/// What somebody with an account may do.
pub mod role;
/// Indexes that say the same.
pub mod same_indexes;
/// What a server writes to its log.
pub mod server_log;
/// What a server tells statements apart by.
pub mod statement;
/// When a stored password may be sent without being given anew.
pub mod stored_secret;
/// Points and windows of time.
pub mod time;
/// How a connection to a watched server is encrypted.
pub mod tls_mode;
/// What a busy session spends its time on.
pub mod wait_kind;
/// Figures in words.
pub mod wording;

pub use named::Named;
pub use time::{Timestamp, Window};
pub use wait_kind::WaitKind;
