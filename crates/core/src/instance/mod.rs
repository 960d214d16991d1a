//! What an instance is: where its figures come from, how it is to be treated, how collection stands, what happened to it.
//!
//! Not here: how it is reached.

/// How collection of an instance stands.
pub mod collection_state;
/// What the figures of an instance come from.
pub mod engine;
/// How an instance is to be treated.
pub mod instance_settings;
/// Things that happened at a time.
pub mod marker;
