use hurnix_core::changes::advice::missing_index::{HeldRows, HeldValue, IndexMethod, KeyColumn, MissingIndex};
use hurnix_core::changes::remedy::Qualified;

use super::super::quote::quote;
use super::super::remedy::qualified;
use super::Piece;

/// Longest name that PostgreSQL keeps.
const LONGEST_NAME: usize = 63;

/// The statement that makes an index that is missing.
pub(super) fn missing_index(missing: &MissingIndex) -> Vec<Piece> {
    let keys: Vec<String> = missing.columns.iter().map(key).collect();
    let mut rest = String::new();
    if !missing.carried.is_empty() {
        let carried: Vec<String> = missing.carried.iter().map(|column| quote(column)).collect();
        rest.push_str(&format!("\n    INCLUDE ({})", carried.join(", ")));
    }
    if let Some(held) = &missing.holds {
        rest.push_str(&format!("\n    WHERE {}", condition(held)));
    }
    let method = match missing.method {
        IndexMethod::Btree => "btree",
        IndexMethod::Gin => "gin",
    };
    let names: Vec<String> = missing.columns.iter().map(|key| words(&key.name)).collect();
    let name = format!("{}_{}", missing.table, names.join("_"));
    statement(&Qualified::new(&missing.schema, &missing.table), &format!("{method} ({}){rest}", keys.join(", ")), name)
}

/// The statement that makes an index on columns of a table.
pub(super) fn create_index(table: &Qualified, columns: &[&str]) -> Vec<Piece> {
    let keys: Vec<String> = columns.iter().map(|column| quote(column)).collect();
    statement(table, &format!("btree ({})", keys.join(", ")), format!("{}_{}", table.name, columns.join("_")))
}

/// A key as it is written: an expression in brackets, the bytewise order of texts by its class.
fn key(key: &KeyColumn) -> String {
    let on = if key.is_expression { format!("({})", key.name) } else { quote(&key.name) };
    let class = if key.by_pattern { " text_pattern_ops" } else { "" };
    let order = if key.descending { " DESC" } else { "" };
    format!("{on}{class}{order}")
}

fn condition(held: &HeldRows) -> String {
    let column = quote(&held.column);
    match held.is {
        HeldValue::Null => format!("{column} IS NULL"),
        HeldValue::NotNull => format!("{column} IS NOT NULL"),
        HeldValue::True => column,
        HeldValue::False => format!("NOT {column}"),
    }
}

/// What of an expression can be part of a name.
fn words(expression: &str) -> String {
    let letters = expression.chars().map(|letter| if letter.is_alphanumeric() { letter } else { '_' });
    letters.collect::<String>().split('_').filter(|word| !word.is_empty()).collect::<Vec<_>>().join("_")
}

/// The statement that makes an index of these keys, with what must be decided left open.
fn statement(table: &Qualified, keys: &str, mut suggestion: String) -> Vec<Piece> {
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
        Piece::Text(format!("\n    ON {} USING {keys};", qualified(table))),
    ]
}
