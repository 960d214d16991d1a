//! What every handler stands on: who asks, what may be given, how it is refused, how it is recorded, and the shapes that answers share.
//!
//! Not here: any operation.

pub(crate) mod audit_note;
pub(crate) mod bounds;
pub(crate) mod client;
pub(crate) mod clock;
pub(crate) mod document;
pub(crate) mod examples;
pub(crate) mod extract;
pub(crate) mod figures;
pub(crate) mod find;
pub(crate) mod input;
pub(crate) mod problem;
pub(crate) mod recorder;
pub(crate) mod window;
pub(crate) mod word;
