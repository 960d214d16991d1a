use super::{Alarm, Consequence, Patience, Sign, Trouble, one_of_each};
use crate::time::Timestamp;

/// What a look at an instance showed.
#[derive(Debug, Clone)]
pub struct Looked<'a> {
    /// When.
    pub at: Timestamp,
    /// Troubles that were looked for.
    pub looked_for: &'a [Trouble],
    /// What was seen; of these troubles only.
    pub signs: Vec<Sign>,
}

/// An alarm that is kept, or a new one.
#[derive(Debug, Clone, PartialEq)]
pub struct Followed {
    /// Number of a kept one.
    pub alarm_id: Option<i64>,
    /// The alarm.
    pub alarm: Alarm,
}

impl Followed {
    fn is_of(&self, sign: &Sign) -> bool {
        self.alarm.sign.is_of(sign.trouble, &sign.object)
    }
}

/// Goes on with the alarms of an instance after a look: those open, and those closed that may be opened again, the newest
/// of a thing last. Every sign is part of exactly one open alarm afterwards.
///
/// A sign that another trouble explains which was seen in the same look, or whose alarm is open, is a consequence of that
/// one. An open alarm of what is now known to be a consequence becomes that of the cause, also where nobody looked for
/// the consequence this time. Linear in signs times alarms.
pub fn follow(known: Vec<Followed>, looked: Looked, patience: &Patience) -> Vec<Followed> {
    let Looked { at, looked_for, signs } = looked;
    let signs = one_of_each(signs);
    let mut all = known;
    let is_seen = |alarm: &Alarm| signs.iter().any(|sign| sign.is_of(alarm.sign.trouble, &alarm.sign.object));
    for followed in &mut all {
        if looked_for.contains(&followed.alarm.sign.trouble) && !is_seen(&followed.alarm) {
            followed.alarm.missed(at, patience);
        }
    }
    // What stands: seen now, or of an alarm that nobody looked for now.
    let others: Vec<Sign> = all
        .iter()
        .filter(|followed| followed.alarm.is_open() && !looked_for.contains(&followed.alarm.sign.trouble))
        .map(|followed| followed.alarm.sign.clone())
        .collect();
    let stands: Vec<Sign> = signs.iter().chain(&others).cloned().collect();
    // The first cause in the order of troubles: it is not a consequence itself, or of one that comes earlier still.
    let cause_of = |sign: &Sign| stands.iter().filter(|cause| cause.explains(sign)).min_by_key(|cause| cause.trouble);
    let (roots, consequences): (Vec<Sign>, Vec<Sign>) = signs.into_iter().partition(|sign| cause_of(sign).is_none());
    let root_of = |sign: &Sign| {
        let mut root = sign;
        while let Some(cause) = cause_of(root) {
            root = cause;
        }
        (root.trouble, root.object.clone())
    };
    let consequences = consequences.into_iter().map(|sign| (root_of(&sign), sign));
    let is_seen_now = |(trouble, object): &(Trouble, String)| roots.iter().any(|sign| sign.is_of(*trouble, object));
    let others = others.into_iter().map(|sign| (root_of(&sign), sign)).filter(|(root, _)| is_seen_now(root));
    let of_root: Vec<((Trouble, String), Sign)> = consequences.chain(others).collect();
    for sign in roots {
        if let Some(open) = all.iter_mut().find(|followed| followed.alarm.is_open() && followed.is_of(&sign)) {
            open.alarm.seen(sign, at);
            continue;
        }
        let may_reopen = |followed: &&mut Followed| {
            let closed_at = followed.alarm.closed_at;
            followed.is_of(&sign)
                && closed_at.is_some_and(|closed| at.seconds_since(closed) <= patience.reopens_within_seconds)
        };
        if let Some(closed) = all.iter_mut().rev().find(may_reopen) {
            closed.alarm.seen(sign, at);
            continue;
        }
        let comes_of_it = |followed: &Followed| {
            of_root.iter().any(|(root, consequence)| sign.is_of(root.0, &root.1) && followed.is_of(consequence))
        };
        match all.iter_mut().find(|followed| followed.alarm.is_open() && comes_of_it(followed)) {
            Some(told_as) => told_as.alarm.recognised(sign, at),
            None => all.push(Followed { alarm_id: None, alarm: Alarm::opened(sign, at) }),
        }
    }
    for followed in all.iter_mut().filter(|followed| followed.alarm.is_open()) {
        let (trouble, object) = (followed.alarm.sign.trouble, followed.alarm.sign.object.clone());
        let mine = of_root.iter().filter(|(root, _)| *root == (trouble, object.clone()));
        let seen = mine.map(|(_, sign)| Consequence {
            trouble: sign.trouble,
            object: sign.object.clone(),
            verdict: sign.verdict,
            text: sign.text.clone(),
        });
        followed.alarm.with_consequences(seen.collect(), looked_for, at);
    }
    // What was told on its own and is a consequence by now is told there.
    for followed in all.iter_mut().filter(|followed| followed.alarm.is_open()) {
        if of_root.iter().any(|(_, sign)| followed.is_of(sign)) {
            followed.alarm.missed_since.get_or_insert(at);
            followed.alarm.missed(at, &Patience { closes_after_seconds: 0.0, ..*patience });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::super::{Handled, Happening};
    use super::*;
    use crate::findings::health::Health;

    const PATIENCE: Patience = Patience { closes_after_seconds: 300.0, reopens_within_seconds: 3600.0 };
    const ALL: [Trouble; 4] = [Trouble::HoldUp, Trouble::LockWaits, Trouble::Unusual, Trouble::Volume];

    fn at(seconds: i64) -> Timestamp {
        Timestamp(seconds * 1_000_000)
    }

    fn sign(trouble: Trouble, object: &str) -> Sign {
        Sign::new(trouble, object, Health::Look, format!("{trouble:?} of {object}."))
    }

    fn look(known: Vec<Followed>, seconds: i64, signs: Vec<Sign>) -> Vec<Followed> {
        follow(known, Looked { at: at(seconds), looked_for: &ALL, signs }, &PATIENCE)
    }

    fn open(all: &[Followed]) -> Vec<Trouble> {
        all.iter().filter(|followed| followed.alarm.is_open()).map(|followed| followed.alarm.sign.trouble).collect()
    }

    #[test]
    fn one_trouble_is_one_alarm_with_its_consequences() {
        let hold_up = || sign(Trouble::HoldUp, "desk");
        let all = look(Vec::new(), 0, vec![sign(Trouble::Unusual, "lock"), hold_up(), sign(Trouble::Volume, "/data")]);
        assert_eq!(open(&all), [Trouble::HoldUp, Trouble::Volume]);
        assert_eq!(all[0].alarm.consequences.len(), 1);
    }

    #[test]
    fn what_was_told_as_a_consequence_first_becomes_the_alarm_of_its_cause() {
        let all = look(Vec::new(), 0, vec![sign(Trouble::LockWaits, "")]);
        let all = look(all, 60, vec![sign(Trouble::LockWaits, ""), sign(Trouble::HoldUp, "desk")]);
        assert_eq!((all.len(), open(&all)), (1, vec![Trouble::HoldUp]));
        assert!(all[0].alarm.story.iter().any(|entry| entry.what == Happening::Recognised));
        let all = look(all, 120, vec![sign(Trouble::LockWaits, "")]);
        assert_eq!(open(&all), [Trouble::HoldUp, Trouble::LockWaits], "what is left is a trouble of its own");
        let all = look(all, 500, vec![sign(Trouble::LockWaits, "")]);
        let all = look(all, 600, vec![sign(Trouble::LockWaits, ""), sign(Trouble::HoldUp, "desk")]);
        assert_eq!((all.len(), open(&all)), (2, vec![Trouble::HoldUp]), "it is the alarm that it was before");
    }

    #[test]
    fn what_is_about_other_statements_is_another_trouble() {
        let about = |trouble, object: &str, family| Sign { families: vec![family], ..sign(trouble, object) };
        let slow = || about(Trouble::SlowStatement, "7", 7);
        let all = look(Vec::new(), 0, vec![slow(), about(Trouble::MissingIndex, "crossing (state)", 8)]);
        assert_eq!(open(&all), [Trouble::SlowStatement, Trouble::MissingIndex]);
        let all = look(Vec::new(), 0, vec![slow(), about(Trouble::MissingIndex, "crossing (state)", 7)]);
        assert_eq!(open(&all), [Trouble::SlowStatement]);
    }

    #[test]
    fn a_cause_that_a_look_at_less_shows_takes_the_alarm_of_its_consequences() {
        let all = look(Vec::new(), 0, vec![sign(Trouble::LockWaits, ""), sign(Trouble::Volume, "/data")]);
        let quick = |seconds| Looked {
            at: at(seconds),
            looked_for: &[Trouble::HoldUp],
            signs: vec![sign(Trouble::HoldUp, "desk")],
        };
        let all = follow(all, quick(60), &PATIENCE);
        assert_eq!((all.len(), open(&all)), (2, vec![Trouble::HoldUp, Trouble::Volume]));
        let again = follow(all, quick(120), &PATIENCE);
        assert_eq!(again[0].alarm.consequences.len(), 1, "it is told once");
        assert_eq!(again[0].alarm.consequences[0].trouble, Trouble::LockWaits);
    }

    #[test]
    fn nobody_looked_is_not_gone() {
        let all = look(Vec::new(), 0, vec![sign(Trouble::Volume, "/data")]);
        let partly = Looked { at: at(9_000), looked_for: &[Trouble::HoldUp], signs: Vec::new() };
        let all = follow(all, partly, &PATIENCE);
        assert_eq!(open(&all), [Trouble::Volume]);
        let all = look(look(all, 9_060, Vec::new()), 9_400, Vec::new());
        assert_eq!(open(&all), []);
        let all = look(all, 9_500, vec![sign(Trouble::Volume, "/data")]);
        assert_eq!((all.len(), open(&all)), (1, vec![Trouble::Volume]), "it is the same one again");
        let all = look(look(all, 9_600, Vec::new()), 10_000, Vec::new());
        assert_eq!(look(all, 20_000, vec![sign(Trouble::Volume, "/data")]).len(), 2, "much later it is another");
    }

    #[derive(Debug, Clone)]
    enum Step {
        Look { looked_for: Vec<Trouble>, seen: Vec<(usize, bool)> },
        Elsewhere,
        Handle(u8),
        Restart,
    }

    fn steps() -> impl Strategy<Value = Vec<(i64, Step)>> {
        let seen = prop::collection::vec((0..ALL.len(), any::<bool>()), 0..4);
        let step = prop_oneof![
            4 => (prop::sample::subsequence(ALL.to_vec(), 1..=ALL.len()), seen)
                .prop_map(|(looked_for, seen)| Step::Look { looked_for, seen }),
            1 => Just(Step::Elsewhere),
            1 => (0u8..4).prop_map(Step::Handle),
            1 => Just(Step::Restart),
        ];
        prop::collection::vec((1i64..900, step), 1..60)
    }

    proptest! {
        #[test]
        fn an_alarm_is_never_lost_never_doubled_and_never_closed_while_its_cause_stands(steps in steps()) {
            let mut all: Vec<Followed> = Vec::new();
            let mut now = 0;
            for (seconds, step) in steps {
                now += seconds;
                match step {
                    Step::Look { looked_for, seen } => {
                        let verdict = |is_act| if is_act { Health::Act } else { Health::Look };
                        let seen = seen.iter().map(|(which, act)| (ALL[*which], verdict(*act)));
                        let signs: Vec<Sign> = seen
                            .filter(|(trouble, _)| looked_for.contains(trouble))
                            .map(|(trouble, verdict)| Sign { verdict, ..sign(trouble, "a") })
                            .collect();
                        let before = all.clone();
                        let looked = Looked { at: at(now), looked_for: &looked_for, signs: signs.clone() };
                        all = follow(all, looked, &PATIENCE);
                        for sign in &signs {
                            let holding = all.iter().filter(|followed| {
                                let alarm = &followed.alarm;
                                let has = alarm.consequences.iter().any(|of| (of.trouble, of.object.as_str()) == (sign.trouble, "a"));
                                alarm.is_open() && (followed.is_of(sign) || has)
                            });
                            prop_assert_eq!(holding.count(), 1, "{:?} of {:?}", sign, all);
                        }
                        for (was, is) in before.iter().zip(&all) {
                            let is_told_elsewhere = all.iter().any(|other| {
                                let has = |of: &Consequence| was.alarm.sign.is_of(of.trouble, &of.object);
                                other.alarm.is_open() && other.alarm.consequences.iter().any(has)
                            });
                            if was.alarm.is_open() && !is.alarm.is_open() && !is_told_elsewhere {
                                let missed = was.alarm.missed_since.expect("one look more than the first is needed");
                                prop_assert!(at(now).seconds_since(missed) >= PATIENCE.closes_after_seconds);
                            }
                        }
                    }
                    Step::Elsewhere => {
                        let before = open(&all);
                        all = follow(all, Looked { at: at(now), looked_for: &[Trouble::Clock], signs: Vec::new() }, &PATIENCE);
                        prop_assert_eq!(open(&all), before);
                    }
                    Step::Handle(what) => {
                        let before = open(&all);
                        if let Some(followed) = all.last_mut() {
                            let handled = match what {
                                0 => Handled::Acknowledge(true),
                                1 => Handled::Assign(Some("ada".into())),
                                2 => Handled::Snooze(Some(at(now + 500))),
                                _ => Handled::Comment("seen".into()),
                            };
                            let _ = followed.alarm.handle(handled, "ada", at(now));
                        }
                        prop_assert_eq!(open(&all), before, "what people do closes nothing");
                    }
                    Step::Restart => {
                        let kept: Vec<Followed> = all
                            .iter()
                            .map(|followed| {
                                let text = serde_json::to_string(&followed.alarm).unwrap();
                                Followed { alarm_id: Some(1), alarm: serde_json::from_str(&text).unwrap() }
                            })
                            .collect();
                        prop_assert_eq!(open(&kept), open(&all));
                        all = kept;
                    }
                }
                let mut keys: Vec<(Trouble, &str)> = all
                    .iter()
                    .filter(|followed| followed.alarm.is_open())
                    .map(|followed| (followed.alarm.sign.trouble, followed.alarm.sign.object.as_str()))
                    .collect();
                let count = keys.len();
                keys.sort_unstable();
                keys.dedup();
                prop_assert_eq!(keys.len(), count, "two open alarms of one trouble");
            }
        }
    }
}
