use std::sync::LazyLock;

use argon2::Argon2;
use argon2::password_hash::phc::PasswordHash;
use argon2::password_hash::{PasswordHasher, PasswordVerifier};

/// Argon2id hash of a password, with its parameters and salt.
pub fn hash(password: &str) -> String {
    let hash = Argon2::default().hash_password(password.as_bytes()).expect("default parameters are valid");
    hash.to_string()
}

/// Whether the password belongs to the hash. Without a hash, the same work is done and the answer is
/// no, so that time does not tell which accounts exist.
pub fn verify(password: &str, hash: Option<&str>) -> bool {
    static NOBODY: LazyLock<String> = LazyLock::new(|| self::hash("nobody has this password"));
    let known = hash.is_some();
    PasswordHash::new(hash.unwrap_or(&NOBODY))
        .is_ok_and(|parsed| Argon2::default().verify_password(password.as_bytes(), &parsed).is_ok())
        && known
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_the_right_password_for_a_known_account_is_accepted() {
        let hashed = hash("lantern");
        assert!(verify("lantern", Some(&hashed)));
        assert!(!verify("lanterns", Some(&hashed)));
        assert!(!verify("nobody has this password", None));
        assert!(!verify("lantern", Some("no hash")));
    }
}
