use std::collections::HashMap;

use hurnix_core::Window;
use hurnix_core::findings::index_review::Counted;
use hurnix_core::findings::index_watch::{IndexUse, USUAL_CYCLE_DAYS};
use hurnix_core::keeping::detail::Detail;
use hurnix_core::keeping::retention::RetentionGroup;
use hurnix_core::readings::counters::{IndexCounters, TableCounters};
use hurnix_core::readings::metric::Metric;
use hurnix_core::time::SECONDS_PER_DAY;
use hurnix_store::{Instance, Kind, Pieces, Result};

use crate::family::family_of;
use crate::newest::newest;
use crate::state::{Collected, now};

/// How long indexes were watched, on the instance and on every server that has the same ones: a primary and its
/// replicas share one number, and the numbers of their indexes.
pub async fn index_use(app: &Collected, instance: &Instance) -> Result<IndexUse> {
    use_on(app, &with_same_data(app, instance).await?).await
}

/// An instance, and the watched ones that have the same indexes.
async fn with_same_data(app: &Collected, instance: &Instance) -> Result<Vec<Instance>> {
    let mut all = family_of(app, instance).await?;
    all.retain(|other| other.database_name == instance.database_name);
    all.insert(0, instance.clone());
    Ok(all)
}

/// How long indexes were watched on instances with the same ones, as the first of them has it.
async fn use_on(app: &Collected, family: &[Instance]) -> Result<IndexUse> {
    let store = &app.store;
    let [instance, others @ ..] = family else { return Ok(IndexUse::default()) };
    let mut index_use = IndexUse {
        cycle_days: instance.settings.cycle_days.or(USUAL_CYCLE_DAYS),
        here: store.index_watch(instance.instance_id).await?,
        ..IndexUse::default()
    };
    for other in others {
        index_use.elsewhere.push(store.index_watch(other.instance_id).await?);
    }
    let (mut primaries, mut replicas, mut connected) = (0, 0, 0.0);
    for one in family {
        let measured = newest(app, one).await?;
        let of =
            |metric: Metric| measured.iter().find(|measured| measured.metric == metric).map(|measured| measured.value);
        if of(Metric::Recovering) == Some(1.0) {
            replicas += 1;
        } else {
            primaries += 1;
        }
        connected += of(Metric::ReplicasConnected).unwrap_or_default();
    }
    index_use.unwatched = IndexUse::count_unwatched(primaries, replicas, connected as usize);
    Ok(index_use)
}

/// What tables and indexes of the database connected to did within a cycle of the business, on every watched server that
/// has the same ones together.
pub struct UseOfIndexes {
    /// Seconds that were counted.
    pub seconds: f64,
    tables: HashMap<u32, TableCounters>,
    index_reads: HashMap<u32, i64>,
    /// How long each index was watched.
    pub watched: IndexUse,
    /// Whether the instance is a replica.
    pub is_replica: bool,
}

impl UseOfIndexes {
    /// Of an instance, up to now.
    pub async fn of(app: &Collected, instance: &Instance) -> Result<UseOfIndexes> {
        let family = with_same_data(app, instance).await?;
        let watched = use_on(app, &family).await?;
        let to = now();
        let window = Window { from: to.plus_seconds(-f64::from(watched.cycle_days) * SECONDS_PER_DAY), to };
        let (mut seconds, mut tables, mut index_reads) = (0.0, HashMap::new(), HashMap::new());
        for one in &family {
            let groups = &[RetentionGroup::Tables];
            let pieces = app.store.pieces(one.instance_id, groups, window, Detail::for_sums(window), to).await?;
            let counted = add_sums(app, one, &pieces, &mut tables).await?;
            if one.instance_id == instance.instance_id {
                seconds = counted;
            }
            let mut indexes: HashMap<u32, IndexCounters> = HashMap::new();
            add_sums(app, one, &pieces, &mut indexes).await?;
            for (oid, counters) in indexes {
                *index_reads.entry(oid).or_default() += counters.reads;
            }
        }
        let is_replica = app.store.is_replica(instance.instance_id, to).await?.unwrap_or(false);
        Ok(UseOfIndexes { seconds, tables, index_reads, watched, is_replica })
    }

    /// It for the rules.
    pub fn counted(&self) -> Counted<'_> {
        Counted {
            seconds: self.seconds,
            tables: &self.tables,
            index_reads: &self.index_reads,
            watched: &self.watched,
            is_replica: self.is_replica,
        }
    }
}

/// Adds what objects of an instance did; answers with the seconds that were counted.
async fn add_sums<C: Kind<Object = u32>>(
    app: &Collected,
    instance: &Instance,
    pieces: &Pieces,
    sums: &mut HashMap<u32, C>,
) -> Result<f64> {
    let (of_one, seconds) = app.store.object_sums::<C>(instance.instance_id, pieces).await?;
    for (oid, counters) in of_one {
        let sum = sums.entry(oid).or_default();
        *sum = sum.plus(&counters);
    }
    Ok(seconds)
}
