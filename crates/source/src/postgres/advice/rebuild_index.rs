use hurnix_core::changes::remedy::Qualified;

use super::super::remedy::qualified;
use super::Piece;

/// The statement that builds an index anew, with what must be decided left open.
pub(super) fn rebuild_index(index: &Qualified) -> Vec<Piece> {
    vec![
        Piece::Text("REINDEX INDEX ".into()),
        Piece::Choice {
            name: "while it is built",
            question: "May writes to the table wait while the index is built anew?",
            ways: vec![
                (
                    "CONCURRENTLY ",
                    "No: let them go on",
                    "Builds a second one beside it, which needs its space meanwhile, waits for open transactions, and leaves an invalid index behind when it fails.",
                ),
                (
                    "",
                    "Yes: they may wait",
                    "Builds fastest. Writes to the table wait until it is done, and so do reads that use the index. For a maintenance window.",
                ),
            ],
        },
        Piece::Text(format!("{};", qualified(index))),
    ]
}

/// The same, after its pages are to be filled as usual.
pub(super) fn refill_index(index: &Qualified) -> Vec<Piece> {
    let set = format!("ALTER INDEX {} RESET (fillfactor);\n\n", qualified(index));
    let mut pieces = vec![Piece::Text(set)];
    pieces.extend(rebuild_index(index));
    pieces
}
