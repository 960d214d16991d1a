//! What is read of servers, exporters and files.
#![allow(clippy::unwrap_used, reason = "a test that unwraps fails where it should")]

mod bundle;
mod changes;
mod common;
mod host;
mod hostile;
mod index_review;
mod inventory;
mod log;
mod obstacles;
mod postgres;
mod simulated;
mod versions;
