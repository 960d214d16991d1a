use std::collections::HashMap;

use serde::{Deserialize, Serialize};

use super::{Look, SessionKey, Tree, Who};
use crate::readings::activity::AwaitedLock;
use crate::time::Timestamp;

/// Looks in a row in which something may not be seen before it is over.
const MISSED_LOOKS: u32 = 2;
/// What costs less and is over is daily life, in seconds lost.
pub const BRIEF_SECONDS: f64 = 5.0;
/// Waits of an episode that are kept one by one.
const MOST_WAITS: usize = 2_000;

/// What one holder held up, from when somebody first stood behind it until nobody did.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Episode {
    /// The holder; of a circle, the one that answers for it.
    pub holder: SessionKey,
    /// Whose it is.
    pub who: Who,
    /// Whether it is a circle of sessions that waited for each other.
    pub is_circle: bool,
    /// Family of the holder's statement, as last seen.
    pub family: Option<i64>,
    /// When its transaction began.
    pub transaction_started_at: Option<Timestamp>,
    /// First look.
    pub from: Timestamp,
    /// Last look.
    pub to: Timestamp,
    /// Seconds that it was seen for.
    pub seconds: f64,
    /// Seconds of those in which the holder was idle in its transaction.
    pub idle_seconds: f64,
    /// Seconds that sessions lost to it: those that wait for several holders at once lose a part to each.
    pub lost_seconds: f64,
    /// Most sessions that it held up at once.
    pub most_waiting: usize,
    /// Most holders that somebody was deep.
    pub depth: usize,
    /// Waits behind it, in the order in which they began.
    pub waits: Vec<Wait>,
    /// Seconds lost by waits that are not kept one by one.
    pub further_seconds: f64,
    /// Looks in a row that did not see it.
    pub missed: u32,
}

impl Episode {
    /// Whether it goes on after the last look: no more looks missed it than may.
    pub fn goes_on(&self) -> bool {
        self.missed <= MISSED_LOOKS
    }

    /// Whether it was as short as such waits are every day.
    pub fn is_brief(&self) -> bool {
        self.lost_seconds < BRIEF_SECONDS && !self.goes_on() && !self.is_circle
    }

    /// Share of its time in which the holder was idle in its transaction.
    pub fn idle_share(&self) -> f64 {
        if self.seconds > 0.0 { self.idle_seconds / self.seconds } else { 0.0 }
    }
}

/// A session that waited for a lock, with one statement.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Wait {
    /// The session.
    pub session: SessionKey,
    /// Whose it is.
    pub who: Who,
    /// Family of its statement.
    pub family: Option<i64>,
    /// The lock that it waited for.
    pub lock: Option<AwaitedLock>,
    /// The holder in whose lane it stood, as last seen.
    pub lane: SessionKey,
    /// The one directly before it that waited for the same, as last seen.
    pub behind: Option<SessionKey>,
    /// Whether it waited for its turn only.
    pub is_queued: bool,
    /// How many holders deep.
    pub depth: usize,
    /// First look.
    pub from: Timestamp,
    /// Last look.
    pub to: Timestamp,
    /// Seconds that it lost to this holder.
    pub lost_seconds: f64,
    /// Looks in a row that did not see it.
    missed: u32,
}

impl Wait {
    fn is_of(&self, session: SessionKey, family: Option<i64>, lock: Option<&AwaitedLock>) -> bool {
        (self.session, self.family, self.lock.as_ref()) == (session, family, lock)
    }
}

/// Episodes that go on, from look to look.
#[derive(Debug, Clone, Default)]
pub struct Episodes {
    open: Vec<Episode>,
}

impl Episodes {
    /// Goes on with the next look, and answers with the episodes that are over by now. Linear in the parties of the look
    /// and in the waits of the episodes that go on.
    ///
    /// An episode, and a wait in it, goes on where at most two looks in a row did not see it. What was lost between two
    /// looks is charged to those that the later one saw: each wait is told to within the time of one look.
    pub fn go_on(&mut self, look: &Look) -> Vec<Episode> {
        // Most looks of a day see nobody wait.
        if look.parties().is_empty() && self.open.is_empty() {
            return Vec::new();
        }
        let tree = Tree::of(look.parties());
        for root in tree.roots() {
            let holder = look.parties()[root].session;
            let open = self.open.iter().position(|episode| episode.holder == holder);
            let open = open.unwrap_or_else(|| {
                self.open.push(begun(look, root));
                self.open.len() - 1
            });
            seen(&mut self.open[open], look, &tree, root);
        }
        for episode in &mut self.open {
            let of_wait = |wait: &Wait| if wait.to == look.at { 0 } else { wait.missed + 1 };
            episode.missed = if episode.to == look.at { 0 } else { episode.missed + 1 };
            episode.waits.iter_mut().for_each(|wait| wait.missed = of_wait(wait));
        }
        self.open.extract_if(.., |episode| episode.missed > MISSED_LOOKS).collect()
    }

