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

pub mod access;
pub mod changes;
pub mod findings;
pub mod instance;
pub mod keeping;
pub mod readings;

/// Closed sets whose members have names.
pub mod named;
/// Points and windows of time.
pub mod time;
/// Figures in words.
pub mod wording;
/// What statements ask of their tables, and what that costs.
pub mod workload;

pub use named::Named;
pub use readings::wait_kind::WaitKind;
pub use time::{Timestamp, Window};
