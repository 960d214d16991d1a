use super::Episode;

/// Waits of about the same length.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Lengths {
    /// They lasted so many seconds at least, and less than twice as long; the first bin holds all shorter ones.
    pub from_seconds: f64,
    /// How many.
    pub waits: usize,
    /// Seconds that sessions lost to them.
    pub lost_seconds: f64,
}

/// The shortest length that has a bin of its own, in seconds: looks come about once a second.
const SHORTEST: f64 = 1.0;

/// Waits of episodes by their length, in bins twice as wide from one to the next, up to the longest: those of several
/// windows are added bin by bin. Linear in the waits.
pub fn lengths(episodes: &[Episode]) -> Vec<Lengths> {
    let mut bins: Vec<Lengths> = Vec::new();
    for wait in episodes.iter().flat_map(|episode| &episode.waits) {
        let seconds = wait.to.seconds_since(wait.from).max(wait.lost_seconds);
        add_length(&mut bins, seconds, wait.lost_seconds);
    }
    bins
}

/// Adds a wait to bins by its length.
pub fn add_length(bins: &mut Vec<Lengths>, seconds: f64, lost_seconds: f64) {
    let bin = if seconds < 2.0 * SHORTEST { 0 } else { (seconds / SHORTEST).log2().floor() as usize };
    while bins.len() <= bin {
        let from_seconds = if bins.is_empty() { 0.0 } else { SHORTEST * f64::powi(2.0, bins.len() as i32) };
        bins.push(Lengths { from_seconds, waits: 0, lost_seconds: 0.0 });
    }
    bins[bin].waits += 1;
    bins[bin].lost_seconds += lost_seconds;
}

#[cfg(test)]
mod tests {
    use super::super::{Episodes, Look, Party, SessionKey, Who};
    use super::*;
    use crate::readings::activity::AwaitedLock;
    use crate::time::Timestamp;

    fn party(process: i32, blocked_by: &[i32]) -> Party {
        let lock = AwaitedLock { mode: "ShareLock".into(), kind: "tuple".into(), object: "public.berth".into() };
        Party {
            session: SessionKey { process, started_at: Timestamp(7) },
            who: Who::default(),
            is_idle: blocked_by.is_empty(),
            transaction_started_at: None,
            statement_started_at: None,
            family: None,
            blocked_by: blocked_by.to_vec(),
            awaited: (!blocked_by.is_empty()).then_some(lock),
        }
    }

    #[test]
    fn each_wait_is_in_the_bin_of_its_length_and_nothing_is_lost() {
        let mut episodes = Episodes::default();
        for second in 0..20 {
            // One waits all the time, one for five seconds, one for a moment.
            let mut parties = vec![party(1, &[]), party(2, &[1])];
            parties.extend((second < 5).then(|| party(3, &[1])));
            parties.extend((second == 9).then(|| party(4, &[1])));
            episodes.go_on(&Look::new(Timestamp(second * 1_000_000), 1.0, parties));
        }
        let episodes = episodes.into_open();
        let bins = lengths(&episodes);
        let told: Vec<(f64, usize)> = bins.iter().map(|bin| (bin.from_seconds, bin.waits)).collect();
        assert_eq!(told, [(0.0, 1), (2.0, 0), (4.0, 1), (8.0, 0), (16.0, 1)]);
        let lost: f64 = bins.iter().map(|bin| bin.lost_seconds).sum();
        assert_eq!(lost, episodes[0].lost_seconds);
        assert_eq!(lengths(&[]), []);
    }
}
