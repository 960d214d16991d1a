use serde::{Deserialize, Serialize};

/// How a connection to a watched server is encrypted, the weakest first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum TlsMode {
    /// Never.
    Off,
    /// When the server offers it; the certificate is not checked.
    Prefer,
    /// Always; the certificate is not checked.
    Require,
    /// Always; certificate and host name are checked.
    Verify,
}

impl TlsMode {
    /// All modes.
    pub const ALL: [TlsMode; 4] = [TlsMode::Off, TlsMode::Prefer, TlsMode::Require, TlsMode::Verify];

    /// The mode of this name.
    pub fn named(name: &str) -> Option<TlsMode> {
        TlsMode::ALL.into_iter().find(|mode| mode.name() == name)
    }

    /// The mode's name in the repository and the API.
    pub fn name(self) -> &'static str {
        match self {
            TlsMode::Off => "off",
            TlsMode::Prefer => "prefer",
            TlsMode::Require => "require",
            TlsMode::Verify => "verify",
        }
    }
}
