//! Needs D2 and C1: who follows whom, how far behind, and whether a replica could be promoted now.

mod behind;
mod chain;
mod part;
mod promotion;

pub use behind::{Behind, behind};
pub use chain::{Place, Server, chain};
pub use part::{ReplicationPart, part};
pub use promotion::{Promotion, promotion};

use crate::readings::replication::Replication;

/// A server under care, with how it stands.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Member<'a> {
    /// Its address, as it is registered.
    pub host: &'a str,
    /// Its port.
    pub port: u16,
    /// How it stands.
    pub replication: &'a Replication,
}
