use std::time::{Duration, Instant};

use hurnix_core::readings::metric::{Measure, Metric};
use tokio::task::JoinHandle;

use super::Address;
use super::connect::time_to_connect;

/// A connection is made about once a minute to learn how long that takes: each is a session of the server.
const EVERY: Duration = Duration::from_secs(55);

/// What is needed to learn how long connecting takes.
#[derive(Debug)]
pub(super) struct Connecting {
    address: Address,
    last: Option<Instant>,
    going: Option<JoinHandle<Option<Duration>>>,
}

impl Connecting {
    pub(super) fn to(address: &Address) -> Connecting {
        Connecting { address: address.clone(), last: None, going: None }
    }

    /// How long the last new connection took until it could run statements, told once; nothing where none was to be had.
    /// The next one is made beside whatever is read meanwhile, which it neither delays nor moves in time.
    pub(super) async fn measure(&mut self) -> Option<Measure> {
        let ended = self.going.take_if(|going| going.is_finished());
        if self.going.is_none() && self.last.is_none_or(|last| last.elapsed() >= EVERY) {
            let address = self.address.clone();
            self.last = Some(Instant::now());
            self.going = Some(tokio::spawn(async move { time_to_connect(&address).await }));
        }
        let took = ended?.await.ok()??;
        Some(Measure { metric: Metric::ConnectTime, object: String::new(), value: took.as_secs_f64() })
    }
}
