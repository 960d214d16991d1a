//! Advice, and the review of indexes.
//!
//! Not here: what is put in force, which goes through actions.

pub(crate) mod advice;
pub(crate) mod index_review;
pub(crate) mod not_understood;
