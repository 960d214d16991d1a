use std::fs;
use std::io::Write;
use std::os::unix::fs::OpenOptionsExt;
use std::path::Path;

use anyhow::{Context, Result, bail};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::Aead;
use chacha20poly1305::{KeyInit, XChaCha20Poly1305, XNonce};

const KEY_BYTES: usize = 32;
const NONCE_BYTES: usize = 24;

/// Seals secrets with a key that is kept outside the repository (XChaCha20-Poly1305).
#[derive(Clone)]
pub struct Sealer {
    cipher: XChaCha20Poly1305,
    key: [u8; KEY_BYTES],
}

impl Sealer {
    /// Reads the key file, or makes it, readable by its owner only.
    pub fn open(file: &Path) -> Result<Sealer> {
        if !file.exists() {
            let mut out = fs::OpenOptions::new()
                .write(true)
                .create_new(true)
                .mode(0o600)
                .open(file)
                .with_context(|| format!("making the key file {}", file.display()))?;
            out.write_all(STANDARD.encode(random::<KEY_BYTES>()).as_bytes())?;
        }
        let text = fs::read_to_string(file).with_context(|| format!("reading the key file {}", file.display()))?;
        let Ok(key) = <[u8; KEY_BYTES]>::try_from(STANDARD.decode(text.trim()).unwrap_or_default()) else {
            bail!(
                "{} holds no key: restore it from a backup, or remove it and enter all passwords anew",
                file.display()
            );
        };
        Ok(Sealer { cipher: XChaCha20Poly1305::new(&key.into()), key })
    }

    /// Seals a secret. Sealing the same twice gives different bytes.
    pub fn seal(&self, secret: &str) -> Result<Vec<u8>> {
        let nonce = random::<NONCE_BYTES>();
        let sealed = self.cipher.encrypt(&XNonce::from(nonce), secret.as_bytes());
        let sealed = sealed.map_err(|_| anyhow::anyhow!("the secret could not be sealed"))?;
        Ok([nonce.as_slice(), &sealed].concat())
    }

    /// Opens what was sealed with the same key.
    pub fn unseal(&self, sealed: &[u8]) -> Result<String> {
        let wrong = "the stored password was sealed with another key: enter it anew, or restore the key file";
        let Some((nonce, sealed)) = sealed.split_first_chunk::<NONCE_BYTES>() else { bail!(wrong) };
        let secret = self.cipher.decrypt(&XNonce::from(*nonce), sealed).map_err(|_| anyhow::anyhow!(wrong))?;
        Ok(String::from_utf8(secret)?)
    }

    /// A key for signing cookies, derived so that it says nothing about the sealing key.
    pub fn cookie_key(&self) -> axum_extra::extract::cookie::Key {
        use sha2::Digest;
        let mut hash = sha2::Sha512::new();
        hash.update(b"hurnix cookies");
        hash.update(self.key);
        axum_extra::extract::cookie::Key::from(&hash.finalize())
    }
}

/// Bytes that nobody can guess.
pub fn random<const N: usize>() -> [u8; N] {
    let mut bytes = [0; N];
    getrandom::fill(&mut bytes).expect("the operating system gives random bytes");
    bytes
}

/// What the repository knows a token by (SHA-256).
pub fn token_hash(token: &str) -> Vec<u8> {
    use sha2::Digest;
    sha2::Sha256::digest(token.as_bytes()).to_vec()
}

/// A text of letters and digits that nobody can guess.
pub fn random_text(length: usize) -> String {
    const LETTERS: &[u8] = b"abcdefghijkmnpqrstuvwxyz23456789";
    let bytes = random::<64>();
    bytes.iter().take(length).map(|byte| char::from(LETTERS[usize::from(*byte) % LETTERS.len()])).collect()
}

#[cfg(test)]
mod tests {
    use std::os::unix::fs::PermissionsExt;

    use super::*;

    #[test]
    fn a_secret_comes_back_and_only_with_its_key() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("key");
        let sealer = Sealer::open(&file).unwrap();
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        let sealed = sealer.seal("tide and time").unwrap();
        assert_ne!(sealed, sealer.seal("tide and time").unwrap());
        assert!(!sealed.windows(4).any(|window| window == b"tide"));
        assert_eq!(Sealer::open(&file).unwrap().unseal(&sealed).unwrap(), "tide and time");
        let other = Sealer::open(&folder.path().join("other")).unwrap();
        assert!(other.unseal(&sealed).is_err());
        assert!(sealer.unseal(b"short").is_err());
    }

    #[test]
    fn a_damaged_key_file_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("key");
        fs::write(&file, "not a key").unwrap();
        assert!(Sealer::open(&file).is_err());
    }
}
