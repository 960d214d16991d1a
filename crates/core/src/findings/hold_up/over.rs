use super::{Episode, Episodes, Look};
use crate::time::Timestamp;

/// Episodes that are over.
#[derive(Debug, Clone, PartialEq)]
pub struct Over {
    /// The episodes.
    pub episodes: Vec<Episode>,
    /// Whether each of them began within the looks: else earlier ones would tell more of it.
    pub is_whole: bool,
}

/// Episodes that a look after `since` told to be over; the looks are in order of time.
///
/// Each episode is told to be over by one look only, so that windows that follow each other tell each once.
pub fn over_since(looks: &[Look], since: Timestamp) -> Over {
    let first = looks.first().map(|look| look.at);
    let mut going = Episodes::default();
    let mut episodes = Vec::new();
    for look in looks {
        let over = going.go_on(look);
        if look.at > since {
            episodes.extend(over);
        }
    }
    let is_whole = episodes.iter().all(|episode| Some(episode.from) != first);
    Over { episodes, is_whole }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{Party, SessionKey};
    use super::*;

    /// Looks each second; where `waits` says so, one session waits for another.
    fn looks(waits: &[bool]) -> Vec<Look> {
        let party = |process, blocked_by| Party {
            session: SessionKey { process, started_at: Timestamp(1) },
            blocked_by,
            ..Party::default()
        };
        let look = |(second, waits): (i64, &bool)| {
            let parties = if *waits { vec![party(1, vec![]), party(2, vec![1])] } else { vec![] };
            Look::new(Timestamp(second * 1_000_000), 1.0, parties)
        };
        (0..).zip(waits).map(look).collect()
    }

    #[test]
    fn what_was_over_before_goes_on_or_began_before_is_not_told() {
        let waits = [false, true, true, false, false, false, true, false, false, false, true, true];
        let all = looks(&waits);
        let told = |looks: &[Look], since: i64| {
            let over = over_since(looks, Timestamp(since * 1_000_000));
            (over.episodes.len(), over.is_whole)
        };
        assert_eq!([told(&all, 0), told(&all, 5), told(&all, 9)], [(2, true), (1, true), (0, true)]);
        assert_eq!(told(&all[2..], 2), (2, false), "the first may have begun before");
        assert_eq!(told(&[], 0), (0, true));
    }

    proptest! {
        /// However a time is cut into windows, each hold-up that is over is told once.
        #[test]
        fn windows_that_follow_each_other_tell_each_once(
            waits in prop::collection::vec(prop::bool::weighted(0.6), 1..60), cut in 1usize..20,
        ) {
            let mut waits = waits;
            waits.insert(0, false);
            let all = looks(&waits);
            let at = |look: usize| Timestamp(look as i64 * 1_000_000);
            let whole = over_since(&all, Timestamp(-1)).episodes;
            let ends = (0..waits.len()).step_by(cut);
            let parts: Vec<Episode> = ends
                .flat_map(|begin| {
                    let end = (begin + cut).min(waits.len());
                    over_since(&all[..end], at(begin).plus_seconds(-1.0)).episodes
                })
                .collect();
            prop_assert_eq!(parts, whole);
        }
    }
}
