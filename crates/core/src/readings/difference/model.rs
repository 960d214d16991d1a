//! A model of a server that counts, loses counts and moves them about in every way that real ones do, and knows what
//! truly happened.

use std::collections::BTreeMap;

use proptest::prelude::*;

use super::*;
use crate::readings::counters::TableCounters;

/// How the model server keeps its counters.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Keeping {
    /// Objects with names; whoever takes a name over may take the counts along.
    Named,
    /// Objects that only their key tells.
    Plain,
    /// A bounded list that tells when it began to count each entry.
    BoundedWithBegin,
    /// A bounded list that tells the largest figure of each entry.
    BoundedWithLargest,
    /// The same, but does not tell when it throws entries out.
    BoundedUntold,
}

#[derive(Debug, Clone)]
enum Step {
    Work {
        object: usize,
        part: usize,
        amount: i64,
    },
    Look,
    AddPart(usize),
    DropPart(usize),
    Make,
    /// One is dropped and made again under its name.
    MakeAgain(usize),
    Drop(usize),
    /// A new object takes the place, the name and the counts of one; the counts at once or with the next `Settle`.
    TakeOver {
        object: usize,
        at_once: bool,
    },
    Settle,
    Evict(usize),
    ResetAll,
    ResetOne(usize),
    Crash,
    Restart,
}

#[derive(Debug, Clone)]
struct Object {
    key: u32,
    name: i64,
    own: (i64, i64),
    parts: Vec<i64>,
    began: Timestamp,
    largest: i64,
    /// What it is to take over.
    inherits: Option<Inherited>,
}

/// What one object has from another that it takes the place of.
#[derive(Debug, Clone)]
struct Inherited {
    own: (i64, i64),
    parts: Vec<i64>,
    /// The part of it that no look has shown yet.
    unseen: TableCounters,
}

struct Model {
    keeping: Keeping,
    now: i64,
    started: Timestamp,
    crashed: Timestamp,
    reset: Timestamp,
    evictions: i64,
    next: u32,
    objects: Vec<Object>,
    /// What every object truly did, also those that are gone.
    truth: BTreeMap<u32, TableCounters>,
    /// What all of them together did.
    all: TableCounters,
    /// What every object had done at the last look.
    looked: BTreeMap<u32, TableCounters>,
}

impl Model {
    fn new(keeping: Keeping) -> Model {
        let objects = Vec::new();
        let [started, crashed, reset] = [Timestamp(0); 3];
        let (truth, looked, all) = (BTreeMap::new(), BTreeMap::new(), TableCounters::default());
        let mut model =
            Model { keeping, now: 1, started, crashed, reset, evictions: 0, next: 1, objects, truth, all, looked };
        (0..3).for_each(|_| model.make(None));
        model
    }

    fn is_bounded(&self) -> bool {
        !matches!(self.keeping, Keeping::Named | Keeping::Plain)
    }

    fn make(&mut self, name: Option<i64>) {
        let key = self.next;
        self.next += 1;
        let name = name.unwrap_or(i64::from(key));
        let (began, parts) = (Timestamp(self.now), vec![0]);
        self.objects.push(Object { key, name, own: (0, 0), parts, began, largest: 0, inherits: None });
    }

    fn clear(&mut self, object: usize) {
        let began = Timestamp(self.now);
        let object = &mut self.objects[object];
        (object.own, object.began, object.largest, object.inherits) = ((0, 0), began, 0, None);
        object.parts.iter_mut().for_each(|part| *part = 0);
    }

