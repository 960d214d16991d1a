use hurnix_core::changes::remedy::Qualified;

use super::super::quote::quote;
use super::super::remedy::qualified;
use super::Piece;

/// Longest name that PostgreSQL keeps.
const LONGEST_NAME: usize = 63;

/// The statement that makes an index on columns of a table, with what must be decided left open.
pub(super) fn create_index(table: &Qualified, columns: &[&str]) -> Vec<Piece> {
    let keys: Vec<String> = columns.iter().map(|column| quote(column)).collect();
    let mut suggestion = format!("{}_{}", table.name, columns.join("_"));
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
        Piece::Text(format!("\n    ON {} USING btree ({});", qualified(table), keys.join(", "))),
    ]
}
