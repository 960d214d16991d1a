//! Whoever gives a password passes here: one at a time, and not at all while they must wait.

use std::sync::Arc;

use hurnix_core::guessing::{wait_seconds, wait_seconds_of_address};
use hurnix_store::{Account, Result, Store};
use tokio::sync::Mutex;

use crate::passwords;

/// Looks at passwords, one after the other: many sent at once are no way around the wait, and hashing them
/// takes the memory of one.
#[derive(Debug, Clone, Default)]
pub struct Gate(Arc<Mutex<()>>);

/// What came of a password.
#[derive(Debug, Clone, PartialEq)]
pub enum Passed {
    /// It is the account's.
    Right(Account),
    /// It is not, or there is no such account.
    Wrong,
    /// It was not looked at; in so many seconds it will be.
    Wait(f64),
}

/// What mistakes are counted for: the account as tried from there, and everything tried from there. Where the
/// account has signed in from before, mistakes made elsewhere do not count.
fn counted_for(name: &str, client: &str, is_known_client: bool) -> [String; 2] {
    [format!("account {name} from {}", if is_known_client { client } else { "elsewhere" }), format!("address {client}")]
}

impl Gate {
    /// Looks at a password that is given from an address for the account of a name.
    pub async fn pass(&self, store: &Store, name: &str, password: String, client: &str) -> Result<Passed> {
        let _turn = self.0.lock().await;
        let is_known = store.is_known_client(name, client).await?;
        let counted_for = counted_for(name, client, is_known);
        let [of_account, of_address] = &counted_for;
        let of_account = store.mistakes(of_account).await?.map_or(0.0, |(made, since)| wait_seconds(made, since));
        let of_address =
            store.mistakes(of_address).await?.map_or(0.0, |(made, since)| wait_seconds_of_address(made, since));
        let wait = of_account.max(of_address);
        if wait > 0.0 {
            return Ok(Passed::Wait(wait));
        }
        let account = store.account(name).await?;
        let hash = account.as_ref().map(|account| account.password_hash.clone());
        // Hashing is heavy work on purpose.
        let right = tokio::task::spawn_blocking(move || passwords::verify(&password, hash.as_deref())).await;
        match account.filter(|_| right.unwrap_or(false)) {
            Some(account) => {
                store.forgive(&counted_for).await?;
                Ok(Passed::Right(account))
            }
            None => {
                store.note_mistake(&counted_for).await?;
                Ok(Passed::Wrong)
            }
        }
    }
}