    fn do_step(&mut self, step: &Step) {
        self.now += 10;
        let among = self.objects.len().max(1);
        let any = |object: usize| object % among;
        match *step {
            Step::Look => {}
            Step::Make => self.make(None),
            _ if self.objects.is_empty() => {}
            Step::Work { object, part, amount } => {
                let object = any(object);
                let object = &mut self.objects[object];
                let mut did = TableCounters { full_reads: 1, inserted_rows: amount, ..Default::default() };
                if object.own.0 == 0 {
                    object.began = Timestamp(self.now);
                }
                (object.own.0, object.own.1) = (object.own.0 + 1, object.own.1 + amount);
                // No two calls take equally long.
                object.largest = object.largest.max(amount * 1_000_000 + self.now);
                if !object.parts.is_empty() {
                    let part = part % object.parts.len();
                    object.parts[part] += amount;
                    did.index_reads = amount;
                }
                let truth = self.truth.entry(object.key).or_default();
                (*truth, self.all) = (truth.plus(&did), self.all.plus(&did));
            }
            Step::AddPart(object) => {
                let object = any(object);
                self.objects[object].parts.push(0);
            }
            // Only sums of others can lose a part.
            Step::DropPart(_) if self.keeping != Keeping::Plain => {}
            Step::DropPart(object) => {
                let object = any(object);
                self.objects[object].parts.pop();
            }
            Step::Drop(object) => {
                let object = any(object);
                self.objects.remove(object);
            }
            Step::MakeAgain(object) => {
                self.settle();
                let old = self.objects.remove(any(object));
                self.make(Some(old.name));
            }
            Step::TakeOver { object, at_once } if self.keeping == Keeping::Named => {
                // One after the other, and each is shown before the next.
                self.settle();
                let old = self.objects.remove(any(object));
                self.make(Some(old.name));
                // What the old one did since the last look is told of the new one.
                let then = self.looked.get(&old.key).copied().unwrap_or_default();
                let did = self.truth.get(&old.key).copied().unwrap_or_default().grown_since(&then);
                if let (Some(new), Some(did)) = (self.objects.last_mut(), did) {
                    new.parts = vec![0; old.parts.len()];
                    new.inherits = Some(Inherited { own: old.own, parts: old.parts, unseen: did });
                    self.truth.insert(new.key, did);
                }
                if at_once {
                    self.settle();
                }
            }
            Step::TakeOver { .. } => {}
            Step::Settle => self.settle(),
            Step::Evict(object) if self.is_bounded() => {
                let object = any(object);
                self.clear(object);
                self.evictions += 1;
            }
            Step::Evict(_) => {}
            Step::ResetAll => {
                (0..self.objects.len()).for_each(|object| self.clear(object));
                self.reset = Timestamp(self.now);
            }
            Step::ResetOne(object) => {
                let object = any(object);
                self.settle();
                self.clear(object);
                if !self.is_bounded() {
                    self.reset = Timestamp(self.now);
                }
            }
            Step::Crash => {
                (0..self.objects.len()).for_each(|object| self.clear(object));
                self.crashed = Timestamp(self.now);
            }
            Step::Restart => self.started = Timestamp(self.now),
        }
    }

    fn settle(&mut self) {
        for object in &mut self.objects {
            if let Some(Inherited { own, parts, .. }) = object.inherits.take() {
                (object.own.0, object.own.1) = (object.own.0 + own.0, object.own.1 + own.1);
                object.parts.iter_mut().zip(parts).for_each(|(part, inherited)| *part += inherited);
            }
        }
    }

    fn look(&mut self) -> Snapshot<u32, TableCounters> {
        self.now += 1;
        self.looked = self.truth.clone();
        for object in &self.objects {
            if let Some(inherited) = &object.inherits {
                let seen = self.looked[&object.key].grown_since(&inherited.unseen);
                self.looked.insert(object.key, seen.unwrap_or_default());
            }
        }
        // A list that is filled by use has no entry for what was not used since.
        let seen: Vec<&Object> = self.objects.iter().filter(|object| !self.is_bounded() || object.own.0 > 0).collect();
        let row = |object: &&Object| {
            let index_reads = object.parts.iter().sum();
            let (full_reads, inserted_rows) = object.own;
            (object.key, TableCounters { full_reads, inserted_rows, index_reads, ..Default::default() })
        };
        let trace = |object: &&Object| match self.keeping {
            Keeping::Named => Some(Trace::Name(object.name)),
            Keeping::BoundedWithBegin => Some(Trace::Began(object.began)),
            Keeping::BoundedWithLargest | Keeping::BoundedUntold => Some(Trace::Largest(object.largest)),
            Keeping::Plain => None,
        };
        Snapshot {
            crashed_at: Some(self.crashed),
            reset_at: Some(self.reset),
            evictions: match self.keeping {
                Keeping::Named | Keeping::Plain => Evictions::Never,
                Keeping::BoundedUntold => Evictions::Untold,
                _ => Evictions::Times(self.evictions),
            },
            traces: seen.iter().filter_map(trace).collect(),
            ..Snapshot::new(Timestamp(self.now), self.started, seen.iter().map(row).collect())
        }
    }
}

