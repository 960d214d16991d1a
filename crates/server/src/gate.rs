//! Whoever gives a password passes here: one at a time, and not at all while they must wait.

use std::sync::Arc;

use hurnix_core::access::guessing::{wait_seconds, wait_seconds_of_address};
use hurnix_store::{Account, Result, Store};
use sha2::{Digest, Sha256};
use tokio::sync::Mutex;

use crate::passwords;
use crate::secrets::hex;

/// Looks at passwords, one after the other: many sent at once are no way around the wait, and hashing them
/// takes the memory of one. Clients that an account knows do not stand in line behind strangers.
#[derive(Clone)]
pub struct Gate {
    known: Arc<Mutex<()>>,
    strangers: Arc<Mutex<()>>,
    /// What names that are no account's are hashed with: they are often passwords, typed into the wrong field.
    pepper: Arc<[u8]>,
}

/// Where a password is given.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct GivenFrom<'a> {
    /// Address.
    pub address: &'a str,
    /// What a browser that signed in before shows, by which it is known whatever its address.
    pub browser: Option<&'a str>,
}

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

/// What a browser is called among the known clients.
pub fn known_browser(browser: &str) -> String {
    format!("browser {browser}")
}

/// Who gives a password, as the account knows it.
enum Known {
    /// This browser, or this address, has signed in before.
    Client(String),
    /// Nobody that is known.
    No,
}

/// Seconds to wait after so many mistakes, so long since the last.
type WaitAfter = fn(u32, f64) -> f64;

/// What mistakes are counted for, each with the seconds to wait after so many. Of a client that the account knows
/// only its own count; of strangers those with the account, wherever they are, and all of their address.
fn counted_for(name: &str, known: &Known, address: &str) -> Vec<(String, WaitAfter)> {
    match known {
        Known::Client(client) => vec![(format!("account {name} from {client}"), wait_seconds)],
        Known::No => vec![
            (format!("account {name} from elsewhere"), wait_seconds),
            (format!("address {address}"), wait_seconds_of_address),
        ],
    }
}

impl Gate {
    /// Nobody stands in line. All processes that share a repository need the same pepper, to count alike.
    pub fn new(pepper: &[u8]) -> Gate {
        Gate { known: Arc::default(), strangers: Arc::default(), pepper: pepper.into() }
    }

    /// A name as mistakes are counted for it.
    fn counted_as(&self, name: &str, is_account: bool) -> String {
        if is_account {
            return name.to_owned();
        }
        hex(&Sha256::new().chain_update(&self.pepper).chain_update(name).finalize())
    }

    /// Looks at a password that is given for the account of a name.
    pub async fn pass(&self, store: &Store, name: &str, password: String, from: GivenFrom<'_>) -> Result<Passed> {
        let known = known(store, name, from).await?;
        let line = if matches!(known, Known::No) { &self.strangers } else { &self.known };
        let _turn = line.lock().await;
        let account = store.account(name).await?;
        let counted_for = counted_for(&self.counted_as(name, account.is_some()), &known, from.address);
        let mut wait: f64 = 0.0;
        for (whose, wait_after) in &counted_for {
            wait = wait.max(store.mistakes(whose).await?.map_or(0.0, |(made, since)| wait_after(made, since)));
        }
        if wait > 0.0 {
            return Ok(Passed::Wait(wait));
        }
        let counted_for: Vec<String> = counted_for.into_iter().map(|(whose, _)| whose).collect();
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

async fn known(store: &Store, name: &str, from: GivenFrom<'_>) -> Result<Known> {
    for client in from.browser.map(known_browser).into_iter().chain([from.address.to_owned()]) {
        if store.is_known_client(name, &client).await? {
            return Ok(Known::Client(client));
        }
    }
    Ok(Known::No)
}
