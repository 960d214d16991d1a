use serde::{Deserialize, Serialize};

use crate::readings::family::block_comment_end;

/// What a server tells statements apart by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct StatementKey {
    /// The server's number of the database.
    pub database_oid: u32,
    /// The server's number of the account.
    pub account_oid: u32,
    /// The server's number of the statement, the same for statements that differ in literals only.
    pub query_id: i64,
    /// Whether a client sent it, as opposed to a function that ran it.
    pub top_level: bool,
}

/// What a server tells apart statements by that functions and procedures ran.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
pub struct NestedKey {
    /// The server's number of the database.
    pub database_oid: u32,
    /// The server's number of the account.
    pub account_oid: u32,
    /// The server's number of the statement.
    pub query_id: i64,
}

impl From<NestedKey> for StatementKey {
    fn from(NestedKey { database_oid, account_oid, query_id }: NestedKey) -> StatementKey {
        StatementKey { database_oid, account_oid, query_id, top_level: false }
    }
}

/// Whether a statement names something anywhere, as a word.
pub fn has_word(statement: &str, name: &str) -> bool {
    let is_part = |c: char| c.is_alphanumeric() || c == '_';
    statement.split(|c: char| !is_part(c)).any(|word| word.eq_ignore_ascii_case(name))
}

/// Whether the server plans statements of this sort. Those it keeps without their literals, as long as it has them in
/// its list when they end; all others, such as `ALTER ROLE … PASSWORD …`, it keeps as they were sent. Comments and
/// brackets before the first word do not matter.
pub fn is_planned(text: &str) -> bool {
    let verb = from_first_word(text).split(|sign: char| !sign.is_ascii_alphabetic()).next().unwrap_or_default();
    ["select", "insert", "update", "delete", "with", "values", "merge"].contains(&verb.to_lowercase().as_str())
}

/// The text from its first word on, behind comments and opening brackets.
pub fn from_first_word(text: &str) -> &str {
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches(|sign: char| sign.is_whitespace() || sign == '(');
        if rest.starts_with("--") {
            rest = rest.split_once('\n').map_or("", |(_, rest)| rest);
        } else if rest.starts_with("/*") {
            rest = &rest[block_comment_end(rest.as_bytes(), 0)..];
        } else {
            return rest;
        }
    }
}

/// The words that go with a statement's number.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct StatementText {
    /// The statement.
    pub key: StatementKey,
    /// Its text, with parameters in place of literals where the server does so.
    pub text: String,
    /// Name of the account.
    pub account: String,
    /// Name of the database.
    pub database: String,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_table_is_named_as_a_word_only() {
        assert!(has_word("update \"Passage_leg\" set x = ?", "passage_leg"));
        assert!(has_word("select ? from public.passage_leg", "passage_leg"));
        assert!(!has_word("select ? from passage_leg_old", "passage_leg"));
    }

    #[test]
    fn what_is_planned_is_told_by_its_verb() {
        assert!(
            is_planned("  WITH late AS (SELECT 1) SELECT * FROM late") && is_planned("update deck set metres = $1")
        );
        assert!(
            is_planned("/* svc=web /* nested */ */ SELECT 1")
                && is_planned("-- gate\n  ( (SELECT 1) UNION SELECT 2)")
                && is_planned("/**/values (1)")
        );
        for not_planned in ["/* select */ DROP TABLE deck", "-- select", "/* select", "(", "/* x */"] {
            assert!(!is_planned(not_planned), "{not_planned}");
        }
        assert!(
            !is_planned("ALTER ROLE crew PASSWORD 'x'") && !is_planned("CALL settle_dues('SK1')") && !is_planned("")
        );
    }
}
