use std::fs;
use std::io::Write;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use chacha20poly1305::aead::Aead;
use chacha20poly1305::{KeyInit, XChaCha20Poly1305, XNonce};

const KEY_BYTES: usize = 32;
const NONCE_BYTES: usize = 24;

type Key = [u8; KEY_BYTES];

/// Seals secrets with a key that is kept outside the repository (XChaCha20-Poly1305).
///
/// The key file has one key on its first line. While keys are rotated it has the one before on a second line,
/// so that what is not sealed anew yet can be opened, whenever the rotation is broken off.
#[derive(Clone)]
pub struct Sealer {
    file: PathBuf,
    /// As read at the start.
    keys: Vec<Key>,
}

impl Sealer {
    /// Reads the key file, or makes it, readable by its owner only. One is not made in place of another that
    /// sealed something already: what it sealed could never be opened again.
    pub fn open(file: &Path, holds_secrets: bool) -> Result<Sealer> {
        if !file.exists() {
            anyhow::ensure!(
                !holds_secrets,
                "there is no key file {}, and the repository holds passwords that only its key opens: restore it from a backup, or name the right file by --key-file or HURNIX_KEY_FILE. If the key is lost for good, make a new one with `hurnix key renew`, which forgets those passwords",
                file.display()
            );
            write_keys(file, &[random()])?;
        }
        let mode = fs::metadata(file).with_context(|| format!("reading the key file {}", file.display()))?.mode();
        if mode & 0o077 != 0 {
            tracing::warn!(file = %file.display(), mode = format!("{:o}", mode & 0o777), "others may read the key file: chmod 600 it, then hurnix key rotate");
        }
        Ok(Sealer { file: file.to_owned(), keys: read_keys(file)? })
    }

    /// Seals a secret. Sealing the same twice gives different bytes.
    pub fn seal(&self, secret: &str) -> Result<Vec<u8>> {
        // As it stands now: keys may have been rotated since the start.
        let keys = read_keys(&self.file)?;
        let nonce = random::<NONCE_BYTES>();
        let sealed = XChaCha20Poly1305::new(&keys[0].into()).encrypt(&XNonce::from(nonce), secret.as_bytes());
        let sealed = sealed.map_err(|_| anyhow::anyhow!("the secret could not be sealed"))?;
        Ok([nonce.as_slice(), &sealed].concat())
    }

    /// Opens what was sealed with a key of the file.
    pub fn unseal(&self, sealed: &[u8]) -> Result<String> {
        let opened = opened(&self.keys, sealed).or_else(|| opened(&read_keys(&self.file).ok()?, sealed));
        opened.context("the stored password was sealed with another key: enter it anew, or restore the key file")
    }

    /// Makes a new key, and has everything sealed anew by `reseal`, which is given what seals with the new key.
    /// What breaks in the middle can be done again: no secret is lost.
    pub async fn rotate<T>(&self, reseal: impl AsyncFnOnce(&Sealer) -> Result<T>) -> Result<T> {
        let new = random();
        let both: Vec<Key> = std::iter::once(new).chain(read_keys(&self.file)?).collect();
        write_keys(&self.file, &both)?;
        let done = reseal(&Sealer { file: self.file.clone(), keys: both }).await?;
        write_keys(&self.file, &[new])?;
        Ok(done)
    }

    /// A key for signing cookies, derived so that it says nothing about the sealing key.
    pub fn cookie_key(&self) -> axum_extra::extract::cookie::Key {
        use sha2::Digest;
        let mut hash = sha2::Sha512::new();
        hash.update(b"hurnix cookies");
        hash.update(self.keys[0]);
        axum_extra::extract::cookie::Key::from(&hash.finalize())
    }
}

fn opened(keys: &[Key], sealed: &[u8]) -> Option<String> {
    let (nonce, sealed) = sealed.split_first_chunk::<NONCE_BYTES>()?;
    let open = |key: &Key| XChaCha20Poly1305::new(&(*key).into()).decrypt(&XNonce::from(*nonce), sealed).ok();
    String::from_utf8(keys.iter().find_map(open)?).ok()
}

