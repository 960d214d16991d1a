use std::time::{Duration, Instant};

use hurnix_core::readings::metric::{Measure, Metric};

use super::Address;
use super::connect::time_to_connect;

/// A connection is made this often at most to learn how long that takes: each is a session of the server.
const EVERY: Duration = Duration::from_secs(60);

/// What is needed to learn how long connecting takes.
#[derive(Debug)]
pub(super) struct Connecting {
    address: Address,
    last: Option<Instant>,
}

impl Connecting {
    pub(super) fn to(address: &Address) -> Connecting {
        Connecting { address: address.clone(), last: None }
    }

    /// How long a new connection takes until it can run statements; nothing where it was learnt a moment ago, or none
    /// was to be had.
    pub(super) async fn measure(&mut self) -> Option<Measure> {
        if self.last.is_some_and(|last| last.elapsed() < EVERY) {
            return None;
        }
        self.last = Some(Instant::now());
        let took = time_to_connect(&self.address).await?;
        Some(Measure { metric: Metric::ConnectTime, object: String::new(), value: took.as_secs_f64() })
    }
}
