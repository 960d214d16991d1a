//! What was read and is not written yet: it bridges the time when the repository is away.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use hurnix_core::activity::ActivitySample;
use hurnix_core::figures::{Figures, Tally};
use hurnix_core::pace::Cost;
use hurnix_core::statement::StatementText;
use tokio::sync::Notify;

use super::parcel::{Parcel, sample_bytes};
use crate::own_metrics::OwnMetrics;

/// Memory that all instances of the process share for what is not written yet.
#[derive(Debug)]
pub struct Memory {
    budget_bytes: usize,
    used_bytes: AtomicUsize,
    own_metrics: OwnMetrics,
}

impl Memory {
    /// As much as `budget_bytes`.
    pub fn new(budget_bytes: usize, own_metrics: OwnMetrics) -> Arc<Memory> {
        Arc::new(Memory { budget_bytes, used_bytes: AtomicUsize::new(0), own_metrics })
    }

    /// Bytes held just now.
    pub fn used_bytes(&self) -> usize {
        self.used_bytes.load(Ordering::Relaxed)
    }

    fn is_over(&self) -> bool {
        self.used_bytes() > self.budget_bytes
    }

    fn take(&self, bytes: usize) {
        self.own_metrics.note_waiting(self.used_bytes.fetch_add(bytes, Ordering::Relaxed) + bytes);
    }

    fn give_back(&self, bytes: usize) {
        self.own_metrics.note_waiting(self.used_bytes.fetch_sub(bytes, Ordering::Relaxed) - bytes);
    }
}

/// What one instance's reader passes to its writer.
///
/// When memory is short, the oldest goes first and is counted: a lost look at the sessions is lost; a
/// lost snapshot of counters only makes the next period longer, since counters go on counting.
#[derive(Debug)]
pub struct Outbox {
    memory: Arc<Memory>,
    queue: Mutex<Queue>,
    arrived: Notify,
}

#[derive(Debug, Default)]
struct Queue {
    samples: VecDeque<(usize, ActivitySample)>,
    parcels: VecDeque<(usize, Parcel)>,
    /// Texts of statements whose counters were dropped; they come but once.
    texts: Vec<StatementText>,
    tallies: [Tally; Figures::ALL.len()],
    /// What reading costs in a second, and the largest stretch.
    pace: Option<(Cost, f64)>,
    /// Statements whose plans are to be read: (family, statement).
    wanted_plans: Vec<(i64, String)>,
}

impl Queue {
    fn add(&mut self, figures: Figures, tally: &Tally) {
        let sum = &mut self.tallies[figures.position()];
        *sum = sum.plus(tally);
    }
}

/// A parcel that its writer holds; its memory counts until it is let go.
#[derive(Debug)]
pub struct Held {
    pub parcel: Parcel,
    bytes: usize,
    memory: Arc<Memory>,
}

impl Drop for Held {
    fn drop(&mut self) {
        self.memory.give_back(self.bytes);
    }
}

impl Outbox {
    /// Empty.
    pub fn new(memory: Arc<Memory>) -> Arc<Outbox> {
        Arc::new(Outbox { memory, queue: Mutex::default(), arrived: Notify::new() })
    }

    /// Adds one look at the sessions.
    pub fn push_sample(&self, sample: ActivitySample) {
        let bytes = sample_bytes(&sample);
        self.memory.take(bytes);
        let mut queue = self.queue();
        queue.samples.push_back((bytes, sample));
        self.make_room(queue);
    }

    /// Adds anything else.
    pub fn push(&self, parcel: Parcel) {
        let bytes = parcel.bytes();
        self.memory.take(bytes);
        let mut queue = self.queue();
        queue.parcels.push_back((bytes, parcel));
        self.make_room(queue);
    }

    fn make_room(&self, mut queue: MutexGuard<Queue>) {
        while self.memory.is_over() && queue.samples.len() + queue.parcels.len() > 1 {
            let bytes = match (queue.samples.len() > 1).then(|| queue.samples.pop_front()).flatten() {
                Some((bytes, _)) => {
                    self.drop_one(&mut queue, Figures::Activity);
                    bytes
                }
                None => match queue.parcels.pop_front() {
                    Some((bytes, parcel)) => {
                        if let Some(figures) = parcel.figures() {
                            self.drop_one(&mut queue, figures);
                        }
                        if let Parcel::Counters(reading, _) = parcel {
                            queue.texts.extend(reading.texts);
                        }
                        bytes
                    }
                    None => break,
                },
            };
            self.memory.give_back(bytes);
        }
        drop(queue);
        self.arrived.notify_one();
    }

    fn drop_one(&self, queue: &mut Queue, figures: Figures) {
        let one = Tally { dropped: 1, ..Tally::default() };
        self.memory.own_metrics.count(figures, &one);
        queue.add(figures, &one);
    }

    /// The next parcel: looks at the sessions together once `samples_due` has come, else the oldest of
    /// the others. Cancel-safe: what is not returned stays.
    pub async fn next(&self, samples_due: Instant) -> Held {
        loop {
            if let Some(held) = self.try_next(Instant::now() >= samples_due) {
                return held;
            }
            tokio::select! {
                () = self.arrived.notified() => {}
                () = tokio::time::sleep_until(samples_due.into()), if Instant::now() < samples_due => {}
            }
        }
    }

