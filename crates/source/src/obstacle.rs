use serde::{Deserialize, Serialize};

/// What stands in the way of a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Obstacle {
    /// The host's name is not known.
    UnknownHost,
    /// Nothing listens there.
    PortClosed,
    /// No answer in time.
    TimedOut,
    /// The password is wrong, or the account does not exist: servers do not tell which.
    WrongPassword,
    /// The server's access rules do not let this host or account in.
    HostNotPermitted,
    /// There is no such database.
    NoSuchDatabase,
    /// The server does not offer encryption, or its certificate is not good.
    Tls,
    /// All connections are taken.
    TooManyConnections,
    /// The server is starting, stopping or recovering.
    NotReady,
    /// What answers is not PostgreSQL 13 or later.
    NotSupported,
    /// The server asks for the password in clear text or as MD5, and nothing proves that it is the right server.
    PasswordInClear,
    /// The server sent more than any reading may hold.
    Oversized,
    /// The account may not read the statistics of others.
    PrivilegeMissing,
    /// Anything else.
    Other,
}

/// What stands in the way, in the words to show, and what removes it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, thiserror::Error)]
#[error("{message}")]
pub struct ConnectProblem {
    /// What stands in the way.
    pub obstacle: Obstacle,
    /// One sentence that says so.
    pub message: String,
    /// What removes it: a sentence, or statements for the server's administrator.
    pub remedy: String,
}

/// A problem of connecting, with its remedy.
pub(crate) fn problem(obstacle: Obstacle, message: impl Into<String>, remedy: impl Into<String>) -> ConnectProblem {
    ConnectProblem { obstacle, message: message.into(), remedy: remedy.into() }
}
