//! Skerry Line: a made-up ferry company whose passage database is the live server of the demo.
//!
//! Its schema and rows, the traffic on it, and the stories that can be played. What happens on that
//! server is real: real statements, real locks, real waits. Its other servers are simulated: their models,
//! what happened on them in three weeks, and the file of what is true of that.

mod enquiries;
mod meter;
mod passage;
mod skerry;
mod stage;
mod story;
mod traffic;

pub use meter::serve_meter;
pub use passage::{INDEX_THAT_HELPS, WATCH_ACCOUNT, load_passage, passage_settings, set_watch_password};
pub use skerry::{HISTORY_DAYS, KnownStory, Told, Truth, fleet, midnight};
pub use stage::Stage;
pub use story::{Story, stories_of};
pub use traffic::{Pace, Traffic};