    /// The next parcel, if there is one.
    pub fn try_next(&self, with_samples: bool) -> Option<Held> {
        let mut queue = self.queue();
        let (bytes, parcel) = if with_samples && !queue.samples.is_empty() {
            let bytes = queue.samples.iter().map(|(bytes, _)| bytes).sum();
            (bytes, Parcel::Activity(queue.samples.drain(..).map(|(_, sample)| sample).collect()))
        } else {
            let (bytes, mut parcel) = queue.parcels.pop_front()?;
            if let Parcel::Counters(reading, _) = &mut parcel
                && reading.counters.figures() == Figures::Statements
            {
                reading.texts.append(&mut queue.texts);
            }
            (bytes, parcel)
        };
        Some(Held { parcel, bytes, memory: self.memory.clone() })
    }

    /// Notes how reading or writing of a kind went.
    pub fn tally(&self, figures: Figures, tally: Tally) {
        self.memory.own_metrics.count(figures, &tally);
        self.queue().add(figures, &tally);
    }

    /// Gives back tallies that could not be written, for the next time.
    pub fn give_back_tallies(&self, tallies: Vec<(Figures, Tally)>) {
        let mut queue = self.queue();
        tallies.iter().for_each(|(figures, tally)| queue.add(*figures, tally));
    }

    /// Takes the tallies since the last time.
    pub fn take_tallies(&self) -> Vec<(Figures, Tally)> {
        let tallies = std::mem::take(&mut self.queue().tallies);
        let all = Figures::ALL.into_iter().zip(tallies);
        all.filter(|(_, tally)| *tally != Tally::default()).collect()
    }

    /// Notes what reading costs in a second, and by how much intervals are stretched at most.
    pub fn note_pace(&self, cost: Cost, stretch: f64) {
        self.queue().pace = Some((cost, stretch));
    }

    /// Takes what was last noted of that.
    pub fn take_pace(&self) -> Option<(Cost, f64)> {
        self.queue().pace.take()
    }

    /// The other way: says which plans are to be read next, as (family, statement).
    pub fn want_plans(&self, wanted: Vec<(i64, String)>) {
        self.queue().wanted_plans = wanted;
    }

    /// Takes what was last said of that.
    pub fn take_wanted_plans(&self) -> Vec<(i64, String)> {
        std::mem::take(&mut self.queue().wanted_plans)
    }

    fn queue(&self) -> MutexGuard<'_, Queue> {
        // Nothing panics while it holds the lock; if it did, the queue would still be whole.
        self.queue.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use hurnix_core::At;
    use hurnix_core::counters::StatementCounters;
    use hurnix_core::difference::Snapshot;
    use hurnix_core::statement::StatementKey;
    use hurnix_source::CountersReading;

    use super::*;

    fn sample(at: i64) -> ActivitySample {
        ActivitySample { at: At(at), sessions: 1, active: Vec::new() }
    }

    fn statements(at: i64, text: &str) -> Parcel {
        let key = StatementKey { database_oid: 1, account_oid: 1, query_id: at, top_level: true };
        let text = StatementText { key, text: text.into(), account: String::new(), database: String::new() };
        let snapshot: Snapshot<StatementKey, StatementCounters> = Snapshot::new(At(at), At(0), Vec::new());
        Parcel::Counters(CountersReading { counters: snapshot.into(), texts: vec![text] }, Duration::ZERO)
    }

    #[test]
    fn looks_wait_until_they_are_due_and_come_together() {
        let outbox = Outbox::new(Memory::new(1 << 20, OwnMetrics::new()));
        outbox.push_sample(sample(1));
        outbox.push_sample(sample(2));
        assert!(outbox.try_next(false).is_none());
        let held = outbox.try_next(true).unwrap();
        assert!(matches!(&held.parcel, Parcel::Activity(samples) if samples.len() == 2));
        assert!(outbox.memory.used_bytes() > 0, "what is in somebody's hand counts");
        drop(held);
        assert_eq!(outbox.memory.used_bytes(), 0);
    }

    #[test]
    fn the_oldest_goes_first_when_memory_is_short_and_is_counted() {
        let outbox = Outbox::new(Memory::new(3 * sample_bytes(&sample(0)), OwnMetrics::new()));
        (0..10).for_each(|at| outbox.push_sample(sample(at)));
        assert_eq!(outbox.take_tallies(), [(Figures::Activity, Tally { dropped: 7, ..Default::default() })]);
        let held = outbox.try_next(true).unwrap();
        let Parcel::Activity(samples) = &held.parcel else { panic!("{held:?}") };
        assert_eq!(samples.iter().map(|sample| sample.at.0).collect::<Vec<_>>(), [7, 8, 9]);
        assert_eq!(outbox.take_tallies(), []);
    }

    #[test]
    fn texts_outlive_the_counters_they_came_with() {
        let outbox = Outbox::new(Memory::new(1, OwnMetrics::new()));
        outbox.push(statements(1, "select one"));
        outbox.push(statements(2, "select two"));
        let held = outbox.try_next(false).unwrap();
        let Parcel::Counters(reading, _) = &held.parcel else { panic!("{held:?}") };
        let texts: Vec<&str> = reading.texts.iter().map(|text| text.text.as_str()).collect();
        assert_eq!((reading.counters.at(), texts), (At(2), vec!["select two", "select one"]));
    }
}
