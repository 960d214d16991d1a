use serde::{Deserialize, Serialize};

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
