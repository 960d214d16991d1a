use hurnix_core::changes::remedy::Qualified;

use super::super::remedy::qualified;
use super::Piece;

/// The statement that drops an index. Its definition comes first: whoever misses it makes it anew.
pub(super) fn drop_index(index: &Qualified) -> Vec<Piece> {
    let name = qualified(index);
    let text = name.replace('\'', "''");
    vec![
        Piece::Text(format!(
            "-- Keep its definition, to make it anew if somebody misses it:\nSELECT pg_get_indexdef('{text}'::regclass);\n\nDROP INDEX "
        )),
        Piece::Choice {
            name: "while it is dropped",
            question: "May reads and writes of the table wait while the index is dropped?",
            ways: vec![
                (
                    "CONCURRENTLY ",
                    "No: let them go on",
                    "Waits for every transaction that may still use it, and cannot run inside a transaction.",
                ),
                (
                    "",
                    "Yes: they may wait",
                    "Is done at once when it gets its lock. While it waits for that, everything on the table waits behind it.",
                ),
            ],
        },
        Piece::Text(format!("{name};")),
    ]
}
