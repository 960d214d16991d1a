use serde::{Deserialize, Serialize};
use strum::{EnumString, IntoStaticStr, VariantArray};

/// How a connection to a watched server is encrypted, the weakest first.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize, IntoStaticStr, EnumString, VariantArray,
)]
#[serde(rename_all = "snake_case")]
#[strum(serialize_all = "snake_case")]
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