/// The keys of a file, the newest first; never none.
fn read_keys(file: &Path) -> Result<Vec<Key>> {
    let text = fs::read_to_string(file).with_context(|| format!("reading the key file {}", file.display()))?;
    let key = |line: &str| Key::try_from(STANDARD.decode(line.trim()).unwrap_or_default()).ok();
    let keys: Option<Vec<Key>> = text.lines().filter(|line| !line.trim().is_empty()).map(key).collect();
    keys.filter(|keys| !keys.is_empty()).with_context(|| {
        format!("{} holds no key: restore it from a backup, or remove it and enter all passwords anew", file.display())
    })
}

/// Writes a key file that is whole at any time.
fn write_keys(file: &Path, keys: &[Key]) -> Result<()> {
    let making = || format!("writing the key file {}", file.display());
    let beside = file.with_extension("new");
    let text: String = keys.iter().map(|key| STANDARD.encode(key) + "\n").collect();
    let mut out = fs::OpenOptions::new()
        .write(true)
        .create(true)
        .truncate(true)
        .mode(0o600)
        .open(&beside)
        .with_context(making)?;
    out.write_all(text.as_bytes()).with_context(making)?;
    out.sync_all().with_context(making)?;
    fs::rename(&beside, file).with_context(making)
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

/// Bytes as a text of digits and letters.
pub fn hex(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
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
        let sealer = Sealer::open(&file, false).unwrap();
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        let sealed = sealer.seal("tide and time").unwrap();
        assert_ne!(sealed, sealer.seal("tide and time").unwrap());
        assert!(!sealed.windows(4).any(|window| window == b"tide"));
        assert_eq!(Sealer::open(&file, false).unwrap().unseal(&sealed).unwrap(), "tide and time");
        let other = Sealer::open(&folder.path().join("other"), false).unwrap();
        assert!(other.unseal(&sealed).is_err());
        assert!(sealer.unseal(b"short").is_err());
    }

    #[tokio::test]
    async fn a_rotation_that_breaks_off_loses_nothing_and_one_that_ends_retires_the_old_key() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("key");
        let running = Sealer::open(&file, false).unwrap();
        let old_key = fs::read_to_string(&file).unwrap();
        let sealed = running.seal("tide and time").unwrap();
        let broken: Result<()> =
            Sealer::open(&file, false).unwrap().rotate(async |_| anyhow::bail!("the repository is away")).await;
        assert!(broken.is_err());
        assert_eq!(Sealer::open(&file, false).unwrap().unseal(&sealed).unwrap(), "tide and time");

        let again = Sealer::open(&file, false).unwrap();
        let anew = again.rotate(async |new| new.seal(&new.unseal(&sealed)?)).await.unwrap();
        let written = fs::read_to_string(&file).unwrap();
        assert!(written.lines().count() == 1 && !written.contains(old_key.trim()));
        assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o600);
        // A program that runs on opens and seals by the new key; whoever has only the new one opens both.
        assert_eq!(running.unseal(&anew).unwrap(), "tide and time");
        let later = running.seal("sealed later").unwrap();
        let fresh = Sealer::open(&file, false).unwrap();
        assert_eq!(fresh.unseal(&later).unwrap(), "sealed later");
        assert!(fresh.unseal(&sealed).is_err(), "the old key opens nothing any more");
    }

    #[test]
    fn a_lost_key_is_not_replaced_where_it_has_sealed_something() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("key");
        let problem = Sealer::open(&file, true).map(drop).unwrap_err().to_string();
        assert!(problem.contains("restore it from a backup") && !file.exists(), "{problem}");
        Sealer::open(&file, false).unwrap();
        // Somebody looked at it with an editor.
        let text = fs::read_to_string(&file).unwrap();
        fs::write(&file, format!("{text}\r\n\n")).unwrap();
        Sealer::open(&file, true).unwrap();
    }

    #[test]
    fn a_damaged_key_file_is_refused() {
        let folder = tempfile::tempdir().unwrap();
        let file = folder.path().join("key");
        fs::write(&file, "not a key").unwrap();
        assert!(Sealer::open(&file, false).is_err());
    }
}
