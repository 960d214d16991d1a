use hurnix_core::Timestamp;
use hurnix_core::readings::replication::{Replication, Upstream};

use super::counted::{Counted, Server};
use super::model::Happening;
use super::noise::Noise;
use super::shape::minute_of;

/// Port that servers answer on.
const PORT: u16 = 5432;

impl Counted {
    /// WAL written.
    pub fn log_written(&self) -> i64 {
        self.families.iter().map(|family| family.log_bytes).sum()
    }
}

impl Server {
    /// Whom it follows. Nobody is known to follow it.
    pub fn replication_state(&mut self, at: Timestamp) -> Replication {
        // A replica need not live through all that it did to know what it received.
        let written = match self.log_received(at) {
            Some(received) => received,
            None => self.counted(at).log_written(),
        };
        let lag = self.lag_seconds(at);
        let per_second = self.model.lag.as_ref().map_or(0.0, |lag| lag.log_bytes_per_second);
        let upstream = self.model.lag.as_ref().zip(lag).map(|(model, seconds)| Upstream {
            host: model.follows.clone(),
            port: Some(PORT),
            is_connected: true,
            heard_at: Some(at),
            replayed: (written - (seconds * per_second) as i64).max(0),
            replayed_commit_at: Some(at.plus_seconds(-seconds)),
            ..Upstream::default()
        });
        let given_out = at.seconds_since(self.model.began_at) - lag.unwrap_or_default();
        Replication {
            at,
            is_replica: upstream.is_some(),
            position: written,
            next_transaction: (given_out * self.model.transactions_per_second) as i64,
            upstream,
            ..Replication::default()
        }
    }

    /// WAL that a replica has received since it began; nothing for a primary.
    pub fn log_received(&self, at: Timestamp) -> Option<i64> {
        let lag = self.model.lag.as_ref()?;
        Some((lag.log_bytes_per_second * at.seconds_since(self.model.began_at)) as i64)
    }

    /// How far it lags; nothing for a primary.
    pub fn lag_seconds(&self, at: Timestamp) -> Option<f64> {
        let lag = self.model.lag.as_ref()?;
        let minute = minute_of(at);
        let going_on = self.model.events.iter().filter(|event| event.goes_on(at));
        let factors = going_on.filter_map(|event| match event.what {
            Happening::Lag(factor) => Some(factor),
            _ => None,
        });
        let noise = Noise::of(self.model.seed, &[19, minute as u64]).factor(0.2);
        Some(lag.seconds * lag.shape.level(minute) * factors.product::<f64>() * noise)
    }
}
