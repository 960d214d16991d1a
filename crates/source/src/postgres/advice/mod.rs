//! The statement that does what was advised, with what must be decided left open. Each kind of advice has its file.

mod create_index;
mod drop_index;
mod rebuild_index;

use hurnix_core::changes::advice::Advice;
use hurnix_core::changes::remedy::Qualified;
use hurnix_core::findings::index_review::IndexChange;

/// A piece of a statement to be run by somebody who has thought about it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Piece {
    /// Text as it is.
    Text(String),
    /// One of several ways, each with what follows from it.
    Choice {
        /// Name of the decision.
        name: &'static str,
        /// The question.
        question: &'static str,
        /// (text put in, label, what follows)
        ways: Vec<(&'static str, &'static str, &'static str)>,
    },
    /// A name to be typed.
    Name {
        /// Name of the decision.
        name: &'static str,
        /// The question.
        question: &'static str,
        /// A name to start from.
        suggestion: String,
    },
}

/// The statement for a piece of advice.
pub fn statement_to_run(advice: &Advice) -> Vec<Piece> {
    match advice {
        Advice::MissingIndex(missing) => create_index::missing_index(missing),
        Advice::UnusedIndex(unused) => drop_index::drop_index(&Qualified::new(&unused.schema, &unused.index)),
    }
}

/// The statement that does what a review of indexes found.
pub fn index_statement(change: &IndexChange) -> Vec<Piece> {
    match change {
        IndexChange::Drop(index) => drop_index::drop_index(index),
        IndexChange::Rebuild(index) => rebuild_index::rebuild_index(index),
        IndexChange::Refill(index) => rebuild_index::refill_index(index),
        IndexChange::Create { table, columns } => {
            let columns: Vec<&str> = columns.iter().map(String::as_str).collect();
            create_index::create_index(table, &columns)
        }
    }
}
