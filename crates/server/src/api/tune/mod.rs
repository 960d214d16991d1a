//! Advice, the review of indexes, and one table in full.
//!
//! Not here: what is put in force, which goes through actions.

pub(crate) mod advice;
pub(crate) mod cost_model;
pub(crate) mod index_review;
pub(crate) mod not_understood;
pub(crate) mod one_table;