fn step() -> impl Strategy<Value = Step> {
    let object = || 0usize..8;
    prop_oneof![
        12 => (object(), 0usize..3, 1i64..50).prop_map(|(object, part, amount)| Step::Work { object, part, amount }),
        6 => Just(Step::Look),
        1 => object().prop_map(Step::AddPart),
        1 => object().prop_map(Step::DropPart),
        1 => Just(Step::Make),
        1 => object().prop_map(Step::MakeAgain),
        1 => object().prop_map(Step::Drop),
        2 => (object(), any::<bool>()).prop_map(|(object, at_once)| Step::TakeOver { object, at_once }),
        2 => Just(Step::Settle),
        2 => object().prop_map(Step::Evict),
        1 => Just(Step::ResetAll),
        1 => object().prop_map(Step::ResetOne),
        1 => Just(Step::Crash),
        1 => Just(Step::Restart),
    ]
}

fn keeping() -> impl Strategy<Value = Keeping> {
    proptest::sample::select(vec![
        Keeping::Named,
        Keeping::Plain,
        Keeping::BoundedWithBegin,
        Keeping::BoundedWithLargest,
        Keeping::BoundedUntold,
    ])
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(2000))]

    #[test]
    fn no_difference_ever_exceeds_what_truly_happened(
        keeping in keeping(),
        steps in proptest::collection::vec(step(), 1..80),
    ) {
        let mut model = Model::new(keeping);
        let mut last = model.look();
        let mut truth = model.looked.clone();
        // What shows late, and under a key that may be gone again, is held against all that happened so far.
        let shows_late = steps.iter().any(|step| matches!(step, Step::TakeOver { at_once: false, .. }));
        let mut so_far = TableCounters::default();
        for step in steps.iter().chain([&Step::Look]) {
            model.do_step(step);
            if !matches!(step, Step::Look) {
                continue;
            }
            let look = model.look();
            if let Ok(difference) = between(&last, &look, 1e9) {
                for Grown { key, by, .. } in difference.rows {
                    prop_assert!(by.values().iter().all(|value| *value >= 0));
                    so_far = so_far.plus(&by);
                    let then = truth.get(&key).copied().unwrap_or_default();
                    let whole = model.truth.get(&key).copied().unwrap_or_default();
                    let happened = whole.grown_since(&then).expect("what happened only grows");
                    let (found, true_one) = if shows_late { (so_far, model.all) } else { (by, happened) };
                    prop_assert!(
                        true_one.grown_since(&found).is_some(),
                        "{key}: {found:?} of {true_one:?}, from {last:?} to {look:?}"
                    );
                }
            }
            last = followed(&last, look);
            truth = model.looked.clone();
        }
    }

    /// What is not marked a lower bound is all that happened, down to the unit.
    #[test]
    fn what_is_not_marked_is_the_truth(
        keeping in keeping(),
        steps in proptest::collection::vec(step(), 1..80),
    ) {
        let mut model = Model::new(keeping);
        let mut last = model.look();
        let mut truth = model.looked.clone();
        let mut disturbed = false;
        for step in steps.iter().chain([&Step::Look]) {
            model.do_step(step);
            // An index that went takes unseen reads along where others outweigh it, and one entry can be reset or a
            // whole object replaced in ways that no server tells.
            disturbed |= matches!(step, Step::DropPart(_) | Step::ResetOne(_) | Step::TakeOver { .. } | Step::Settle);
            if !matches!(step, Step::Look) {
                continue;
            }
            let look = model.look();
            if let Ok(difference) = between(&last, &look, 1e9) && !disturbed {
                let then = |key: &u32| truth.get(key).copied().unwrap_or_default();
                for (key, _) in &look.rows {
                    let happened = model.truth.get(key).copied().unwrap_or_default().grown_since(&then(key));
                    let grown = difference.rows.iter().find(|row| row.key == *key);
                    if !grown.is_some_and(|row| row.lower_bound) {
                        prop_assert_eq!(grown.map(|row| row.by).unwrap_or_default(), happened.expect("it only grows"));
                    }
                }
            }
            last = followed(&last, look);
            truth = model.looked.clone();
        }
    }
}
