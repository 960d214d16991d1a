//! Accounts of the repository's server that read its views, from the command line.

use anyhow::{Context, Result};
use clap::Args;
use hurnix_core::access::audit_outcome::AuditOutcome;
use hurnix_core::keeping::retention::Retention;
use hurnix_store::{AuditEntry, Store};

use crate::secrets::random_text;

/// Which account.
#[derive(Debug, Args)]
pub struct SqlAccountOptions {
    /// Name of the role that reads the views.
    pub name: String,
    /// Connection string of the repository, of a role that may create roles.
    #[arg(long, env = "HURNIX_REPOSITORY", hide_env_values = true)]
    pub repository: String,
}

/// Makes a role that reads the views and nothing else, and prints its password; one made before gets a new password.
pub async fn make_sql_account(options: SqlAccountOptions) -> Result<()> {
    let store = Store::open(&options.repository, Retention::default()).await.context("opening the repository")?;
    let (name, password) = (&options.name, random_text(24));
    let is_new = store.make_sql_account(name, &password).await.context("making the role")?;
    store
        .add_audit(&AuditEntry {
            account: name.clone(),
            means: "command".into(),
            action: "make_sql_account".into(),
            outcome: AuditOutcome::Done,
            ..AuditEntry::default()
        })
        .await?;
    let what = if is_new { "reads" } else { "still reads" };
    println!("{name} {what} the schema \"figures\" of the repository with the password {password}");
    Ok(())
}
