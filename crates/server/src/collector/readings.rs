use std::collections::HashMap;
use std::time::Duration;

use async_trait::async_trait;
use hurnix_core::Named;
use hurnix_core::instance::marker::{Marker, MarkerKind};
use hurnix_core::readings::counters_read::CountersRead;
use hurnix_core::readings::difference::Snapshot;
use hurnix_core::readings::figures::Figures;
use hurnix_store::{Kind, LastRead, Period, Result, Store, StoreProblem, WrittenSnapshot};
use serde::Serialize;
use serde::de::DeserializeOwned;

use super::step::{Step, by_object};
use super::words::{Keyed, Words};

/// Readings of every kind of counters on one instance.
pub struct AllReadings(HashMap<Figures, Box<dyn Chain>>);

impl AllReadings {
    /// None yet in this run of the program; `longest_seconds` is the longest period of a kind that has figures.
    pub fn new(longest_seconds: impl Fn(Figures) -> f64) -> AllReadings {
        let mut chains: HashMap<Figures, Box<dyn Chain>> = HashMap::new();
        macro_rules! chains {
            ($($kind:ident $stem:literal $object:literal $key:ty, $counters:ty;)+) => {$(
                let readings: Readings<$counters> = Readings::new(longest_seconds(Figures::$kind));
                chains.insert(Figures::$kind, Box::new(readings));
            )+};
        }
        hurnix_core::all_counters!(chains);
        AllReadings(chains)
    }

    /// Writes a reading with the period that it ends; answers with what it shows to have happened.
    pub async fn write(
        &mut self,
        store: &Store,
        instance_id: i32,
        words: &mut Words,
        read: &CountersRead,
        took: Duration,
    ) -> Result<Vec<Marker>> {
        match self.0.get_mut(&read.figures()) {
            Some(chain) => chain.write(store, instance_id, words, read, took).await,
            None => Ok(Vec::new()),
        }
    }

    /// The last reading of a kind, which may have been made by an earlier run of the program.
    pub async fn last<C: Kind>(&mut self, store: &Store, instance_id: i32) -> Result<Option<Snapshot<C::Key, C>>> {
        let Some(chain) = self.0.get_mut(&C::FIGURES) else { return Ok(None) };
        Ok(chain.last(store, instance_id).await?.and_then(C::of))
    }
}

/// Readings of one kind of counters, whichever it is.
#[async_trait]
trait Chain: Send + Sync {
    async fn write(
        &mut self,
        store: &Store,
        instance_id: i32,
        words: &mut Words,
        read: &CountersRead,
        took: Duration,
    ) -> Result<Vec<Marker>>;

    async fn last(&mut self, store: &Store, instance_id: i32) -> Result<Option<CountersRead>>;
}

/// Readings of one kind of counters on one instance: the last one, from which the next difference starts.
struct Readings<C: Kind> {
    /// Longest period that has figures.
    longest_seconds: f64,
    last: Option<Snapshot<C::Key, C>>,
    resumed: bool,
    /// Why the reading of an earlier run could not be read back.
    unreadable: Option<String>,
}

impl<C: Kind + DeserializeOwned> Readings<C>
where
    C::Key: DeserializeOwned,
{
    fn new(longest_seconds: f64) -> Self {
        Readings { longest_seconds, last: None, resumed: false, unreadable: None }
    }

    async fn resume(&mut self, store: &Store, instance_id: i32) -> Result<()> {
        if self.resumed {
            return Ok(());
        }
        match store.last_read::<C, _>(instance_id).await? {
            LastRead::Nothing => {}
            LastRead::Snapshot(last) => self.last = Some(last),
            LastRead::Unreadable(reason) => {
                let figures = C::FIGURES.name();
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
}

#[async_trait]
impl<C> Chain for Readings<C>
where
    C: Kind + Serialize + DeserializeOwned,
    C::Key: Keyed<Object = C::Object> + Serialize + DeserializeOwned,
    Snapshot<C::Key, C>: Into<CountersRead>,
{
    /// When writing fails, the last reading stays what it was; when another process was faster, it is that one's.
    async fn write(
        &mut self,
        store: &Store,
        instance_id: i32,
        words: &mut Words,
        read: &CountersRead,
        took: Duration,
    ) -> Result<Vec<Marker>> {
        let Some(snapshot) = C::of_ref(read) else { return Ok(Vec::new()) };
        words.learn_keys(store, instance_id, snapshot.rows.iter().map(|(key, _)| key), snapshot.at).await?;
        self.resume(store, instance_id).await?;
        let step = Step::new(self.last.as_ref(), snapshot, self.longest_seconds);
        let (rows, reason);
        let period = match &step.outcome {
            Some(Ok(difference)) => {
                rows = by_object(words, difference);
                Ok(Period { from: difference.from, rows: &rows })
            }
            Some(Err(none)) => {
                reason = none.to_string();
                Err(reason.as_str())
            }
            None if self.unreadable.is_some() => Err("the reading before cannot be read back"),
            None => Err("first reading"),
        };
        let written = WrittenSnapshot {
            taken_at: snapshot.at,
            read_ms: took.as_secs_f32() * 1e3,
            server_started_at: snapshot.server_started_at,
            reset_at: snapshot.reset_at,
            period,
            as_read: &step.followed,
        };
        if let Err(problem) = store.write_snapshot(instance_id, &written).await {
            self.resumed &= !matches!(problem, StoreProblem::Overtaken);
            return Err(problem);
        }
        words.note_floods(store, instance_id, snapshot.rows.iter().map(|(key, _)| key), snapshot.at).await?;
        let mut markers = step.markers();
        if let Some(reason) = self.unreadable.take() {
            let text = format!("Hurnix began to count {} anew: {reason}", C::FIGURES.name());
            markers.push(Marker { at: snapshot.at, kind: MarkerKind::Reset, text });
        }
        self.last = Some(step.followed);
        Ok(markers)
    }

    async fn last(&mut self, store: &Store, instance_id: i32) -> Result<Option<CountersRead>> {
        self.resume(store, instance_id).await?;
        Ok(self.last.clone().map(Into::into))
    }
}
