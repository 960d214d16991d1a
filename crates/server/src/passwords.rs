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

/// Shortest and longest password, in characters.
const LETTERS: std::ops::RangeInclusive<usize> = 10..=200;

/// Why that cannot be the next password of an account of this name.
pub fn fault(new: &str, current: &str, name: &str) -> Option<String> {
    if !LETTERS.contains(&new.chars().count()) {
        return Some(format!(
            "Give one of {} to {} characters; several words make a good one.",
            LETTERS.start(),
            LETTERS.end()
        ));
    }
    if new == current {
        return Some("It is the one so far: give another.".into());
    }
    let (new, name) = (new.to_lowercase(), name.to_lowercase());
    if !name.is_empty() && new.replace(&name, "").chars().count() < LETTERS.start() / 2 {
        return Some("It is little more than the account's name: give one that cannot be guessed from it.".into());
    }
    let different: std::collections::HashSet<char> = new.chars().collect();
    if different.len() < LETTERS.start() / 2 {
        return Some("It repeats a few characters: give one with more different ones.".into());
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passwords_that_are_easily_guessed_are_told_why() {
        for (new, told) in [
            ("short", "10 to 200"),
            ("lantern-and-tide", "the one so far"),
            ("Harbourmaster1", "the account's name"),
            ("abababababab", "repeats"),
        ] {
            let remedy = fault(new, "lantern-and-tide", "harbourmaster").unwrap();
            assert!(remedy.contains(told), "{new}: {remedy}");
        }
        assert_eq!(fault("seven gulls on a buoy", "lantern-and-tide", "harbourmaster"), None);
    }

    #[test]
    fn only_the_right_password_for_a_known_account_is_accepted() {
        let hashed = hash("lantern");
        assert!(verify("lantern", Some(&hashed)));
        assert!(!verify("lanterns", Some(&hashed)));
        assert!(!verify("nobody has this password", None));
        assert!(!verify("lantern", Some("no hash")));
    }
}
