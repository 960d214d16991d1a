//! The program as it is run: its API over HTTP, with a real repository and real watched servers.
#![allow(clippy::unwrap_used, reason = "a test that unwraps fails where it should")]

mod access;
mod accounts;
mod actions;
mod alarms;
mod api;
mod availability;
mod bundle;
mod collection;
mod command;
mod common;
mod contract;
mod databases;
mod effects;
mod failover;
mod faults;
mod first_look;
mod fuzz;
mod hold_ups;
mod index_review;
mod kept_reports;
mod lists;
mod maintenance_windows;
mod one_table;
mod plans;
mod reports;
mod resources;
mod search;
mod security;
mod served;
mod server_log;
mod simulated;
mod statements;
mod stories;
mod thresholds;
mod ways_in;
