//! When a stored password may be sent without being given anew. Whoever changes a connection need not know its
//! password, so it must not go to another place, nor less protected, than whoever gave it meant.

use crate::access::tls_mode::TlsMode;

/// Where a password is sent, and what protects it on the way.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Way<'a> {
    /// Host name or address.
    pub host: &'a str,
    /// Port.
    pub port: u16,
    /// How the connection is encrypted.
    pub tls: TlsMode,
    /// Signers of certificates that are trusted besides those of the machine.
    pub signers: Option<&'a str>,
    /// Whether it may be sent in clear text or as MD5 to a server that has not proved who it is.
    pub allows_plain_password: bool,
}

/// The first input whose change asks for the password anew, by its name; nothing where the stored one may be used.
pub fn asks_anew(stored_for: Way<'_>, wanted: Way<'_>) -> Option<&'static str> {
    let checks_by_others =
        wanted.tls == TlsMode::Verify && wanted.signers.is_some() && wanted.signers != stored_for.signers;
    if wanted.host != stored_for.host {
        Some("host")
    } else if wanted.port != stored_for.port {
        Some("port")
    } else if wanted.tls < stored_for.tls {
        Some("tls")
    } else if checks_by_others && stored_for.tls == TlsMode::Verify {
        Some("tls_ca")
    } else if wanted.allows_plain_password && !stored_for.allows_plain_password {
        Some("allows_plain_password")
    } else {
        None
    }
}

/// Whether a credential that is bound to these hosts may be sent to a host; one bound to none goes anywhere.
pub fn may_go_to(bound_to: &[String], host: &str) -> bool {
    bound_to.is_empty() || bound_to.iter().any(|bound| bound.eq_ignore_ascii_case(host))
}

/// Whether a credential may go to more hosts than before, which asks for its password anew.
pub fn is_widened(bound_to: &[String], wanted: &[String]) -> bool {
    !bound_to.is_empty() && (wanted.is_empty() || wanted.iter().any(|host| !may_go_to(bound_to, host)))
}

#[cfg(test)]
mod tests {
    use super::*;

    const STORED: Way<'static> =
        Way { host: "quay", port: 5432, tls: TlsMode::Require, signers: None, allows_plain_password: false };

    #[test]
    fn another_place_or_less_protection_asks_for_the_password() {
        for (wanted, asked) in [
            (STORED, None),
            (Way { host: "wreck", ..STORED }, Some("host")),
            (Way { port: 5433, ..STORED }, Some("port")),
            (Way { tls: TlsMode::Off, ..STORED }, Some("tls")),
            (Way { tls: TlsMode::Prefer, ..STORED }, Some("tls")),
            (Way { tls: TlsMode::Verify, signers: Some("own"), ..STORED }, None),
            (Way { allows_plain_password: true, ..STORED }, Some("allows_plain_password")),
        ] {
            assert_eq!(asks_anew(STORED, wanted), asked, "{wanted:?}");
        }
        let verified = Way { tls: TlsMode::Verify, signers: Some("own"), ..STORED };
        assert_eq!(asks_anew(verified, Way { signers: Some("another's"), ..verified }), Some("tls_ca"));
        assert_eq!(asks_anew(verified, Way { signers: None, ..verified }), None, "fewer are trusted");
        assert_eq!(asks_anew(Way { allows_plain_password: true, ..STORED }, STORED), None);
    }

    #[test]
    fn a_credential_goes_where_it_is_bound_and_wider_only_with_its_password() {
        let hosts = |names: &[&str]| names.iter().map(|name| (*name).to_owned()).collect::<Vec<_>>();
        assert!(may_go_to(&[], "anywhere"));
        assert!(may_go_to(&hosts(&["quay"]), "Quay") && !may_go_to(&hosts(&["quay"]), "wreck"));
        assert!(!is_widened(&[], &hosts(&["quay"])), "narrower than anywhere");
        assert!(!is_widened(&hosts(&["quay", "pier"]), &hosts(&["pier"])));
        assert!(is_widened(&hosts(&["quay"]), &hosts(&["quay", "wreck"])));
        assert!(is_widened(&hosts(&["quay"]), &[]));
    }
}
