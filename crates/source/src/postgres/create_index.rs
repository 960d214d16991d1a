use hurnix_core::missing_index::MissingIndex;

use super::quote::quote;

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

/// Longest name that PostgreSQL keeps.
const LONGEST_NAME: usize = 63;

/// The statement that makes a missing index, with what must be decided left open.
pub fn create_index(missing: &MissingIndex) -> Vec<Piece> {
    let columns: Vec<String> = missing.columns.iter().map(|key| quote(&key.name)).collect();
    let names: Vec<&str> = missing.columns.iter().map(|key| key.name.as_str()).collect();
    let mut suggestion = format!("{}_{}", missing.table, names.join("_"));
    suggestion.truncate(suggestion.floor_char_boundary(LONGEST_NAME));
    vec![
        Piece::Text("CREATE INDEX ".into()),
        Piece::Choice {
            name: "while it is built",
            question: "May writes to the table wait while the index is built?",
            ways: vec![
                (
                    "CONCURRENTLY ",
                    "No: let them go on",
                    "Takes two to three times as long, waits for open transactions, cannot run inside a transaction, and leaves an invalid index behind when it fails: drop that one and try again.",
                ),
                (
                    "",
                    "Yes: they may wait",
                    "Builds fastest. Every insert, update and delete on the table waits until it is done; reads go on. For a maintenance window.",
                ),
            ],
        },
        Piece::Name { name: "name", question: "What is the index to be called?", suggestion },
        Piece::Text(format!(
            "\n    ON {}.{} USING btree ({});",
            quote(&missing.schema),
            quote(&missing.table),
            columns.join(", ")
        )),
    ]
}
