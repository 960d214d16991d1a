use std::fmt;

use hurnix_core::access::tls_mode::TlsMode;

/// Where a server is and as whom to sign in.
#[derive(Clone)]
pub struct Address {
    /// Host name or address.
    pub host: String,
    /// Port.
    pub port: u16,
    /// Database to connect to; tables and indexes are read there.
    pub database: String,
    /// Account.
    pub account: String,
    /// Its password; empty for none.
    pub password: String,
    /// How to encrypt the connection.
    pub tls: TlsMode,
    /// Certificates, in PEM form, that the server's is checked against besides those that this machine trusts.
    pub tls_ca: Option<String>,
    /// Whether the password may be given in clear text or as MD5 to a server that has not proved who it is.
    pub allows_plain_password: bool,
}

impl fmt::Debug for Address {
    /// Everything but the password.
    fn fmt(&self, formatter: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(formatter, "{}@{}:{}/{} ({:?})", self.account, self.host, self.port, self.database, self.tls)
    }
}
