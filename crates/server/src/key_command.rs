//! The key that seals secrets, from the command line.

use std::path::PathBuf;

use anyhow::{Context, Result};
use clap::Args;
use hurnix_core::access::audit_outcome::AuditOutcome;
use hurnix_core::keeping::retention::Retention;
use hurnix_store::{AuditEntry, Store};

use crate::secrets::Sealer;

/// Which key to rotate.
#[derive(Debug, Args)]
pub struct RotateOptions {
    /// Connection string of the repository.
    #[arg(long, env = "HURNIX_REPOSITORY", hide_env_values = true)]
    pub repository: String,
    /// File with the key.
    #[arg(long, env = "HURNIX_KEY_FILE", default_value = "hurnix.key")]
    pub key_file: PathBuf,
}

/// Makes a key in place of one that is lost. What only that one opened becomes an empty password, to be given anew.
pub async fn renew(options: RotateOptions) -> Result<()> {
    anyhow::ensure!(
        !options.key_file.exists(),
        "there is a key file {}: rotate it, or move it away if it is not the right one",
        options.key_file.display()
    );
    let store = Store::open(&options.repository, Retention::default()).await.context("opening the repository")?;
    let sealer = Sealer::open(&options.key_file, false)?;
    let forgotten = store.reseal(|_| sealer.seal("")).await?;
    note(&store, "renew_key", format!("{forgotten} secrets forgotten")).await?;
    println!("{forgotten} secrets are forgotten: give them anew; keep a copy of {}", options.key_file.display());
    Ok(())
}

async fn note(store: &Store, action: &str, detail: String) -> Result<()> {
    let (means, action) = ("command".into(), action.into());
    store
        .add_audit(&AuditEntry { means, action, detail, outcome: AuditOutcome::Done, ..AuditEntry::default() })
        .await?;
    Ok(())
}

/// Makes a new key, and seals all secrets anew with it. Hurnix may run meanwhile.
pub async fn rotate(options: RotateOptions) -> Result<()> {
    anyhow::ensure!(options.key_file.exists(), "there is no key file {}", options.key_file.display());
    let store = Store::open(&options.repository, Retention::default()).await.context("opening the repository")?;
    let sealer = Sealer::open(&options.key_file, true)?;
    let sealed = sealer
        .rotate(async |new| store.reseal(|secret| -> Result<Vec<u8>> { new.seal(&new.unseal(secret)?) }).await)
        .await?;
    note(&store, "rotate_key", format!("{sealed} secrets sealed anew")).await?;
    println!("{sealed} secrets are sealed with the new key in {}; keep a copy of it", options.key_file.display());
    Ok(())
}
