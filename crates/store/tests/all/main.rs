//! The repository on a real PostgreSQL.
#![allow(clippy::unwrap_used, reason = "a test that unwraps fails where it should")]

mod alarms;
mod evidence;
mod findings;
mod server_log;
mod store;
mod thresholds;
mod upgrade;
mod upkeep;
mod views;
