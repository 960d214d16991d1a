//! The main journeys in a real browser.
#![allow(clippy::unwrap_used, reason = "a test that unwraps fails where it should")]

mod accessible;
mod accounts;
mod advice;
mod connecting;
mod diagnosing;
mod first_look;
mod frame;
mod stories;
