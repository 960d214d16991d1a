//! The made-up server and the stories, against what they are known to hold.
#![allow(clippy::unwrap_used, reason = "a test that unwraps fails where it should")]

mod stories;
mod truth;