    /// Those that go on, where no look follows.
    pub fn into_open(self) -> Vec<Episode> {
        self.open
    }
}

fn begun(look: &Look, root: usize) -> Episode {
    let holder = &look.parties()[root];
    Episode {
        holder: holder.session,
        who: holder.who.clone(),
        is_circle: false,
        family: None,
        transaction_started_at: None,
        from: look.at,
        to: look.at,
        seconds: 0.0,
        idle_seconds: 0.0,
        lost_seconds: 0.0,
        most_waiting: 0,
        depth: 0,
        waits: Vec::new(),
        further_seconds: 0.0,
        missed: 0,
    }
}

/// A look saw an episode.
fn seen(episode: &mut Episode, look: &Look, tree: &Tree, root: usize) {
    let holder = &look.parties()[root];
    let (waiting, depth) = tree.behind(root);
    episode.to = look.at;
    episode.seconds += look.seconds;
    episode.idle_seconds += if holder.is_idle { look.seconds } else { 0.0 };
    episode.is_circle |= tree.circles.iter().any(|circle| circle.contains(&root));
    episode.family = holder.family.or(episode.family);
    episode.transaction_started_at = holder.transaction_started_at.or(episode.transaction_started_at);
    episode.most_waiting = episode.most_waiting.max(waiting);
    episode.depth = episode.depth.max(depth);
    let going: HashMap<SessionKey, usize> = episode
        .waits
        .iter()
        .enumerate()
        .filter(|(_, wait)| wait.missed <= MISSED_LOOKS)
        .map(|(at, wait)| (wait.session, at))
        .collect();
    for (party, place) in look.parties().iter().zip(&tree.places) {
        let Some(place) = place.as_ref().filter(|place| place.roots.contains(&root)) else { continue };
        let lost = look.seconds / place.roots.len() as f64;
        episode.lost_seconds += lost;
        let known = going.get(&party.session).copied();
        let known = known.filter(|at| episode.waits[*at].is_of(party.session, party.family, party.awaited.as_ref()));
        let at = match known {
            Some(at) => at,
            None if episode.waits.len() < MOST_WAITS => {
                episode.waits.push(Wait {
                    session: party.session,
                    who: party.who.clone(),
                    family: party.family,
                    lock: party.awaited.clone(),
                    lane: party.session,
                    behind: None,
                    is_queued: false,
                    depth: 0,
                    from: look.at,
                    to: look.at,
                    lost_seconds: 0.0,
                    missed: 0,
                });
                episode.waits.len() - 1
            }
            None => {
                episode.further_seconds += lost;
                continue;
            }
        };
        let wait = &mut episode.waits[at];
        wait.to = look.at;
        wait.lost_seconds += lost;
        wait.lane = look.parties()[place.lane].session;
        wait.behind = place.behind.map(|behind| look.parties()[behind].session);
        (wait.is_queued, wait.depth) = (place.is_queued, place.depth);
    }
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{Party, lost_by};
    use super::*;

    fn party(process: i32, blocked_by: &[i32]) -> Party {
        let waits = !blocked_by.is_empty();
        let lock =
            AwaitedLock { mode: "ShareLock".into(), kind: "transactionid".into(), object: "public.berth".into() };
        Party {
            session: SessionKey { process, started_at: Timestamp(7) },
            who: Who { account: format!("a{process}"), ..Who::default() },
            is_idle: !waits,
            transaction_started_at: Some(Timestamp(9)),
            statement_started_at: Some(Timestamp(11)),
            family: waits.then_some(3),
            blocked_by: blocked_by.to_vec(),
            awaited: waits.then_some(lock),
        }
    }

    fn look(second: i64, parties: Vec<Party>) -> Look {
        Look::new(Timestamp(second * 1_000_000), 1.0, parties)
    }

    fn of(looks: impl IntoIterator<Item = Look>) -> Vec<Episode> {
        let mut episodes = Episodes::default();
        let mut over: Vec<Episode> = looks.into_iter().flat_map(|look| episodes.go_on(&look)).collect();
        over.extend(episodes.into_open());
        over
    }

    #[test]
    fn an_episode_goes_on_over_two_missed_looks_and_not_over_three() {
        let held = |second| look(second, vec![party(1, &[]), party(2, &[1])]);
        let missed = |second| look(second, vec![]);
        let one = of([held(0), missed(1), missed(2), held(3)]);
        assert_eq!((one.len(), one[0].lost_seconds, one[0].waits.len()), (1, 2.0, 1));
        assert_eq!((one[0].from, one[0].to), (Timestamp(0), Timestamp(3_000_000)));
        assert_eq!((one[0].seconds, one[0].idle_seconds), (2.0, 2.0));
        assert!(one[0].goes_on() && !one[0].is_brief());
        let two = of([held(0), missed(1), missed(2), missed(3), held(4)]);
        assert_eq!(
            two.iter().map(|episode| (episode.goes_on(), episode.is_brief())).collect::<Vec<_>>(),
            [(false, true), (true, false)]
        );
        assert_eq!(two.iter().map(|episode| episode.lost_seconds).collect::<Vec<_>>(), [1.0, 1.0]);
    }

    #[test]
    fn waits_are_told_one_by_one_with_whom_they_stand_behind() {
        let episodes = of([
            look(0, vec![party(1, &[]), party(2, &[1])]),
            look(1, vec![party(1, &[]), party(2, &[1]), party(3, &[2])]),
            look(2, vec![party(1, &[]), party(3, &[1])]),
        ]);
        let episode = &episodes[0];
        assert_eq!((episode.most_waiting, episode.depth, episode.lost_seconds), (2, 2, 4.0));
        let told: Vec<_> = episode
            .waits
            .iter()
            .map(|wait| (wait.session.process, wait.lane.process, wait.depth, wait.lost_seconds))
            .collect();
        assert_eq!(told, [(2, 1, 1, 2.0), (3, 1, 1, 2.0)], "as last seen");
        assert_eq!((episode.who.account.as_str(), episode.transaction_started_at), ("a1", Some(Timestamp(9))));
    }

    #[test]
    fn what_two_hold_up_is_lost_to_each_in_part() {
        let episodes = of([look(0, vec![party(1, &[]), party(2, &[]), party(3, &[1, 2])])]);
        assert_eq!(episodes.iter().map(|episode| episode.lost_seconds).collect::<Vec<_>>(), [0.5, 0.5]);
    }

    fn any_looks() -> impl Strategy<Value = Vec<Look>> {
        let parties = prop::collection::vec(prop::collection::vec(0i32..10, 0..3), 0..8);
        let made = |parties: Vec<Vec<i32>>| {
            parties.iter().enumerate().map(|(at, by)| party(at as i32, by)).collect::<Vec<_>>()
        };
        prop::collection::vec(parties, 1..12).prop_map(move |looks| {
            looks.into_iter().enumerate().map(|(second, parties)| look(second as i64, made(parties))).collect()
        })
    }

    proptest! {
        #[test]
        fn what_members_lost_is_what_was_lost(looks in any_looks()) {
            let waited: f64 = looks.iter().map(|look| Tree::of(look.parties()).places.iter().flatten().count() as f64).sum();
            let episodes = of(looks);
            let lost: f64 = episodes.iter().map(|episode| episode.lost_seconds).sum();
            prop_assert!((lost - waited).abs() < 1e-6, "{} of {}", lost, waited);
            let of_sessions: f64 = lost_by(&episodes, |_, wait| wait.session).iter().map(|lost| lost.seconds).sum();
            prop_assert!((of_sessions - lost).abs() < 1e-6);
            for episode in &episodes {
                let of_waits: f64 = episode.waits.iter().map(|wait| wait.lost_seconds).sum();
                prop_assert!((of_waits + episode.further_seconds - episode.lost_seconds).abs() < 1e-6);
                prop_assert!(episode.waits.iter().all(|wait| episode.from <= wait.from && wait.to <= episode.to));
            }
        }
    }
}
