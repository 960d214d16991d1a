//! Rule 5: hold-ups. A session keeps a lock that others want, and they stand behind it.
//!
//! One look at the sessions tells who stands behind whom ([`tree`]). Looks in order of time make episodes
//! ([`episode`]), each of one holder, with every wait behind it and the time that it cost.

mod episode;
mod lengths;
mod look;
mod lost;
mod over;
mod repair;
mod stands_for;
mod tree;

pub use episode::{BRIEF_SECONDS, Episode, Episodes, Wait};
pub use lengths::{Lengths, add_length, lengths};
pub use look::{Look, Party, SessionKey, Who};
pub use lost::{Lost, lost_by};
pub use over::{Over, over_since};
pub use repair::{HolderWork, Pattern, Repair, deletes_from, repairs};
pub use stands_for::stands_for;
pub use tree::{Place, Tree};
