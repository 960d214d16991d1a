use std::collections::HashMap;
use std::hash::Hash;
use std::time::Duration;

use hurnix_core::counters::{Counters, StatementCounters};
use hurnix_core::difference::{Difference, NoDifference, Snapshot, between, followed};
use hurnix_core::marker::{Marker, MarkerKind};
use hurnix_core::statement::StatementKey;
use hurnix_store::{Kind, LastRead, Period, PeriodRow, Result, StatementObject, Store, StoreProblem, WrittenSnapshot};
use serde::Serialize;
use serde::de::DeserializeOwned;

use super::words::Words;

/// Readings of one kind of counters on one instance: the last one, from which the next difference starts.
pub struct Readings<K, C> {
    /// Longest period that has figures.
    longest_seconds: f64,
    last: Option<Snapshot<K, C>>,
    resumed: bool,
    /// Why the reading of an earlier run could not be read back.
    unreadable: Option<String>,
}

impl<K, C> Readings<K, C>
where
    K: Eq + Hash + Clone + Serialize + DeserializeOwned,
    C: Kind + Serialize + DeserializeOwned,
{
    /// None yet in this run of the program.
    pub fn new(longest_seconds: f64) -> Self {
        Readings { longest_seconds, last: None, resumed: false, unreadable: None }
    }

    /// The last reading, which may have been made by an earlier run of the program.
    pub async fn last(&mut self, store: &Store, instance_id: i32) -> Result<Option<&Snapshot<K, C>>> {
        self.resume(store, instance_id).await?;
        Ok(self.last.as_ref())
    }

    async fn resume(&mut self, store: &Store, instance_id: i32) -> Result<()> {
        if self.resumed {
            return Ok(());
        }
        match store.last_read::<C, _>(instance_id).await? {
            LastRead::Nothing => {}
            LastRead::Snapshot(last) => self.last = Some(last),
            LastRead::Unreadable(reason) => {
                let figures = C::NAME;
                tracing::warn!(
                    instance_id,
                    figures,
                    reason,
                    "the newest reading cannot be read back: differences begin anew"
                );
                self.unreadable = Some(reason);
            }
        }
        self.resumed = true;
        Ok(())
    }

    /// The difference to the last reading, which may have been made by an earlier run of the program.
    /// Nothing on the very first reading.
    async fn difference(
        &mut self,
        store: &Store,
        instance_id: i32,
        snapshot: &Snapshot<K, C>,
    ) -> Result<Option<std::result::Result<Difference<K, C>, NoDifference>>> {
        self.resume(store, instance_id).await?;
        Ok(self.last.as_ref().map(|last| between(last, snapshot, self.longest_seconds)))
    }

    /// Writes a snapshot with the period that it ends. When writing fails, the last reading stays what
    /// it was; when another process was faster, it is that one's. Answers with what the reading shows to
    /// have happened.
    async fn write_as(
        &mut self,
        store: &Store,
        instance_id: i32,
        snapshot: &Snapshot<K, C>,
        took: Duration,
        rows_of: impl FnOnce(&Difference<K, C>) -> Vec<PeriodRow<C::Object, C>>,
    ) -> Result<Vec<Marker>> {
        let difference = self.difference(store, instance_id, snapshot).await?;
        let reason;
        let rows;
        let period = match &difference {
            Some(Ok(difference)) => {
                rows = rows_of(difference);
                Ok(Period { from: difference.from, rows: &rows })
            }
            Some(Err(none)) => {
                reason = none.to_string();
                Err(reason.as_str())
            }
            None => {
                Err(if self.unreadable.is_some() { "the reading before cannot be read back" } else { "first reading" })
            }
        };
        let followed = match self.last.as_ref() {
            Some(last) => followed(last, snapshot.clone()),
            None => snapshot.clone(),
        };
        let written = WrittenSnapshot {
            taken_at: snapshot.at,
            read_ms: took.as_secs_f32() * 1e3,
            server_started_at: snapshot.server_started_at,
            reset_at: snapshot.reset_at,
            period,
            as_read: &followed,
        };
        if let Err(problem) = store.write_snapshot(instance_id, &written).await {
            self.resumed &= !matches!(problem, StoreProblem::Overtaken);
            return Err(problem);
        }
        let mut markers = match &difference {
            Some(Err(none)) => markers(snapshot, none),
            _ => Vec::new(),
        };
        if let Some(reason) = self.unreadable.take() {
            let text = format!("Hurnix began to count {} anew: {reason}", C::NAME);
            markers.push(Marker { at: snapshot.at, kind: MarkerKind::Reset, text });
        }
        self.last = Some(followed);
        Ok(markers)
    }
}

impl<C> Readings<u32, C>
where
    C: Kind<Object = u32> + Serialize + DeserializeOwned,
{
    /// Writes counters of objects that go by the server's own numbers.
    pub async fn write(
        &mut self,
        store: &Store,
        instance_id: i32,
        snapshot: &Snapshot<u32, C>,
        took: Duration,
    ) -> Result<Vec<Marker>> {
        self.write_as(store, instance_id, snapshot, took, by_number).await
    }
}

impl Readings<StatementKey, StatementCounters> {
    /// Writes statement counters, summed by family, account and database.
    pub async fn write_statements(
        &mut self,
        store: &Store,
        instance_id: i32,
        words: &Words,
        snapshot: &Snapshot<StatementKey, StatementCounters>,
        took: Duration,
    ) -> Result<Vec<Marker>> {
        let rows_of = |difference: &Difference<StatementKey, StatementCounters>| by_family(words, difference);
        self.write_as(store, instance_id, snapshot, took, rows_of).await
    }
}

/// What statements did, summed by family, account and database.
pub fn by_family(
    words: &Words,
    difference: &Difference<StatementKey, StatementCounters>,
) -> Vec<PeriodRow<StatementObject, StatementCounters>> {
    let mut sums: HashMap<StatementObject, (StatementCounters, bool)> = HashMap::new();
    // What a function ran is in the figures of the statement that called it.
    for row in difference.rows.iter().filter(|row| row.key.top_level) {
        if let Some(object) = words.statement(&row.key) {
            let (sum, lower_bound) = sums.entry(object).or_default();
            *sum = sum.plus(&row.by);
            *lower_bound |= row.lower_bound;
        }
    }
    sums.into_iter().map(|(object, (by, lower_bound))| PeriodRow { object, by, lower_bound }).collect()
}

/// What objects did that go by the server's own numbers.
pub fn by_number<C: Copy>(difference: &Difference<u32, C>) -> Vec<PeriodRow<u32, C>> {
    let rows = difference.rows.iter();
    rows.map(|row| PeriodRow { object: row.key, by: row.by, lower_bound: row.lower_bound }).collect()
}

/// What it means that there is no difference up to a snapshot.
pub fn markers<K, C: Kind>(snapshot: &Snapshot<K, C>, none: &NoDifference) -> Vec<Marker> {
    match none {
        NoDifference::Restarted => vec![Marker {
            at: snapshot.server_started_at,
            kind: MarkerKind::Restart,
            text: "the server was restarted".into(),
        }],
        NoDifference::Crashed => vec![Marker {
            at: snapshot.crashed_at.unwrap_or(snapshot.at),
            kind: MarkerKind::Crash,
            text: "a process of the server crashed".into(),
        }],
        NoDifference::Reset => vec![Marker {
            at: snapshot.reset_at.unwrap_or(snapshot.at),
            kind: MarkerKind::Reset,
            text: format!("counters of {} were reset", C::NAME),
        }],
        _ => Vec::new(),
    }
}
