use serde::{Deserialize, Serialize};

use crate::time::Timestamp;

/// What a server holds besides tables and indexes: databases, tablespaces, accounts, who may sign in from
/// where, and files.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct Inventory {
    /// When it was read, by the watched server's clock.
    pub at: Timestamp,
    /// Number that a server shares with its replicas; nothing where it does not tell.
    #[serde(default)]
    pub system_identifier: Option<String>,
    /// Databases, templates included.
    pub databases: Vec<Database>,
    /// Tablespaces.
    pub tablespaces: Vec<Tablespace>,
    /// Accounts, those that the server brings along included.
    pub accounts: Vec<Account>,
    /// Who may sign in from where, in the order in which the server looks; nothing where it may not be read.
    pub access_rules: Option<Vec<AccessRule>>,
    /// Settings for a database, an account, or an account in a database.
    pub own_settings: Vec<OwnSetting>,
    /// What the connected database holds.
    pub contents: Contents,
    /// Files of the write-ahead log; nothing where it may not be read.
    pub log_files: Option<Files>,
    /// Temporary files; nothing where it may not be read.
    pub temp_files: Option<Files>,
}

/// One database.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Database {
    /// The server's number of it.
    pub oid: u32,
    /// Its name.
    pub name: String,
    /// Account that owns it.
    pub owner: String,
    /// How it encodes text.
    pub encoding: String,
    /// How it sorts text.
    pub collation: String,
    /// How it tells letters from other signs.
    pub character_type: String,
    /// Where its tables lie unless told otherwise.
    pub tablespace: String,
    /// Connections that it allows; nothing where it sets no limit.
    pub connection_limit: Option<i32>,
    /// Whether anybody may connect to it.
    pub allows_connections: bool,
    /// Whether databases are copied from it.
    pub is_template: bool,
    /// When its counters were last reset; nothing when never.
    pub counters_reset_at: Option<Timestamp>,
}

/// One tablespace.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tablespace {
    /// Its name.
    pub name: String,
    /// Account that owns it.
    pub owner: String,
    /// Folder that it lies in; empty for the server's own.
    pub location: String,
}

/// One account.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Account {
    /// Its name.
    pub name: String,
    /// Whether it may sign in; it stands for a group otherwise.
    pub may_sign_in: bool,
    /// Whether no right is asked of it.
    pub is_superuser: bool,
    /// Whether it may make accounts.
    pub may_make_accounts: bool,
    /// Whether it may make databases.
    pub may_make_databases: bool,
    /// Whether it may read the write-ahead log as a replica does.
    pub may_replicate: bool,
    /// Whether the server brings it along.
    pub is_internal: bool,
    /// Connections that it may have; nothing where there is no limit.
    pub connection_limit: Option<i32>,
    /// When its password ends to be good.
    pub password_until: Option<Timestamp>,
    /// How its password is kept; nothing where that may not be read.
    pub password: Option<PasswordKept>,
}

/// How a server keeps the password of an account.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum PasswordKept {
    /// There is none.
    Absent,
    /// By MD5, which is quick to guess.
    Md5,
    /// By SCRAM-SHA-256, or anything newer.
    Scram,
}

/// A rule of who may sign in from where.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct AccessRule {
    /// Line of the file that it stands on.
    pub line: i32,
    /// Sort of connection: `local`, `host`, `hostssl`, `hostnossl` …
    pub connection: String,
    /// Databases that it is about, or words that stand for several, such as `all`.
    pub databases: Vec<String>,
    /// Accounts that it is about, likewise.
    pub accounts: Vec<String>,
    /// Addresses that it is about; nothing for connections on the machine itself.
    pub address: Option<String>,
    /// How somebody proves who they are, such as `scram-sha-256`.
    pub method: String,
}

impl AccessRule {
    /// Whether it lets in connections from other machines.
    pub fn is_remote(&self) -> bool {
        let loopback =
            |address: &str| address.starts_with("127.") || ["::1", "localhost", "samehost"].contains(&address);
        self.connection != "local" && self.address.as_deref().is_some_and(|address| !loopback(address))
    }
}

/// A setting for one database, one account, or one account in one database.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct OwnSetting {
    /// The database; nothing for all.
    pub database: Option<String>,
    /// The account; nothing for all.
    pub account: Option<String>,
    /// Name of the setting.
    pub name: String,
    /// Its value there.
    pub value: String,
}

/// How much of what the connected database holds, without what the server brings along.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Contents {
    /// Schemas.
    pub schemas: i64,
    /// Views, plain and kept ones.
    pub views: i64,
    /// Functions and procedures.
    pub functions: i64,
    /// Sequences.
    pub sequences: i64,
    /// Triggers.
    pub triggers: i64,
    /// Tables and indexes that have files of their own, all of the database's.
    pub files: i64,
}

/// Files of one sort.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Files {
    /// How many.
    pub count: i64,
    /// Their size together.
    pub bytes: i64,
}

impl Inventory {
    /// The database of that name.
    pub fn database(&self, name: &str) -> Option<&Database> {
        self.databases.iter().find(|database| database.name == name)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rule_is_remote_when_other_machines_may_use_it() {
        let rule = |connection: &str, address: Option<&str>| AccessRule {
            line: 1,
            connection: connection.into(),
            databases: vec!["all".into()],
            accounts: vec!["all".into()],
            address: address.map(str::to_owned),
            method: "trust".into(),
        };
        assert!(rule("host", Some("all")).is_remote() && rule("hostssl", Some("10.1.0.0")).is_remote());
        for (connection, address) in
            [("local", None), ("host", Some("127.0.0.1")), ("host", Some("::1")), ("host", Some("samehost"))]
        {
            assert!(!rule(connection, address).is_remote(), "{connection} {address:?}");
        }
    }
}
