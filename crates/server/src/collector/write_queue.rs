//! What was read and is not written yet: it bridges the time when the repository is away.

use std::collections::VecDeque;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::time::Instant;

use hurnix_core::keeping::pace::Cost;
use hurnix_core::readings::activity::ActivitySample;
use hurnix_core::readings::figures::{Figures, Tally};
use hurnix_core::readings::statement::StatementText;
use tokio::sync::Notify;

use super::queued_write::{QueuedWrite, sample_bytes};
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
pub struct WriteQueue {
    memory: Arc<Memory>,
    queue: Mutex<Queue>,
    arrived: Notify,
}

#[derive(Debug, Default)]
struct Queue {
    samples: VecDeque<(usize, ActivitySample)>,
    writes: VecDeque<(usize, QueuedWrite)>,
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

/// A queued that its writer holds; its memory counts until it is let go.
#[derive(Debug)]
pub struct Held {
    pub queued: QueuedWrite,
    bytes: usize,
    memory: Arc<Memory>,
}

impl Drop for Held {
    fn drop(&mut self) {
        self.memory.give_back(self.bytes);
    }
}

impl WriteQueue {
    /// Empty.
    pub fn new(memory: Arc<Memory>) -> Arc<WriteQueue> {
        Arc::new(WriteQueue { memory, queue: Mutex::default(), arrived: Notify::new() })
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
    pub fn push(&self, queued: QueuedWrite) {
        let bytes = queued.bytes();
        self.memory.take(bytes);
        let mut queue = self.queue();
        queue.writes.push_back((bytes, queued));
        self.make_room(queue);
    }

    fn make_room(&self, mut queue: MutexGuard<Queue>) {
        while self.memory.is_over() && queue.samples.len() + queue.writes.len() > 1 {
            let bytes = match (queue.samples.len() > 1).then(|| queue.samples.pop_front()).flatten() {
                Some((bytes, _)) => {
                    self.drop_one(&mut queue, Figures::Activity);
                    bytes
                }
                None => match queue.writes.pop_front() {
                    Some((bytes, queued)) => {
                        if let Some(figures) = queued.figures() {
                            self.drop_one(&mut queue, figures);
                        }
                        if let QueuedWrite::Counters(reading, _) = queued {
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

    /// The next queued: looks at the sessions together once `samples_due` has come, else the oldest of
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

    /// The next queued, if there is one.
    pub fn try_next(&self, with_samples: bool) -> Option<Held> {
        let mut queue = self.queue();
        let (bytes, queued) = if with_samples && !queue.samples.is_empty() {
            let bytes = queue.samples.iter().map(|(bytes, _)| bytes).sum();
            (bytes, QueuedWrite::Activity(queue.samples.drain(..).map(|(_, sample)| sample).collect()))
        } else {
            let (bytes, mut queued) = queue.writes.pop_front()?;
            if let QueuedWrite::Counters(reading, _) = &mut queued
                && reading.counters.figures() == Figures::Statements
            {
                reading.texts.append(&mut queue.texts);
            }
            (bytes, queued)
        };
        Some(Held { queued, bytes, memory: self.memory.clone() })
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

    use hurnix_core::Timestamp;
    use hurnix_core::readings::counters::StatementCounters;
    use hurnix_core::readings::difference::Snapshot;
    use hurnix_core::readings::statement::StatementKey;
    use hurnix_source::CountersReading;

    use super::*;

    fn sample(at: i64) -> ActivitySample {
        ActivitySample { at: Timestamp(at), sessions: 1, active: Vec::new() }
    }

    fn statements(at: i64, text: &str) -> QueuedWrite {
        let key = StatementKey { database_oid: 1, account_oid: 1, query_id: at, top_level: true };
        let text = StatementText { key, text: text.into(), account: String::new(), database: String::new() };
        let snapshot: Snapshot<StatementKey, StatementCounters> =
            Snapshot::new(Timestamp(at), Timestamp(0), Vec::new());
        QueuedWrite::Counters(CountersReading { counters: snapshot.into(), texts: vec![text] }, Duration::ZERO)
    }

    #[test]
    fn looks_wait_until_they_are_due_and_come_together() {
        let queue = WriteQueue::new(Memory::new(1 << 20, OwnMetrics::new()));
        queue.push_sample(sample(1));
        queue.push_sample(sample(2));
        assert!(queue.try_next(false).is_none());
        let held = queue.try_next(true).unwrap();
        assert!(matches!(&held.queued, QueuedWrite::Activity(samples) if samples.len() == 2));
        assert!(queue.memory.used_bytes() > 0, "what is in somebody's hand counts");
        drop(held);
        assert_eq!(queue.memory.used_bytes(), 0);
    }

    #[test]
    fn the_oldest_goes_first_when_memory_is_short_and_is_counted() {
        let queue = WriteQueue::new(Memory::new(3 * sample_bytes(&sample(0)), OwnMetrics::new()));
        (0..10).for_each(|at| queue.push_sample(sample(at)));
        assert_eq!(queue.take_tallies(), [(Figures::Activity, Tally { dropped: 7, ..Default::default() })]);
        let held = queue.try_next(true).unwrap();
        let QueuedWrite::Activity(samples) = &held.queued else { panic!("{held:?}") };
        assert_eq!(samples.iter().map(|sample| sample.at.0).collect::<Vec<_>>(), [7, 8, 9]);
        assert_eq!(queue.take_tallies(), []);
    }

    #[test]
    fn texts_outlive_the_counters_they_came_with() {
        let queue = WriteQueue::new(Memory::new(1, OwnMetrics::new()));
        queue.push(statements(1, "select one"));
        queue.push(statements(2, "select two"));
        let held = queue.try_next(false).unwrap();
        let QueuedWrite::Counters(reading, _) = &held.queued else { panic!("{held:?}") };
        let texts: Vec<&str> = reading.texts.iter().map(|text| text.text.as_str()).collect();
        assert_eq!((reading.counters.at(), texts), (Timestamp(2), vec!["select two", "select one"]));
    }
}
