//! Accounts from the command line: for when nobody can sign in any more.

use anyhow::{Context, Result, bail};
use clap::Args;
use hurnix_core::access::audit_outcome::AuditOutcome;
use hurnix_core::keeping::retention::Retention;
use hurnix_store::{AuditEntry, Store};

use crate::passwords;
use crate::secrets::random_text;

/// Whose password to set anew.
#[derive(Debug, Args)]
pub struct ResetOptions {
    /// Name of the account.
    pub name: String,
    /// Connection string of the repository.
    #[arg(long, env = "HURNIX_REPOSITORY", hide_env_values = true)]
    pub repository: String,
}

/// Gives an account a one-time password, which is printed, and forgives the wrong ones that were given.
pub async fn reset(options: ResetOptions) -> Result<()> {
    let store = Store::open(&options.repository, Retention::default()).await.context("opening the repository")?;
    let name = &options.name;
    let Some(account) = store.account(name).await? else {
        let names: Vec<String> = store.accounts().await?.into_iter().map(|(account, _)| account.name).collect();
        bail!("there is no account {name:?}; there are: {}", names.join(", "));
    };
    let password = random_text(16);
    store.set_password(account.account_id, &passwords::hash(&password), true, None).await?;
    store.forgive_account(name).await?;
    store
        .add_audit(&AuditEntry {
            account: name.clone(),
            means: "command".into(),
            action: "reset_password".into(),
            outcome: AuditOutcome::Done,
            ..AuditEntry::default()
        })
        .await?;
    println!("{name} signs in with the one-time password {password}");
    Ok(())
}
