//! Rule 2: load, the mean number of busy sessions, split by wait kind.
//!
//! Load of a span = busy sessions summed over the samples ÷ number of samples. Sums and sample
//! counts are kept apart, so that spans can be joined without averaging averages.
//!
//! Laws, tested below: the kinds add up to the total; splitting a span and joining the parts again
//! gives the same figure.

use std::iter::Sum;

use crate::readings::wait_kind::WaitKind;

/// Samples of a span of time, summed up.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Load {
    /// How often the server was looked at. None means that nothing is known of the span.
    pub samples: i64,
    /// Busy sessions seen, summed over the samples, by position of the wait kind.
    pub busy: [i64; WaitKind::ALL.len()],
}

impl Load {
    /// Adds what another span's samples saw.
    pub fn join(&mut self, other: &Load) {
        self.samples += other.samples;
        for (sum, more) in self.busy.iter_mut().zip(other.busy) {
            *sum += more;
        }
    }

    /// Mean number of sessions busy with `kind`; nothing without samples.
    pub fn mean(&self, kind: WaitKind) -> Option<f64> {
        (self.samples > 0).then(|| self.busy[kind.position()] as f64 / self.samples as f64)
    }

    /// Mean number of busy sessions; nothing without samples.
    pub fn total(&self) -> Option<f64> {
        (self.samples > 0).then(|| self.busy_in_all() as f64 / self.samples as f64)
    }

    /// Mean number of sessions that were busy without running; nothing without samples.
    pub fn waiting(&self) -> Option<f64> {
        let running = self.busy[WaitKind::Running.position()];
        (self.samples > 0).then(|| (self.busy_in_all() - running) as f64 / self.samples as f64)
    }

    /// The kind that most busy sessions were seen in; of several the first in the fixed order. Nothing without any.
    pub fn mostly(&self) -> Option<WaitKind> {
        let seen = WaitKind::ALL.iter().rev().filter(|kind| self.busy[kind.position()] > 0);
        seen.max_by_key(|kind| self.busy[kind.position()]).copied()
    }

    /// Busy sessions seen, of all kinds, summed over the samples.
    pub fn busy_in_all(&self) -> i64 {
        self.busy.iter().sum()
    }

    /// Standard error of [`Self::total`], for sessions that come and go independently of each other:
    /// the count in a sample is then Poisson distributed, and the error of the mean of `n` samples is
    /// √(mean ÷ n). Sessions that outlast the sampling interval make the true error larger.
    pub fn standard_error(&self) -> Option<f64> {
        self.total().map(|total| (total / self.samples as f64).sqrt())
    }
}

impl<'a> Sum<&'a Load> for Load {
    fn sum<I: Iterator<Item = &'a Load>>(loads: I) -> Load {
        loads.fold(Load::default(), |mut whole, load| {
            whole.join(load);
            whole
        })
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    #[test]
    fn two_sessions_in_half_of_the_samples_are_a_load_of_one() {
        let mut load = Load { samples: 10, ..Default::default() };
        load.busy[WaitKind::Lock.position()] = 10;
        assert_eq!(load.mean(WaitKind::Lock), Some(1.0));
        load.busy[WaitKind::Running.position()] = 5;
        assert_eq!((load.mean(WaitKind::Running), load.waiting()), (Some(0.5), Some(1.0)));
        assert_eq!(load.total(), Some(1.5));
    }

    #[test]
    fn what_most_were_seen_in() {
        let mut load = Load { samples: 4, ..Default::default() };
        assert_eq!(load.mostly(), None);
        load.busy[WaitKind::Lock.position()] = 2;
        load.busy[WaitKind::Network.position()] = 2;
        assert_eq!(load.mostly(), Some(WaitKind::Lock));
        load.busy[WaitKind::Network.position()] = 3;
        assert_eq!(load.mostly(), Some(WaitKind::Network));
    }

    #[test]
    fn no_samples_are_not_no_load() {
        assert_eq!(Load::default().total(), None);
        assert_eq!(Load::default().standard_error(), None);
    }

    fn any_load() -> impl Strategy<Value = Load> {
        (1i64..5000, proptest::array::uniform10(0i64..100_000)).prop_map(|(samples, busy)| Load { samples, busy })
    }

    proptest! {
        #[test]
        fn kinds_add_up_to_the_total(load in any_load()) {
            let kinds: f64 = WaitKind::ALL.iter().filter_map(|kind| load.mean(*kind)).sum();
            prop_assert!((kinds - load.total().unwrap()).abs() < 1e-9 * (1.0 + kinds));
        }

        #[test]
        fn joining_parts_gives_the_whole(parts in proptest::collection::vec(any_load(), 1..20), at in 0usize..20) {
            let join = |parts: &[Load]| parts.iter().fold(Load::default(), |mut sum, part| { sum.join(part); sum });
            let (left, right) = parts.split_at(at.min(parts.len()));
            prop_assert_eq!(join(&[join(left), join(right)]), join(&parts));
        }
    }
}
