//! What statements ask of their tables, and what that costs with these indexes or with others.
//!
//! A statement is read into its [`Shape`]; [`cost`] holds a set of indexes against it, by the planner's published
//! formulas; [`candidates`] names the indexes that could serve it.

/// Indexes that could serve a statement.
pub mod candidates;
/// Which indexes to make for a workload.
pub mod choice;
/// What a statement costs with a set of indexes.
pub mod cost;
/// Indexes, there or not.
pub mod index_form;
mod parse;
/// Our costs held against the planner's.
pub mod planner_check;
mod scope;
/// Which share of rows meets what is asked for.
pub mod selectivity;
/// What a statement asks of its tables.
pub mod shape;
/// How statements use one table.
pub mod table_use;

pub use parse::{Unreadable, shape};
pub use shape::Shape;
